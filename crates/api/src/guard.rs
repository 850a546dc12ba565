//! Least privilege: stepping up, viewing as a role, and approvals by a second member.

use gubernum_core::guard::GuardedChange;
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Confirms the caller's identity for a while: required by some guarded changes, and gives a member who works with
/// fewer rights all of theirs.
#[derive(Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct StepUp {
    /// The password; a code can be used instead.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub password: Option<String>,
    /// A code of the second factor, or a recovery code.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub code: Option<String>,
    /// Minutes, 1 to 60; 15 when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub minutes: Option<u32>,
}

/// The session after stepping up.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct SteppedUp {
    /// When it ends.
    #[schema(value_type = String, format = DateTime)]
    pub until: Timestamp,
}

/// Views everything as a role.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ViewAs {
    /// The role.
    pub role: String,
}

/// A change that waits for a second member's approval, or was decided recently.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Approval {
    /// Its number.
    pub id: u64,
    /// Who asked.
    pub member: String,
    /// Why the change is guarded.
    pub danger: GuardedChange,
    /// The object.
    pub object: String,
    /// What exactly the change does.
    pub detail: String,
    /// When it was requested.
    #[schema(value_type = String, format = DateTime)]
    pub created: Timestamp,
    /// When the approval expires.
    #[schema(value_type = String, format = DateTime)]
    pub expires: Timestamp,
    /// When it was decided.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(value_type = Option<String>, format = DateTime)]
    pub decided: Option<Timestamp>,
    /// Who decided.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub decided_by: Option<String>,
    /// Whether it is approved.
    pub approved: bool,
    /// When the approved change was made.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(value_type = Option<String>, format = DateTime)]
    pub used: Option<Timestamp>,
    /// Whether the caller may decide it.
    pub yours_to_decide: bool,
}

/// Approves or refuses.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct DecideApproval {
    /// `true` approves, `false` refuses.
    pub approve: bool,
}
