//! Operations as they are in the journal: their states, the outcomes of their targets, and how an interrupted one is
//! settled when the service starts again.
//!
//! The journal itself is kept by the store; the runner in the server moves it on.

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use crate::container::{Container, State};
use crate::plan::{After, Kind, ObjectKind, Request, Step};

/// The state of one target.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "lowercase")]
#[derive(strum::EnumString, strum::IntoStaticStr)]
#[strum(serialize_all = "lowercase")]
pub enum TargetState {
    /// Not begun.
    Waiting,
    /// The engine was called.
    Running,
    /// The engine did it.
    Succeeded,
    /// It was already so; the engine did nothing.
    Unchanged,
    /// The engine could not do it.
    Failed,
    /// Gubernum did not ask the engine.
    Refused,
    /// It was called off before it began.
    Cancelled,
    /// The service stopped in the middle and its outcome is unknown.
    Interrupted,
}

impl TargetState {
    /// Whether nothing more will happen.
    pub fn is_final(self) -> bool {
        !matches!(self, Self::Waiting | Self::Running)
    }

    /// Whether what was requested now holds.
    pub fn is_good(self) -> bool {
        matches!(self, Self::Succeeded | Self::Unchanged)
    }

    /// The word used everywhere.
    pub fn word(self) -> &'static str {
        self.into()
    }
}

/// The progress of a long step, such as an image pull by layer.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Progress {
    /// The current step, in a few words.
    pub doing: String,
    /// Bytes done, if reported.
    #[serde(default)]
    pub done: u64,
    /// Total bytes, as far as known; zero when unknown.
    #[serde(default)]
    pub total: u64,
    /// Each layer.
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub layers: Vec<LayerProgress>,
}

/// The progress of one layer.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct LayerProgress {
    /// Its short id.
    pub id: String,
    /// The current step, in the engine's words.
    pub doing: String,
    /// Bytes done.
    pub done: u64,
    /// Total bytes; zero when unknown.
    pub total: u64,
    /// Complete, transferred now or before.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub finished: bool,
}

/// One target of an operation.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Target {
    /// Its host.
    pub host: String,
    /// The engine's id.
    pub id: String,
    /// The name at the time of the request.
    pub name: String,
    /// What it is.
    #[serde(default)]
    pub object: ObjectKind,
    /// What it waits for before it starts.
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub after: Vec<After>,
    /// The steps; none when refused.
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub steps: Vec<Step>,
    /// The current or last step, from 0.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub at: Option<u32>,
    /// The progress of a long step.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub progress: Option<Progress>,
    /// Bytes freed by removing it: the estimate until it ended, then the result.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub bytes: Option<u64>,
    /// The state.
    pub state: TargetState,
    /// The reason in one sentence, such as the engine's error.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub sentence: Option<String>,
    /// When it started.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    #[cfg_attr(feature = "schema", schema(value_type = Option<String>, format = DateTime))]
    pub began: Option<Timestamp>,
    /// When it ended.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    #[cfg_attr(feature = "schema", schema(value_type = Option<String>, format = DateTime))]
    pub ended: Option<Timestamp>,
}

/// The state of an operation.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "lowercase")]
#[derive(strum::IntoStaticStr)]
#[strum(serialize_all = "lowercase")]
pub enum OperationState {
    /// Some target is not over yet.
    Running,
    /// All targets succeeded.
    Succeeded,
    /// Some are, some are not.
    Partly,
    /// None is.
    Failed,
    /// It was called off; none failed.
    Cancelled,
    /// The service stopped in the middle; see the targets.
    Interrupted,
}

impl OperationState {
    /// The word used everywhere.
    pub fn word(self) -> &'static str {
        self.into()
    }
}

/// A change and its outcome.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Operation {
    /// Its number; later ones are higher.
    pub id: u64,
    /// The kind of change and its settings.
    #[serde(flatten)]
    pub request: Request,
    /// The references as given.
    pub references: Vec<String>,
    /// Who asked.
    pub author: String,
    /// The state.
    pub state: OperationState,
    /// Whether it was cancelled.
    #[serde(default)]
    pub cancel_requested: bool,
    /// When it was requested.
    #[cfg_attr(feature = "schema", schema(value_type = String, format = DateTime))]
    pub created: Timestamp,
    /// When the last target ended.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    #[cfg_attr(feature = "schema", schema(value_type = Option<String>, format = DateTime))]
    pub ended: Option<Timestamp>,
    /// The targets and their outcomes.
    pub targets: Vec<Target>,
}

/// The state of the whole from the states of the targets. A stack holds as a whole: what was as it should be already makes one
/// that failed no partial success.
pub fn overall(kind: Kind, targets: &[Target]) -> OperationState {
    if targets.iter().any(|t| !t.state.is_final()) {
        return OperationState::Running;
    }
    let has = |state| targets.iter().any(|t| t.state == state);
    let good = targets.iter().filter(|t| t.state.is_good()).count();
    if good == targets.len() {
        OperationState::Succeeded
    } else if has(TargetState::Interrupted) {
        OperationState::Interrupted
    } else if has(TargetState::Succeeded) || (good > 0 && !kind.is_whole()) {
        OperationState::Partly
    } else if has(TargetState::Failed) || has(TargetState::Refused) {
        OperationState::Failed
    } else {
        OperationState::Cancelled
    }
}

