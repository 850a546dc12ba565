//! Members, roles, invitations and effective rights.

use std::collections::BTreeMap;

use gubernum_core::directory::DirectoryKind;
use gubernum_core::plan::Kind;
pub use gubernum_core::rights::{Bound, EffectiveRight, Grant, Granted, Right, Role};
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A member, as seen by those who manage members.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Member {
    /// Its number.
    pub id: u64,
    /// Its name.
    pub name: String,
    /// Display name; empty when not set.
    pub display_name: String,
    /// When the member was added.
    #[schema(value_type = String, format = DateTime)]
    pub created: Timestamp,
    /// Since when the member is deactivated.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(value_type = Option<String>, format = DateTime)]
    pub deactivated: Option<Timestamp>,
    /// When a session or token was last used, to the minute.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(value_type = Option<String>, format = DateTime)]
    pub last_seen: Option<Timestamp>,
    /// Whether the member signs in with a second factor.
    pub second_factor: bool,
    /// Grants set here.
    pub grants: Vec<Grant>,
    /// The directory the member signs in through; absent for members with a password.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub directory: Option<DirectoryKind>,
    /// Grants from directory groups.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub directory_grants: Vec<Granted>,
}

/// A member with effective rights, sessions and tokens.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct MemberDetail {
    /// The member.
    #[serde(flatten)]
    pub member: Member,
    /// Every right with the grants that give it.
    pub rights: Vec<EffectiveRight>,
    /// Sessions.
    pub sessions: Vec<crate::views::Session>,
    /// API tokens.
    pub tokens: Vec<crate::views::Token>,
}

/// The caller's rights.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct OwnRights {
    /// The member.
    pub member: String,
    /// Display name; empty when not set.
    pub display_name: String,
    /// Every right with the grants that give it.
    pub rights: Vec<EffectiveRight>,
    /// Rights on the whole fleet and the service, restricted by the session or token.
    pub on_fleet: Vec<Right>,
    /// Rights held on at least one object; others are never allowed.
    pub somewhere: Vec<Right>,
    /// Kinds of change allowed on at least one object; others are never allowed.
    pub changes: Vec<Kind>,
    /// Whether the member signs in with a second factor.
    pub second_factor: bool,
    /// Whether a second factor is required but not set up; until then nothing is allowed.
    pub needs_second_factor: bool,
    /// The role the member works with until stepping up.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub works_as: Option<String>,
    /// Until when this session is stepped up.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(value_type = Option<String>, format = DateTime)]
    pub stepped_until: Option<Timestamp>,
    /// The role this session views everything as.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub view_as: Option<String>,
    /// Changes that wait for this member's approval.
    pub to_approve: u32,
}

/// The console's theme.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum Theme {
    /// As the browser wants it.
    #[default]
    Auto,
    /// Dark on light.
    Light,
    /// Light on dark.
    Dark,
}

/// Time format.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub enum ClockStyle {
    /// 15:04.
    #[default]
    #[serde(rename = "24h")]
    TwentyFour,
    /// 3:04 PM.
    #[serde(rename = "12h")]
    Twelve,
}

/// A member's own settings.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields, default)]
pub struct Profile {
    /// Display name, up to 80 characters; empty for the member's name.
    pub display_name: String,
    /// The console's theme.
    pub theme: Theme,
    /// How times of day are written.
    pub clock: ClockStyle,
    /// Time zone, an IANA name; the browser's when absent.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub time_zone: Option<String>,
    /// The console page after sign-in, such as `/containers`.
    pub start_page: String,
    /// Default filters of pages: the query by page path.
    pub filters: BTreeMap<String, String>,
    /// The role to work with until stepping up; all rights when absent.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub works_as: Option<String>,
}

/// Starts setting up a second factor.
#[derive(Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct BeginSecondFactor {
    /// The member's password.
    pub password: String,
}

/// The secret for an authenticator app; shown only once.
#[derive(Clone, Serialize, Deserialize, ToSchema)]
pub struct NewSecondFactor {
    /// The secret, in base32.
    pub secret: String,
    /// The secret as an `otpauth:` URI.
    pub address: String,
}

/// A second factor code.
#[derive(Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct SecondFactorCode {
    /// Six digits, or a recovery code where accepted.
    pub code: String,
}

/// Recovery codes, each valid once; shown only once.
#[derive(Clone, Serialize, Deserialize, ToSchema)]
pub struct RecoveryCodes {
    /// The codes.
    pub codes: Vec<String>,
}

/// Changes a member; absent fields stay as they are.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct SetMember {
    /// The new grants.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub grants: Option<Vec<Grant>>,
    /// Whether the member is deactivated, which ends all sessions.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub deactivated: Option<bool>,
    /// `false` removes the second factor, for a member who has lost it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub second_factor: Option<bool>,
}

/// Invites a member.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewInvitation {
    /// The new member's name.
    pub name: String,
    /// The member's grants.
    pub grants: Vec<Grant>,
    /// Hours until the invitation expires; 72 when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub hours: Option<u32>,
}

/// A pending invitation.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Invitation {
    /// Its number.
    pub id: u64,
    /// The member's name.
    pub name: String,
    /// The member's grants.
    pub grants: Vec<Grant>,
    /// Whether it is a password reset for an existing member.
    pub is_reset: bool,
    /// Who created it.
    pub giver: String,
    /// When it was created.
    #[schema(value_type = String, format = DateTime)]
    pub created: Timestamp,
    /// When it expires.
    #[schema(value_type = String, format = DateTime)]
    pub expires: Timestamp,
}

/// A new invitation. Its secret is shown only here.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct CreatedInvitation {
    /// The invitation.
    #[serde(flatten)]
    pub invitation: Invitation,
    /// The invitation's secret, from its link.
    pub secret: String,
    /// The path of the console page that accepts it, with the secret; valid once.
    pub path: String,
}

/// Checks an invitation.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct CheckInvitation {
    /// The invitation's secret, from its link.
    pub secret: String,
}

/// The invitation, as its recipient sees it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Welcome {
    /// The member's name.
    pub name: String,
    /// Whether it is a password reset for an existing member.
    pub is_reset: bool,
    /// Who created it.
    pub giver: String,
    /// When it expires.
    #[schema(value_type = String, format = DateTime)]
    pub expires: Timestamp,
}

/// Accepts an invitation and signs in.
#[derive(Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct AcceptInvitation {
    /// The invitation's secret, from its link.
    pub secret: String,
    /// The chosen password.
    pub password: String,
}

/// Changes the caller's password. All other sessions end.
#[derive(Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ChangePassword {
    /// The current password.
    pub current: String,
    /// The new password.
    pub new: String,
}

/// Adds a role, or changes the one of this name.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewRole {
    /// Its name.
    pub name: String,
    /// Its rights.
    pub rights: Vec<Right>,
    /// Whether its members must have a second factor.
    #[serde(default)]
    pub second_factor: bool,
}
