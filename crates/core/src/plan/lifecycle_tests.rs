//! What is planned for containers that are there, and that a plan says what it comes to.

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

fn remove(force: bool, volumes: bool, c: &Container) -> TargetPlan {
    plan_remove(&RemoveRequest { force, volumes }, c)
}

/// A plan of this kind with nothing more said.
fn plain(kind: Kind, c: &Container) -> Option<TargetPlan> {
    Some(match kind {
        Kind::Start => plan_start(&StartRequest::default(), c),
        Kind::Stop => plan_stop(&StopRequest::default(), c),
        Kind::Restart => plan_restart(&RestartRequest::default(), c),
        Kind::Kill => plan_kill(&KillRequest::default(), c),
        Kind::Pause => plan_pause(c),
        Kind::Resume => plan_resume(c),
        Kind::Remove => plan_remove(&RemoveRequest::default(), c),
        Kind::Connect => plan_connect(&ConnectRequest { join: joined("orchard") }, c),
        Kind::Disconnect => plan_disconnect(&DisconnectRequest { join: joined("orchard"), force: false }, c),
        _ => return None,
    })
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
    let plan = remove(force, false, &container(state));
    assert_eq!(plan.refused.is_some(), refused);
    assert_eq!(plan.steps.is_empty(), refused);
}

#[rstest]
fn gubernum_guards_itself(#[values(Kind::Stop, Kind::Restart, Kind::Kill, Kind::Remove)] kind: Kind) {
    let mut c = container(State::Exited);
    c.is_self = true;
    assert!(plain(kind, &c).unwrap().refused.is_some());
    assert!(plain(Kind::Start, &c).unwrap().refused.is_none());
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
    let kept = remove(false, false, &c).consequence;
    let lost = remove(false, true, &c).consequence;
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
    let plan = plan_kill(&KillRequest { signal }, &container(State::Running));
    assert_eq!(plan.downtime.is_some(), down, "{plan:?}");
}

fn joined(network: &str) -> crate::definition::NetworkConnection {
    crate::definition::NetworkConnection {
        name: network.into(),
        aliases: vec!["frost".into()],
        ..crate::definition::NetworkConnection::default()
    }
}

#[rstest]
#[case::new(Kind::Connect, &["orchard"], "cellar", None)]
#[case::twice(Kind::Connect, &["orchard"], "orchard", Some("already"))]
#[case::of_the_host(Kind::Connect, &["host"], "orchard", Some("cannot join another"))]
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
    let join = joined(network);
    let plan = match kind {
        Kind::Connect => plan_connect(&ConnectRequest { join }, &c),
        _ => plan_disconnect(&DisconnectRequest { join, force: false }, &c),
    };
    let why = plan.refused.as_ref().or(plan.unchanged.as_ref());
    assert_eq!(why.is_some(), refused.is_some(), "{plan:?}");
    assert!(refused.is_none_or(|words| why.unwrap().contains(words)), "{plan:?}");
    let last = kind == Kind::Disconnect && refused.is_none();
    assert_eq!(plan.consequence.contains("then in no network"), last, "{plan:?}");
}

proptest! {
    #[test]
    fn every_plan_says_what_it_comes_to(
        kind in select(Kind::ALL.iter().copied().filter(|k| plain(*k, &container(State::Running)).is_some()).collect::<Vec<_>>()),
        state in select(vec![State::Created, State::Running, State::Paused, State::Restarting, State::Exited, State::Dead]),
        (is_self, force, volumes, anonymous) in any::<(bool, bool, bool, bool)>(),
    ) {
        let mut c = container(state);
        c.is_self = is_self;
        c.networks = vec!["cellar".into()];
        c.mounts = vec![Mount { kind: "volume".into(), source: "ab".into(), target: "/d".into(), read_only: false, anonymous }];
        let plan = match kind {
            Kind::Remove => remove(force, volumes, &c),
            kind => plain(kind, &c).unwrap(),
        };
        prop_assert!(!plan.consequence.is_empty());
        prop_assert_eq!(plan.refused.is_some(), plan.steps.is_empty());
        prop_assert_eq!(plan.steps_in_words.len(), plan.steps.len());
        // The service does not end itself.
        let harmless = matches!(kind, Kind::Start | Kind::Connect);
        prop_assert!(!is_self || harmless || plan.refused.is_some());
        // What does not run cannot go down, and what is lost is named before.
        prop_assert!(plan.downtime.is_none() || state.is_alive());
        prop_assert_eq!(!plan.data_at_risk.is_empty(), kind == Kind::Remove && volumes && anonymous);
        prop_assert_eq!(!plan.keeps.is_empty(), kind == Kind::Remove && !(volumes && anonymous));
    }
}

#[test]
fn one_after_another_waits_for_health() {
    let c = container(State::Running);
    let rolling = Some(Rolling { at_once: 1, keep_going: false });
    let plan = plan_restart(&RestartRequest { rolling, ..RestartRequest::default() }, &c);
    assert!(matches!(plan.steps[..], [Step::Restart { .. }, Step::Watch { .. }]), "{plan:?}");
    assert_eq!(plan.steps_in_words.len(), 2);
    assert_eq!(plain(Kind::Restart, &c).unwrap().steps.len(), 1);
}
