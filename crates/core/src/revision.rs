//! Revision revisions of a container, available for rollback.

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
    /// What was changed then.
    pub summary: String,
    /// The operation that replaced it.
    pub operation: u64,
    /// Who asked for that.
    pub member: String,
    /// When.
    #[cfg_attr(feature = "schema", schema(value_type = String, format = DateTime))]
    pub created: Timestamp,
}
