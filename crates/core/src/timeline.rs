//! The timeline: engine events, operations, sign-ins and changes of hosts on one time axis.

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

/// Where an event comes from.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "lowercase")]
#[derive(strum::EnumString, strum::IntoStaticStr)]
#[strum(serialize_all = "lowercase")]
pub enum EventKind {
    /// An engine told it.
    Engine,
    /// Gubernum did it, asked by a member.
    Operation,
    /// Somebody signed in or out, made a token or looked at a secret.
    Access,
    /// A host was added, changed, lost or found again.
    Host,
}

impl EventKind {
    /// The word of the API.
    pub fn word(self) -> &'static str {
        self.into()
    }
}

/// One event.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct TimelineEvent {
    /// Its number.
    pub id: u64,
    /// When.
    #[cfg_attr(feature = "schema", schema(value_type = String, format = DateTime))]
    pub time: Timestamp,
    /// Where it comes from.
    pub kind: EventKind,
    /// The host it concerns; empty when none.
    pub host: String,
    /// `container`, `image`, `volume`, `network`, `host` or `service`.
    pub object: String,
    /// The object's name.
    pub name: String,
    /// What happened, in one word: `start`, `die`, `restart`, `sign-in`, `lost`, …
    pub action: String,
    /// Who did it, if a member did.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub member: Option<String>,
    /// More about it, in one line.
    pub sentence: String,
    /// It is not as it should be.
    pub bad: bool,
    /// The operation that it belongs to.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub operation: Option<u64>,
    /// Of an operation: how many events of its engine are folded under it; `operation=N` lists them.
    #[serde(default, skip_serializing_if = "is_zero")]
    pub folded: u32,
}

fn is_zero(count: &u32) -> bool {
    *count == 0
}
