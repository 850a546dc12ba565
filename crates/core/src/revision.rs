//! Revisions of containers and of stacks, available for rollback.

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

/// An earlier revision of a container, available for rollback.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Revision {
    /// Its number.
    pub id: u64,
    /// The image's name.
    pub image: String,
    /// The image's id.
    pub image_id: String,
    /// What was changed.
    pub summary: String,
    /// The operation that replaced it.
    pub operation: u64,
    /// Who requested it.
    pub member: String,
    /// When.
    #[cfg_attr(feature = "schema", schema(value_type = String, format = DateTime))]
    pub created: Timestamp,
}

/// A revision of a stack on a host.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct StackRevision {
    /// The revision number, from 1.
    pub number: u64,
    /// The operation that applied it; 0 if it was created from running containers.
    pub operation: u64,
    /// Who requested it.
    pub member: String,
    /// What changed and why, in the member's words.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub comment: Option<String>,
    /// The commit the files are from, for stacks from a repository.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub commit: Option<String>,
    /// When.
    #[cfg_attr(feature = "schema", schema(value_type = String, format = DateTime))]
    pub created: Timestamp,
}
