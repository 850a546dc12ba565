//! Errors as RFC 9457 problem details.

use gubernum_core::compose::report::FileNote;
use serde::{Deserialize, Serialize};

/// The media type of a problem.
pub const MEDIA_TYPE: &str = "application/problem+json";

/// What went wrong, for programs (`type`) and for people (`detail`).
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema, thiserror::Error)]
#[error("{detail}")]
pub struct Problem {
    /// A stable word: `tag:gubernum,2026:` and the kind, e.g. `tag:gubernum,2026:not-found`.
    #[serde(rename = "type")]
    pub kind: String,
    /// The kind in words.
    pub title: String,
    /// The HTTP status.
    pub status: u16,
    /// What failed, why and what to do, in one sentence.
    pub detail: String,
    /// The place in the request that is at fault, e.g. `/targets/0` in the body or `?since`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub field: Option<String>,
    /// For `not-found` and `ambiguous`: references that could have been meant.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub candidates: Vec<String>,
    /// For a text that is refused: every mistake at its place in its file.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub errors: Vec<FileNote>,
}

/// The beginning of every problem's type.
pub const TYPE_PREFIX: &str = "tag:gubernum,2026:";

impl Problem {
    /// A problem of this kind.
    pub fn new(kind: &str, title: &str, status: u16, detail: impl Into<String>) -> Self {
        Self {
            kind: format!("{TYPE_PREFIX}{kind}"),
            title: title.to_owned(),
            status,
            detail: detail.into(),
            field: None,
            candidates: Vec::new(),
            errors: Vec::new(),
        }
    }

    /// The kind without its prefix.
    pub fn word(&self) -> &str {
        self.kind.strip_prefix(TYPE_PREFIX).unwrap_or(&self.kind)
    }
}
