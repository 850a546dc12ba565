//! The team at work together.

pub use gubernum_core::freeze::Freeze;
pub use gubernum_core::note::{Note, NotedObject};
use gubernum_core::plan::Kind;
use gubernum_core::rights::Scope;
pub use gubernum_core::snooze::Snooze;
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Holds changes to a part of the fleet.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewFreeze {
    /// The part of the fleet, such as `fleet`, `host:packhouse` or `stack:orchard`.
    #[schema(value_type = String)]
    pub scope: Scope,
    /// Why: others read it when they are held off.
    pub reason: String,
    /// Hours until it ends by itself, at most 2160.
    pub hours: u32,
}

/// Snoozes an attention item for a while, for all members.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewSnooze {
    /// What it is on: `container:packhouse/orchard-web`, `host:packhouse`, `stack:packhouse/orchard`, or `fleet` for the service itself.
    #[schema(value_type = String)]
    pub on: NotedObject,
    /// The code of the reason, as the attention list has it.
    pub code: String,
    /// Why: others read it.
    pub reason: String,
    /// Hours until it is told again, at most 720.
    pub hours: u32,
}

/// Writes a note on an object.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewNote {
    /// What it is on: `fleet`, `host:packhouse`, or `container:packhouse/orchard-web` and the same with `stack`, `image`, `volume` or
    /// `network`.
    #[schema(value_type = String)]
    pub on: NotedObject,
    /// Its text; `@name` mentions a member.
    pub text: String,
    /// Whether it stands in the attention list.
    #[serde(default)]
    pub pinned: bool,
}

/// Changes a note; what is absent stays as it is.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ChangeNote {
    /// Its text.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub text: Option<String>,
    /// Whether it stands in the attention list.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub pinned: Option<bool>,
}

/// Says that mentions were seen.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct SeenMentions {
    /// The numbers of the notes.
    pub notes: Vec<u64>,
}

/// A member who has the console open.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Person {
    /// The member.
    pub member: String,
    /// Since when.
    #[schema(value_type = String, format = DateTime)]
    pub since: Timestamp,
    /// What they look at, as far as the one who asks sees that.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(value_type = Option<String>)]
    pub looking_at: Option<NotedObject>,
}

/// Somebody who waits in line to change something.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Waiting {
    /// The member.
    pub member: String,
    /// What they want to do.
    pub kind: Kind,
    /// To what.
    pub targets: Vec<String>,
    /// Since when they wait.
    #[schema(value_type = String, format = DateTime)]
    pub since: Timestamp,
}

/// Notes on one object, without their texts.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Noted {
    /// The object.
    #[schema(value_type = String)]
    pub on: NotedObject,
    /// How many notes are on it.
    pub notes: u64,
    /// When the newest was written or changed.
    #[schema(value_type = String, format = DateTime)]
    pub changed: Timestamp,
}

/// The team at this moment, as far as the one who asks sees what it is about.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct TeamState {
    /// Who has the console open.
    pub people: Vec<Person>,
    /// Who waits in line.
    pub waiting: Vec<Waiting>,
    /// What is frozen.
    pub freezes: Vec<Freeze>,
    /// Reasons for attention that are set aside.
    pub snoozes: Vec<Snooze>,
    /// Notes that stand in the attention list, the newest first.
    pub pinned: Vec<Note>,
    /// Notes that mention the one who asks and were not seen yet.
    pub mentions: Vec<Note>,
    /// The objects with notes.
    pub noted: Vec<Noted>,
}
