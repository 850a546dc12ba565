//! The team: presence, freezes, notes and queued operations.

pub use gubernum_core::freeze::Freeze;
pub use gubernum_core::note::{Note, NotedObject};
use gubernum_core::plan::Kind;
use gubernum_core::rights::Scope;
pub use gubernum_core::snooze::Snooze;
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Freezes a part of the fleet.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewFreeze {
    /// The part of the fleet, such as `fleet`, `host:packhouse` or `stack:orchard`.
    #[schema(value_type = String)]
    pub scope: Scope,
    /// Why; shown to members whose changes are blocked.
    pub reason: String,
    /// Hours until it ends automatically, at most 2160.
    pub hours: u32,
}

/// Snoozes an attention item for a while, for all members.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewSnooze {
    /// The object: `container:packhouse/orchard-web`, `host:packhouse`, `stack:packhouse/orchard`, or `fleet` for the
    /// service itself.
    #[schema(value_type = String)]
    pub on: NotedObject,
    /// The code of the reason, from the attention list.
    pub code: String,
    /// Why; shown to all members.
    pub reason: String,
    /// Hours until it ends, at most 720.
    pub hours: u32,
}

/// Writes a note on an object.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewNote {
    /// The object: `fleet`, `host:packhouse`, or `container:packhouse/orchard-web`; likewise with `stack`, `image`,
    /// `volume` or `network`.
    #[schema(value_type = String)]
    pub on: NotedObject,
    /// The text; `@name` mentions a member.
    pub text: String,
    /// Whether the note is pinned to the attention list.
    #[serde(default)]
    pub pinned: bool,
}

/// Changes a note; absent fields stay as they are.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ChangeNote {
    /// The text.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub text: Option<String>,
    /// Whether the note is pinned to the attention list.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub pinned: Option<bool>,
}

/// Marks mentions as seen.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct SeenMentions {
    /// Numbers of the notes.
    pub notes: Vec<u64>,
}

/// A member with the console open.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Person {
    /// The member.
    pub member: String,
    /// Since when.
    #[schema(value_type = String, format = DateTime)]
    pub since: Timestamp,
    /// What they are viewing, if visible to the caller.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(value_type = Option<String>)]
    pub looking_at: Option<NotedObject>,
}

/// A queued operation: it starts once another one has changed the same target.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Waiting {
    /// The member.
    pub member: String,
    /// The kind of change.
    pub kind: Kind,
    /// The targets.
    pub targets: Vec<String>,
    /// Queued since.
    #[schema(value_type = String, format = DateTime)]
    pub since: Timestamp,
}

/// The number of notes on one object.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct NoteCount {
    /// The object.
    #[schema(value_type = String)]
    pub on: NotedObject,
    /// Number of notes.
    pub notes: u64,
    /// When a note was last added or edited.
    #[schema(value_type = String, format = DateTime)]
    pub changed: Timestamp,
}

/// The team's current state, as far as visible to the caller.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct TeamState {
    /// Members with the console open.
    pub people: Vec<Person>,
    /// Queued operations.
    pub waiting: Vec<Waiting>,
    /// Freezes.
    pub freezes: Vec<Freeze>,
    /// Snoozed attention items.
    pub snoozes: Vec<Snooze>,
    /// Notes pinned to the attention list, newest first.
    pub pinned: Vec<Note>,
    /// Notes that mention the caller and were not seen yet.
    pub mentions: Vec<Note>,
    /// Objects with notes.
    pub noted: Vec<NoteCount>,
}
