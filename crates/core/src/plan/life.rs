//! Plans for the life of containers that are there: start, stop, restart, kill, pause, resume, remove, and
//! joining networks.

use super::request::{Kind, Request};
use super::{Step, TargetPlan, signal_name};
use crate::container::{Container, State};

/// Plans a request for containers. The request must have passed [`Request::check`].
pub fn plan<'a>(request: &Request, targets: impl IntoIterator<Item = &'a Container>) -> Vec<TargetPlan> {
    targets.into_iter().map(|c| plan_one(request, c)).collect()
}

/// A plan for a container with nothing in it yet.
pub(super) fn blank(c: &Container) -> TargetPlan {
    TargetPlan { host: c.host.clone(), id: c.id.clone(), name: c.name.clone(), ..TargetPlan::default() }
}

fn plan_one(request: &Request, c: &Container) -> TargetPlan {
    let refused = refusal(request, c);
    let mut plan = TargetPlan {
        steps: if refused.is_none() { step(request).into_iter().collect() } else { Vec::new() },
        consequence: consequence(request, c),
        refused,
        ..blank(c)
    };
    let network = request.join.as_ref().map(|j| j.name.as_str()).unwrap_or_default();
    if plan.refused.is_none() && request.kind == Kind::Connect && c.networks.iter().any(|n| n == network) {
        plan.nothing_to_do(format!("No change: connected to {network} already."));
        return plan;
    }
    plan.downtime = downtime(request, c);
    if request.kind == Kind::Remove {
        plan.removes.push(format!("container {}", c.name));
        for m in c.mounts.iter().filter(|m| m.kind == "volume") {
            let what = format!("volume {}", crate::text::shown(&m.source, 24));
            if m.anonymous && request.volumes {
                plan.data_at_risk.push(format!("the anonymous volume at {}", m.target));
                plan.removes.push(what);
            } else {
                plan.keeps.push(what);
            }
        }
    }
    plan.finished()
}

/// Signals after which a program is not expected to go on.
const ENDING: [&str; 5] = ["SIGKILL", "SIGTERM", "SIGINT", "SIGQUIT", "SIGABRT"];

/// The signal that is sent.
fn signal(request: &Request) -> String {
    let named = request.signal.as_deref().and_then(signal_name);
    named.unwrap_or_else(|| "SIGKILL".to_owned())
}

fn downtime(request: &Request, c: &Container) -> Option<String> {
    let alive = c.state.is_alive();
    match request.kind {
        Kind::Stop | Kind::Remove if alive => Some("until it is started again".to_owned()),
        Kind::Kill if alive && ENDING.contains(&signal(request).as_str()) => {
            Some("until it is started again".to_owned())
        }
        Kind::Pause if alive && c.state != State::Paused => Some("until it is resumed".to_owned()),
        Kind::Restart if alive => Some("while it ends and starts".to_owned()),
        _ => None,
    }
}

fn refusal(request: &Request, c: &Container) -> Option<String> {
    if c.is_self && !matches!(request.kind, Kind::Start | Kind::Connect) {
        return Some(format!(
            "this is the container that Gubernum itself runs in, so it does not {} it; use the engine's client for that",
            request.kind
        ));
    }
    if request.kind == Kind::Remove && c.state.is_alive() && !request.force {
        return Some(format!("it is {}; stop it first, or remove it with force", c.state.word()));
    }
    let network = request.join.as_ref().map(|j| j.name.as_str()).unwrap_or_default();
    match request.kind {
        Kind::Connect if network != "host" && c.networks.iter().any(|n| n == "host") => {
            Some("it uses the host's own network and can join no other".to_owned())
        }
        Kind::Disconnect if !c.networks.iter().any(|n| n == network) => {
            Some(format!("it is not in the network `{}`", crate::text::shown(network, 60)))
        }
        _ => None,
    }
}

