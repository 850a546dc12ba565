//! Logs of many containers on the wire, and log retention rules.

use gubernum_core::logs::level::Level;
pub use gubernum_core::logs::retention::{KeepRule, KeepScope, NewKeepRule};
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::views::Line;

/// A log line and its container.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct SourcedLine {
    /// `host/name` of the container.
    pub source: String,
    /// The line.
    #[serde(flatten)]
    pub line: Line,
    /// The log level, if known.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub level: Option<Level>,
    /// Matches of the patterns, as character ranges.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub matches: Vec<(u32, u32)>,
}

/// A note between log lines.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct LogNote {
    /// The container.
    pub source: String,
    /// One sentence: the host is unreachable, a kept segment is damaged, …
    pub note: String,
}

/// The progress of a search.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct SearchProgress {
    /// Everything up to this time has been searched.
    #[schema(value_type = String, format = DateTime)]
    pub reached: Timestamp,
}

/// A selection of logs and lines.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields, default)]
pub struct LogRequest {
    /// References such as `packhouse/frost-api` or `*/frost-*`.
    pub references: Vec<String>,
    /// All containers of this stack.
    pub stack: Option<String>,
    /// All containers with this label, as `name` or `name=value`.
    pub label: Option<String>,
    /// Only the last lines of each container.
    pub tail: Option<u32>,
    /// Only from this time.
    pub since: Option<String>,
    /// Only until this time.
    pub until: Option<String>,
    /// Follow new lines as they come.
    pub follow: bool,
    /// Regular expressions that must all match.
    pub with: Vec<String>,
    /// Regular expressions that must not match.
    pub without: Vec<String>,
    /// The patterns are plain text.
    pub plain: bool,
    /// Ignore case.
    #[serde(alias = "any_case")]
    pub ignore_case: bool,
    /// Minimum level.
    pub level: Option<Level>,
    /// Only standard output or only standard error.
    pub only: Option<OutputStream>,
}

/// An output stream.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum OutputStream {
    /// Standard output.
    Stdout,
    /// Standard error.
    Stderr,
}
