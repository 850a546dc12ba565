//! What a requested change would do, target by target, before anything is asked of an engine.
//!
//! Pure: from a request and the fleet's records to steps, consequences and refusals. The runner in
//! the server carries out what stands here and nothing else.

use std::fmt;

use serde::{Deserialize, Serialize};

use crate::container::{Container, State};

/// The longest grace period that may be asked for, in seconds.
pub const MAX_GRACE_SECONDS: u32 = 3600;
/// The grace period engines use when none is given, in seconds.
pub const DEFAULT_GRACE_SECONDS: u32 = 10;

/// The kinds of change.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "lowercase")]
pub enum Kind {
    /// Start what does not run.
    Start,
    /// End the process, first asking, after the grace period by force.
    Stop,
    /// Stop, then start.
    Restart,
    /// Send a signal, SIGKILL unless told otherwise.
    Kill,
    /// Take the container away.
    Remove,
}

impl Kind {
    /// The word used in the API, the client and the audit log.
    pub fn word(self) -> &'static str {
        match self {
            Self::Start => "start",
            Self::Stop => "stop",
            Self::Restart => "restart",
            Self::Kill => "kill",
            Self::Remove => "remove",
        }
    }
}

impl fmt::Display for Kind {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.word())
    }
}

/// A requested change without its targets.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Request {
    /// What to do.
    pub kind: Kind,
    /// For `stop` and `restart`: seconds between asking and forcing. The container's own setting
    /// (usually 10) when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub grace_seconds: Option<u32>,
    /// For `kill`: the signal, e.g. `SIGHUP`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub signal: Option<String>,
    /// For `remove`: end it first if it runs.
    #[serde(default)]
    pub force: bool,
    /// For `remove`: take its anonymous volumes away too.
    #[serde(default)]
    pub volumes: bool,
}

/// A request that makes no sense, with the field at fault.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{sentence}")]
pub struct RequestError {
    /// The field.
    pub field: &'static str,
    /// What is wrong and what to write instead.
    pub sentence: String,
}

impl Request {
    /// A request of this kind with every setting at its default.
    pub fn of(kind: Kind) -> Self {
        Self { kind, grace_seconds: None, signal: None, force: false, volumes: false }
    }

    /// Checks that the settings fit the kind and are within their limits.
    ///
    /// # Errors
    /// The first field at fault.
    pub fn check(&self) -> Result<(), RequestError> {
        let misplaced = |field, fits: &str| {
            let sentence =
                format!("`{field}` does not go with `{}`, only with {fits}; leave it out", self.kind);
            Err(RequestError { field, sentence })
        };
        if let Some(grace) = self.grace_seconds {
            if !matches!(self.kind, Kind::Stop | Kind::Restart) {
                return misplaced("grace_seconds", "`stop` and `restart`");
            }
            if grace > MAX_GRACE_SECONDS {
                let sentence =
                    format!("`grace_seconds` is {grace}, the most is {MAX_GRACE_SECONDS} (an hour)");
                return Err(RequestError { field: "grace_seconds", sentence });
            }
        }
        if let Some(signal) = &self.signal {
            if self.kind != Kind::Kill {
                return misplaced("signal", "`kill`");
            }
            if signal_name(signal).is_none() {
                let sentence = format!(
                    "`{}` is not a signal; write a name such as `SIGHUP` or a number from 1 to 64",
                    crate::text::shown(signal, 40)
                );
                return Err(RequestError { field: "signal", sentence });
            }
        }
        if self.force && self.kind != Kind::Remove {
            return misplaced("force", "`remove`");
        }
        if self.volumes && self.kind != Kind::Remove {
            return misplaced("volumes", "`remove`");
        }
        Ok(())
    }
}

const SIGNALS: &[(&str, u8)] = &[
    ("HUP", 1),
    ("INT", 2),
    ("QUIT", 3),
    ("ILL", 4),
    ("TRAP", 5),
    ("ABRT", 6),
    ("BUS", 7),
    ("FPE", 8),
    ("KILL", 9),
    ("USR1", 10),
    ("SEGV", 11),
    ("USR2", 12),
    ("PIPE", 13),
    ("ALRM", 14),
    ("TERM", 15),
    ("CHLD", 17),
    ("CONT", 18),
    ("STOP", 19),
    ("TSTP", 20),
    ("TTIN", 21),
    ("TTOU", 22),
    ("URG", 23),
    ("XCPU", 24),
    ("XFSZ", 25),
    ("VTALRM", 26),
    ("PROF", 27),
    ("WINCH", 28),
    ("IO", 29),
    ("PWR", 30),
    ("SYS", 31),
];