fn step(request: &Request) -> Option<Step> {
    Some(match request.kind {
        Kind::Start => Step::Start,
        Kind::Stop => Step::Stop { grace_seconds: request.grace_seconds },
        Kind::Restart => Step::Restart { grace_seconds: request.grace_seconds },
        Kind::Kill => Step::Kill { signal: signal(request) },
        Kind::Pause => Step::Pause,
        Kind::Resume => Step::Resume,
        Kind::Remove => Step::Remove { force: request.force, volumes: request.volumes },
        Kind::Connect => Step::Connect { join: request.join.clone()? },
        Kind::Disconnect => Step::Disconnect { network: request.join.clone()?.name, force: request.force },
        _ => return None,
    })
}

fn consequence(request: &Request, c: &Container) -> String {
    let alive = c.state.is_alive();
    let grace = request
        .grace_seconds
        .map_or_else(|| "its own grace period".to_owned(), |s| format!("{s} s of grace"));
    match request.kind {
        Kind::Start if alive => format!("It is {} already; nothing changes.", c.state.word()),
        Kind::Start => "It starts with the settings it was made with.".to_owned(),
        Kind::Stop if !alive => "It does not run; nothing changes.".to_owned(),
        Kind::Stop => format!(
            "It is asked to end and, after {grace}, ended by force; it stays down until it is started."
        ),
        Kind::Restart if !alive => "It does not run; it is started.".to_owned(),
        Kind::Restart => format!("It is down while it ends (at most {grace}) and starts again."),
        Kind::Kill if !alive => "It does not run; the signal cannot be sent.".to_owned(),
        Kind::Kill => {
            let signal = signal(request);
            if signal == "SIGKILL" {
                "It ends at once, without a chance to save anything.".to_owned()
            } else {
                format!("Its main process gets {signal}.")
            }
        }
        Kind::Pause if c.state == State::Paused => "It is paused already; nothing changes.".to_owned(),
        Kind::Pause if !alive => "It does not run; it cannot be paused.".to_owned(),
        Kind::Pause => {
            "Its processes are frozen where they are; connections to it hang until it is resumed.".to_owned()
        }
        Kind::Resume if c.state != State::Paused => {
            format!("It is {}; there is nothing to resume.", c.state.word())
        }
        Kind::Resume => "Its processes go on where they were.".to_owned(),
        Kind::Remove => removal(request, c, alive),
        Kind::Connect => {
            let join = request.join.as_ref();
            let network = join.map(|j| j.name.as_str()).unwrap_or_default();
            let addresses: Vec<&str> =
                join.into_iter().flat_map(|j| [&j.address, &j.ipv6]).flatten().map(String::as_str).collect();
            let mut text = format!("It joins the network {network} without a restart");
            if !addresses.is_empty() {
                text.push_str(&format!(", with the address {}", addresses.join(" and ")));
            }
            if let Some(join) = join.filter(|j| !j.aliases.is_empty()) {
                text.push_str(&format!(", as {}", join.aliases.join(", ")));
            }
            text.push('.');
            text
        }
        Kind::Disconnect => {
            let network = request.join.as_ref().map(|j| j.name.as_str()).unwrap_or_default();
            let left = c.networks.iter().filter(|n| *n != network).count();
            let last = if left == 0 { "; it is in no network then" } else { "" };
            format!("Connections over the network {network} break off{last}.")
        }
        _ => String::new(),
    }
}

