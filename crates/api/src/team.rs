//! The team at work together.

pub use gubernum_core::freeze::Freeze;
use gubernum_core::rights::Scope;
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
