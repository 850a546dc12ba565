//! The timeline: engine events, operations, sign-ins and changes of hosts on one time axis.

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

/// The source of an event.
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
    /// The time.
    #[cfg_attr(feature = "schema", schema(value_type = String, format = DateTime))]
    pub time: Timestamp,
    /// The source.
    pub kind: EventKind,
    /// The host; empty for none.
    pub host: String,
    /// `container`, `image`, `volume`, `network`, `host` or `service`.
    pub object: String,
    /// The object's name.
    pub name: String,
    /// The event: `started`, `exited`, `out of memory`, `sign-in`, `unreachable`, …; for an operation its kind.
    pub action: String,
    /// The member, if one did it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub member: Option<String>,
    /// Details, in one line.
    pub sentence: String,
    /// Whether it is a problem.
    pub bad: bool,
    /// The operation it belongs to.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub operation: Option<u64>,
    /// For an operation: the number of engine events folded under it; `operation=N` lists them.
    #[serde(default, skip_serializing_if = "is_zero")]
    pub folded: u32,
}

/// What an engine's event is called in the timeline: `exited` for `die`, `removed` for `destroy`. A word that is not known here
/// stays as it is, and so does one that was translated before.
///
/// ```
/// use gubernum_core::timeline::event_word;
///
/// assert_eq!(event_word("container", "die"), "exited");
/// assert_eq!(event_word("host", "lost"), "unreachable");
/// assert_eq!(event_word("container", "exited"), "exited");
/// ```
#[must_use]
pub fn event_word<'a>(object: &str, action: &'a str) -> &'a str {
    match (object, action) {
        ("host", "lost") => "unreachable",
        ("host", "live") => "connected",
        (_, "create") => "created",
        (_, "start") => "started",
        (_, "restart") => "restarted",
        (_, "die" | "died") => "exited",
        (_, "stop") => "stopped",
        (_, "kill") => "signal sent",
        (_, "pause") => "paused",
        (_, "unpause") => "resumed",
        (_, "destroy" | "remove" | "delete") => "removed",
        (_, "rename") => "renamed",
        (_, "update") => "limits changed",
        (_, "oom") => "out of memory",
        (_, "health_status") => "health changed",
        (_, "pull") => "pulled",
        (_, "push") => "pushed",
        (_, "tag") => "tagged",
        (_, "untag") => "untagged",
        (_, "import" | "load" | "loadfromarchive") => "imported",
        (_, "export" | "save") => "exported",
        (_, "build") => "built",
        (_, "commit") => "committed",
        (_, "prune") => "pruned",
        (_, "mount") => "mounted",
        (_, "unmount" | "umount") => "unmounted",
        (_, "connect") => "connected",
        (_, "disconnect") => "disconnected",
        (_, other) => other,
    }
}

fn is_zero(count: &u32) -> bool {
    *count == 0
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("container", "die", "exited")]
    #[case("container", "health_status", "health changed")]
    #[case("network", "disconnect", "disconnected")]
    #[case("host", "live", "connected")]
    #[case("volume", "something-new", "something-new")]
    fn an_event_is_reported_in_our_words(#[case] object: &str, #[case] action: &str, #[case] word: &str) {
        assert_eq!(event_word(object, action), word);
        assert_eq!(event_word(object, word), word, "told once is told for good");
    }
}