fn removal(request: &Request, c: &Container, alive: bool) -> String {
    let mut text = String::from(if alive && request.force {
        "It is ended by force and taken away with all that was written inside it"
    } else {
        "It is taken away with all that was written inside it"
    });
    let anonymous = c.mounts.iter().filter(|m| m.anonymous).count();
    let named = c.mounts.iter().filter(|m| m.kind == "volume" && !m.anonymous).count();
    if anonymous > 0 {
        let volumes = if anonymous == 1 {
            "1 anonymous volume".to_owned()
        } else {
            format!("{anonymous} anonymous volumes")
        };
        text.push_str(&if request.volumes {
            format!("; its {volumes} and the data in it are lost")
        } else {
            format!("; its {volumes} stays behind without an owner")
        });
    }
    if named > 0 {
        text.push_str("; its named volumes stay");
    }
    if matches!(c.state, State::Restarting) {
        text.push_str("; its restarts end");
    }
    text.push('.');
    text
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::container::Mount;
    use proptest::prelude::*;
    use proptest::sample::select;
    use rstest::rstest;

    fn container(state: State) -> Container {
        let mut c = Container::blank("packhouse", "frost-api", "ab");
        c.state = state;
        c
    }

    fn one(request: &Request, c: &Container) -> TargetPlan {
        plan(request, [c]).remove(0)
    }

    #[rstest]
    #[case(State::Running, false, true)]
    #[case(State::Paused, false, true)]
    #[case(State::Restarting, false, true)]
    #[case(State::Running, true, false)]
    #[case(State::Exited, false, false)]
    #[case(State::Created, false, false)]
    #[case(State::Dead, false, false)]
    fn a_running_container_is_removed_only_with_force(
        #[case] state: State,
        #[case] force: bool,
        #[case] refused: bool,
    ) {
        let request = Request { force, ..Request::of(Kind::Remove) };
        let plan = one(&request, &container(state));
        assert_eq!(plan.refused.is_some(), refused);
        assert_eq!(plan.steps.is_empty(), refused);
    }

    #[rstest]
    fn gubernum_guards_itself(#[values(Kind::Stop, Kind::Restart, Kind::Kill, Kind::Remove)] kind: Kind) {
        let mut c = container(State::Exited);
        c.is_self = true;
        assert!(one(&Request::of(kind), &c).refused.is_some());
        assert!(one(&Request::of(Kind::Start), &c).refused.is_none());
    }

    #[rstest]
    #[case(Request { grace_seconds: Some(5), ..Request::of(Kind::Start) }, Some("grace_seconds"))]
    #[case(Request { grace_seconds: Some(5), ..Request::of(Kind::Stop) }, None)]
    #[case(Request { grace_seconds: Some(3601), ..Request::of(Kind::Stop) }, Some("grace_seconds"))]
    #[case(Request { signal: Some("HUP".into()), ..Request::of(Kind::Kill) }, None)]
    #[case(Request { signal: Some("NOPE".into()), ..Request::of(Kind::Kill) }, Some("signal"))]
    #[case(Request { signal: Some("HUP".into()), ..Request::of(Kind::Stop) }, Some("signal"))]
    #[case(Request { force: true, ..Request::of(Kind::Stop) }, Some("force"))]
    #[case(Request { volumes: true, ..Request::of(Kind::Kill) }, Some("volumes"))]
    fn settings_must_fit_the_kind(#[case] request: Request, #[case] field: Option<&str>) {
        assert_eq!(request.check().err().map(|e| e.field), field);
    }

    #[rstest]
    #[case("hup", Some("SIGHUP"))]
    #[case("SIGTERM", Some("SIGTERM"))]
    #[case("9", Some("SIGKILL"))]
    #[case("40", Some("40"))]
    #[case("0", None)]
    #[case("65", None)]
    #[case("", None)]
    #[case("SIG", None)]
    fn signals(#[case] text: &str, #[case] name: Option<&str>) {
        assert_eq!(signal_name(text).as_deref(), name);
    }

    #[test]
    fn removal_says_what_becomes_of_volumes() {
        let mut c = container(State::Exited);
        c.mounts = vec![Mount {
            kind: "volume".into(),
            source: "ab".into(),
            target: "/d".into(),
            read_only: false,
            anonymous: true,
        }];
        let kept = one(&Request::of(Kind::Remove), &c).consequence;
        let lost = one(&Request { volumes: true, ..Request::of(Kind::Remove) }, &c).consequence;
        assert!(kept.contains("stays behind") && lost.contains("are lost"), "{kept} {lost}");
    }
    #[rstest]
    #[case::at_once(None, true)]
    #[case::asked("TERM", true)]
    #[case::reload("HUP", false)]
    #[case::own("USR1", false)]
    #[case::number("15", true)]
    fn only_what_ends_it_takes_it_down(#[case] signal: impl Into<Option<&'static str>>, #[case] down: bool) {
        let signal = signal.into().map(str::to_owned);
        let plan = one(&Request { signal, ..Request::of(Kind::Kill) }, &container(State::Running));
        assert_eq!(plan.downtime.is_some(), down, "{plan:?}");
    }

    fn joined(network: &str) -> crate::definition::JoinedNetwork {
        crate::definition::JoinedNetwork {
            name: network.into(),
            aliases: vec!["frost".into()],
            address: None,
            ipv6: None,
        }
    }

    #[rstest]
    #[case::new(Kind::Connect, &["orchard"], "cellar", None)]
    #[case::twice(Kind::Connect, &["orchard"], "orchard", Some("already"))]
    #[case::of_the_host(Kind::Connect, &["host"], "orchard", Some("can join no other"))]
    #[case::out(Kind::Disconnect, &["orchard"], "orchard", None)]
    #[case::not_in(Kind::Disconnect, &["orchard"], "cellar", Some("is not in"))]
    fn networks_are_joined_once_and_left_once(
        #[case] kind: Kind,
        #[case] networks: &[&str],
        #[case] network: &str,
        #[case] refused: Option<&str>,
    ) {
        let mut c = container(State::Running);
        c.networks = networks.iter().map(|n| (*n).to_owned()).collect();
        let plan = one(&Request { join: Some(joined(network)), ..Request::of(kind) }, &c);
        let why = plan.refused.as_ref().or(plan.unchanged.as_ref());
        assert_eq!(why.is_some(), refused.is_some(), "{plan:?}");
        assert!(refused.is_none_or(|words| why.unwrap().contains(words)), "{plan:?}");
        let last = kind == Kind::Disconnect && refused.is_none();
        assert_eq!(plan.consequence.contains("in no network then"), last, "{plan:?}");
    }

    proptest! {
        #[test]
        fn every_plan_says_what_it_comes_to(
            kind in select(Kind::ALL.into_iter().filter(|k| step(&of(*k)).is_some()).collect::<Vec<_>>()),
            state in select(vec![State::Created, State::Running, State::Paused, State::Restarting, State::Exited, State::Dead]),
            (is_self, force, volumes, anonymous) in any::<(bool, bool, bool, bool)>(),
        ) {
            let mut c = container(state);
            c.is_self = is_self;
            c.networks = vec!["cellar".into()];
            c.mounts = vec![Mount { kind: "volume".into(), source: "ab".into(), target: "/d".into(), read_only: false, anonymous }];
            let request = Request { force, volumes, ..of(kind) };
            let plan = one(&request, &c);
            prop_assert!(!plan.consequence.is_empty());
            prop_assert_eq!(plan.refused.is_some(), plan.steps.is_empty());
            prop_assert_eq!(plan.course.len(), plan.steps.len());
            // The service does not end itself.
            let harmless = matches!(kind, Kind::Start | Kind::Connect);
            prop_assert!(!is_self || harmless || plan.refused.is_some());
            // What does not run cannot go down, and what is lost is named before.
            prop_assert!(plan.downtime.is_none() || state.is_alive());
            prop_assert_eq!(!plan.data_at_risk.is_empty(), kind == Kind::Remove && volumes && anonymous);
            prop_assert_eq!(!plan.keeps.is_empty(), kind == Kind::Remove && !(volumes && anonymous));
        }
    }

    fn of(kind: Kind) -> Request {
        let join = matches!(kind, Kind::Connect | Kind::Disconnect);
        Request { join: join.then(|| joined("orchard")), ..Request::of(kind) }
    }
}
