//! Errors as RFC 9457 problem details.

use gubernum_core::compose::report::FileNote;
use serde::{Deserialize, Serialize};

/// The media type of a problem.
pub const MEDIA_TYPE: &str = "application/problem+json";

/// An error (RFC 9457): `type` for programs, `detail` for people.
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
    /// The invalid part of the request, such as `/targets/0` in the body or `?since`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub field: Option<String>,
    /// For `not-found` and `ambiguous`: matching or similar references.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub candidates: Vec<String>,
    /// For invalid files: every error with its place.
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