/// The engine's name for a signal given as `HUP`, `sighup` or `1`; `None` when there is none.
pub fn signal_name(text: &str) -> Option<String> {
    if let Ok(number) = text.parse::<u8>() {
        return (1..=64).contains(&number).then(|| {
            let named = SIGNALS.iter().find(|(_, n)| *n == number);
            named.map_or_else(|| number.to_string(), |(name, _)| format!("SIG{name}"))
        });
    }
    let upper = text.to_ascii_uppercase();
    let bare = upper.strip_prefix("SIG").unwrap_or(&upper);
    SIGNALS.iter().find(|(name, _)| *name == bare).map(|(name, _)| format!("SIG{name}"))
}

/// One call on an engine.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(tag = "step", rename_all = "lowercase")]
pub enum Step {
    /// Start it.
    Start,
    /// Stop it.
    Stop {
        /// Seconds of grace.
        grace_seconds: Option<u32>,
    },
    /// Restart it.
    Restart {
        /// Seconds of grace.
        grace_seconds: Option<u32>,
    },
    /// Signal it.
    Kill {
        /// The signal's name.
        signal: String,
    },
    /// Remove it.
    Remove {
        /// Even while it runs.
        force: bool,
        /// With its anonymous volumes.
        volumes: bool,
    },
}

/// What would happen to one target.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct TargetPlan {
    /// Its host.
    pub host: String,
    /// Its id.
    pub id: String,
    /// Its name.
    pub name: String,
    /// The step that would be taken; absent when it is refused.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub step: Option<Step>,
    /// What that means for those who use it, in one sentence.
    pub consequence: String,
    /// Why it is refused, if it is.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub refused: Option<String>,
}

/// Plans a request for its targets. The request must have passed [`Request::check`].
pub fn plan<'a>(request: &Request, targets: impl IntoIterator<Item = &'a Container>) -> Vec<TargetPlan> {
    targets.into_iter().map(|c| plan_one(request, c)).collect()
}

fn plan_one(request: &Request, c: &Container) -> TargetPlan {
    let refused = refusal(request, c);
    TargetPlan {
        host: c.host.clone(),
        id: c.id.clone(),
        name: c.name.clone(),
        step: refused.is_none().then(|| step(request)),
        consequence: consequence(request, c),
        refused,
    }
}

fn refusal(request: &Request, c: &Container) -> Option<String> {
    if c.is_self && request.kind != Kind::Start {
        return Some(format!(
            "this is the container that Gubernum itself runs in, so it does not {} it; do that with the engine's own tools",
            request.kind
        ));
    }
    if request.kind == Kind::Remove && c.state.is_alive() && !request.force {
        return Some(format!("it is {}; stop it first, or remove it with force", c.state.word()));
    }
    None
}

fn step(request: &Request) -> Step {
    let signal = || {
        let named = request.signal.as_deref().and_then(signal_name);
        named.unwrap_or_else(|| "SIGKILL".to_owned())
    };
    match request.kind {
        Kind::Start => Step::Start,
        Kind::Stop => Step::Stop { grace_seconds: request.grace_seconds },
        Kind::Restart => Step::Restart { grace_seconds: request.grace_seconds },
        Kind::Kill => Step::Kill { signal: signal() },
        Kind::Remove => Step::Remove { force: request.force, volumes: request.volumes },
    }
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
            let signal =
                request.signal.as_deref().and_then(signal_name).unwrap_or_else(|| "SIGKILL".to_owned());
            if signal == "SIGKILL" {
                "It ends at once, without a chance to save anything.".to_owned()
            } else {
                format!("Its main process gets {signal}.")
            }
        }
        Kind::Remove => removal(request, c, alive),
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
        assert_eq!(plan.step.is_none(), refused);
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
}
