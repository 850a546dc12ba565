//! Least rights until they are needed: stepping up, looking through a role, and the word of a second member.

use gubernum_core::guard::Danger;
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Shows once more who one is: dangerous changes may ask for it, and whoever works with lesser rights has all of theirs for a
/// while.
#[derive(Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct StepUp {
    /// The password; a code will do in its place.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub password: Option<String>,
    /// A code of the second factor, or a recovery code.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub code: Option<String>,
    /// For so many minutes, 1 to 60; 15 when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub minutes: Option<u32>,
}

/// How a session stands after that.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct SteppedUp {
    /// Until when it holds.
    #[schema(value_type = String, format = DateTime)]
    pub until: Timestamp,
}

/// Looks at everything through a role.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ViewAs {
    /// The role.
    pub role: String,
}

/// A change that waits for a second member's word, or was decided lately.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Approval {
    /// Its number.
    pub id: u64,
    /// Who asked.
    pub member: String,
    /// What makes it dangerous.
    pub danger: Danger,
    /// On what.
    pub object: String,
    /// Exactly what would be done.
    pub detail: String,
    /// When it was requested.
    #[schema(value_type = String, format = DateTime)]
    pub created: Timestamp,
    /// Until when it can be decided, and made once it is approved.
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
    /// When it was made.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(value_type = Option<String>, format = DateTime)]
    pub used: Option<Timestamp>,
    /// Whether the one who asks may decide it.
    pub yours_to_decide: bool,
}

/// Decides.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct DecideApproval {
    /// Whether it may be made.
    pub approve: bool,
}