/// Settles a target whose step had been asked of the engine when the service stopped, from what
/// the engine shows now. `container` is `None` when it is not there any more.
pub fn settle(kind: Kind, began: Option<Timestamp>, container: Option<&Container>) -> (TargetState, String) {
    let Some(c) = container else {
        return if kind == Kind::Remove {
            (
                TargetState::Succeeded,
                "the service stopped during the change; the container was removed".to_owned(),
            )
        } else {
            interrupted("the container no longer exists")
        };
    };
    let started_since = match (c.started, began) {
        (Some(started), Some(began)) => started >= began,
        _ => false,
    };
    let done = match kind {
        Kind::Start => c.state == State::Running,
        Kind::Restart => c.state == State::Running && started_since,
        Kind::Stop => !c.state.is_alive(),
        Kind::Kill => !c.state.is_alive() || started_since,
        Kind::Pause => c.state == State::Paused,
        Kind::Resume => c.state == State::Running,
        _ => false,
    };
    if done {
        let sentence = format!("the service stopped during the change; the container is {}", c.state.word());
        (TargetState::Succeeded, sentence)
    } else {
        interrupted(&format!("the container is {} now", c.state.word()))
    }
}

/// What is said of a target that was not begun when the service stopped.
pub fn never_begun() -> (TargetState, String) {
    interrupted("the engine had not received the request")
}

/// What is said of a begun target that is no container: whether the engine did it, the lists show.
pub fn settle_object() -> (TargetState, String) {
    interrupted("the request may have reached the engine")
}

/// What is said of a begun target whose host could not be reached again in time.
pub fn host_unreachable() -> (TargetState, String) {
    interrupted("its host cannot be reached, so its outcome is unknown")
}

fn interrupted(what: &str) -> (TargetState, String) {
    (
        TargetState::Interrupted,
        format!("the service stopped during the change: {what}. Repeat the change if it is still needed"),
    )
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn target(state: TargetState) -> Target {
        Target {
            host: "packhouse".into(),
            id: "ab".into(),
            name: "frost-api".into(),
            object: ObjectKind::Container,
            after: Vec::new(),
            steps: Vec::new(),
            at: None,
            progress: None,
            bytes: None,
            state,
            sentence: None,
            began: None,
            ended: None,
        }
    }

    #[rstest]
    #[case(&[TargetState::Succeeded, TargetState::Unchanged], OperationState::Succeeded)]
    #[case(&[TargetState::Succeeded, TargetState::Failed], OperationState::Partly)]
    #[case(&[TargetState::Failed, TargetState::Refused], OperationState::Failed)]
    #[case(&[TargetState::Cancelled, TargetState::Cancelled], OperationState::Cancelled)]
    #[case(&[TargetState::Succeeded, TargetState::Cancelled], OperationState::Partly)]
    #[case(&[TargetState::Succeeded, TargetState::Waiting], OperationState::Running)]
    #[case(&[TargetState::Interrupted, TargetState::Succeeded], OperationState::Interrupted)]
    fn whole_from_parts(#[case] states: &[TargetState], #[case] whole: OperationState) {
        let targets: Vec<Target> = states.iter().map(|&s| target(s)).collect();
        assert_eq!(overall(Kind::Restart, &targets), whole);
    }

    #[test]
    fn a_stack_that_was_taken_back_failed() {
        let targets = [TargetState::Unchanged, TargetState::Failed, TargetState::Cancelled].map(target);
        assert_eq!(overall(Kind::Apply, &targets), OperationState::Failed);
        assert_eq!(overall(Kind::Restart, &targets), OperationState::Partly);
    }

    fn at(second: i64) -> Timestamp {
        Timestamp::from_second(1_800_000_000 + second).unwrap()
    }

    fn container(state: State, started: i64) -> Container {
        let mut c = Container::blank("packhouse", "frost-api", "ab");
        c.state = state;
        c.started = Some(at(started));
        c
    }

    #[rstest]
    #[case(Kind::Restart, Some(container(State::Running, 20)), TargetState::Succeeded)]
    #[case(Kind::Restart, Some(container(State::Running, 5)), TargetState::Interrupted)]
    #[case(Kind::Restart, Some(container(State::Exited, 20)), TargetState::Interrupted)]
    #[case(Kind::Start, Some(container(State::Running, 5)), TargetState::Succeeded)]
    #[case(Kind::Stop, Some(container(State::Exited, 5)), TargetState::Succeeded)]
    #[case(Kind::Stop, Some(container(State::Running, 5)), TargetState::Interrupted)]
    #[case(Kind::Remove, None, TargetState::Succeeded)]
    #[case(Kind::Remove, Some(container(State::Exited, 5)), TargetState::Interrupted)]
    #[case(Kind::Stop, None, TargetState::Interrupted)]
    #[case(Kind::Kill, Some(container(State::Running, 20)), TargetState::Succeeded)]
    fn settled_from_what_is(#[case] kind: Kind, #[case] c: Option<Container>, #[case] state: TargetState) {
        assert_eq!(settle(kind, Some(at(10)), c.as_ref()).0, state);
    }

    #[rstest]
    #[case(TargetState::Waiting)]
    #[case(TargetState::Interrupted)]
    fn words_are_read_back(#[case] state: TargetState) {
        assert_eq!(state.word().parse(), Ok(state));
    }
}
