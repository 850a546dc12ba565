//! Members, roles, invitations, and what somebody may.

use std::collections::BTreeMap;

use gubernum_core::directory::DirectoryKind;
use gubernum_core::plan::Kind;
pub use gubernum_core::rights::{Bound, EffectiveRight, Grant, Granted, Right, Role};
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A member as those see it who may change members.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Member {
    /// Its number.
    pub id: u64,
    /// Its name.
    pub name: String,
    /// What it calls itself; empty when it said nothing.
    pub display_name: String,
    /// When it came in.
    #[schema(value_type = String, format = DateTime)]
    pub created: Timestamp,
    /// Since when it may not sign in any more.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(value_type = Option<String>, format = DateTime)]
    pub deactivated: Option<Timestamp>,
    /// When a session or token of its was last used, to the minute.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(value_type = Option<String>, format = DateTime)]
    pub last_seen: Option<Timestamp>,
    /// Whether it signs in with a second factor.
    pub second_factor: bool,
    /// What it is granted here.
    pub grants: Vec<Grant>,
    /// The directory through which it signs in; it has a password here when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub directory: Option<DirectoryKind>,
    /// What its groups in the directory grant it.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub directory_grants: Vec<Granted>,
}

/// A member with everything that follows from its grants, and what it has open.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct MemberDetail {
    /// The member.
    #[serde(flatten)]
    pub member: Member,
    /// Every right with the grants that give it.
    pub rights: Vec<EffectiveRight>,
    /// Its sessions.
    pub sessions: Vec<crate::views::Session>,
    /// Its tokens.
    pub tokens: Vec<crate::views::Token>,
}

/// What the one who asks may.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct OwnRights {
    /// The member.
    pub member: String,
    /// What it calls itself; empty when it said nothing.
    pub display_name: String,
    /// Every right with the grants that give it.
    pub rights: Vec<EffectiveRight>,
    /// The rights on the whole fleet and on the service, with the bounds of the session or token applied.
    pub on_fleet: Vec<Right>,
    /// The rights that are held somewhere; what is in neither list is never allowed.
    pub somewhere: Vec<Right>,
    /// The kinds of change that may be allowed on something; another is never allowed.
    pub changes: Vec<Kind>,
    /// Whether the member signs in with a second factor.
    pub second_factor: bool,
    /// Whether a role of the member's demands one that it does not have: until then nothing is allowed.
    pub needs_second_factor: bool,
    /// The role that the member works with until it steps up.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub works_as: Option<String>,
    /// Until when this session has stepped up.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(value_type = Option<String>, format = DateTime)]
    pub stepped_until: Option<Timestamp>,
    /// The role through which this session looks at everything for now.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub view_as: Option<String>,
    /// Changes that wait for this member's word.
    pub to_approve: u32,
}

/// How the console looks.
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

/// How times of day are written.
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

/// What a member sets for itself.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields, default)]
pub struct Profile {
    /// What it calls itself, up to 80 characters; empty for its name.
    pub display_name: String,
    /// How the console looks.
    pub theme: Theme,
    /// How times of day are written.
    pub clock: ClockStyle,
    /// The time zone in which times are shown, as in the IANA time zone database; the browser's when absent.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub time_zone: Option<String>,
    /// The page of the console that opens after signing in, such as `/containers`.
    pub start_page: String,
    /// The filters with which pages open: the page's path, and its query.
    pub filters: BTreeMap<String, String>,
    /// The role to work with until one steps up; all one's rights at once when absent.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub works_as: Option<String>,
}

/// Begins to set up a second factor.
#[derive(Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct BeginSecondFactor {
    /// The member's password.
    pub password: String,
}

/// What a program that makes codes needs; shown this once.
#[derive(Clone, Serialize, Deserialize, ToSchema)]
pub struct NewSecondFactor {
    /// The secret, in base32.
    pub secret: String,
    /// The same as an `otpauth:` address.
    pub address: String,
}

/// Shows a code.
#[derive(Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ShownCode {
    /// Six digits, or a recovery code where one is taken.
    pub code: String,
}

/// Recovery codes: each signs in once in place of a code; shown this once.
#[derive(Clone, Serialize, Deserialize, ToSchema)]
pub struct RecoveryCodes {
    /// The codes.
    pub codes: Vec<String>,
}

/// Changes a member; what is absent stays as it is.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct SetMember {
    /// What it is granted from now on.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub grants: Option<Vec<Grant>>,
    /// Whether it may not sign in any more. What it has open ends.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub deactivated: Option<bool>,
    /// `false` takes its second factor away: for whoever has lost it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub second_factor: Option<bool>,
}

/// Invites somebody.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewInvitation {
    /// The name that the member will have.
    pub name: String,
    /// What the member will be granted.
    pub grants: Vec<Grant>,
    /// Hours for which the link is good; 72 when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub hours: Option<u32>,
}

/// A link that waits to be used.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Invitation {
    /// Its number.
    pub id: u64,
    /// The name of the member.
    pub name: String,
    /// What the member will be granted.
    pub grants: Vec<Grant>,
    /// Whether it is for a new password of a member who is there already.
    pub is_reset: bool,
    /// Who gave it.
    pub giver: String,
    /// When it was given.
    #[schema(value_type = String, format = DateTime)]
    pub created: Timestamp,
    /// Until when it is good.
    #[schema(value_type = String, format = DateTime)]
    pub expires: Timestamp,
}

/// A new link: the only time that its secret is shown.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct MadeInvitation {
    /// The link.
    #[serde(flatten)]
    pub invitation: Invitation,
    /// Its secret.
    pub secret: String,
    /// The path of the console's page that takes it, with the secret in it: good once.
    pub path: String,
}

/// Asks whether a link is good.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ShownInvitation {
    /// Its secret.
    pub secret: String,
}

/// What somebody sees who has a link that is good.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Welcome {
    /// The name of the member.
    pub name: String,
    /// Whether it is for a new password of a member who is there already.
    pub is_reset: bool,
    /// Who gave it.
    pub giver: String,
    /// Until when it is good.
    #[schema(value_type = String, format = DateTime)]
    pub expires: Timestamp,
}

/// Uses a link, and signs in.
#[derive(Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct AcceptInvitation {
    /// Its secret.
    pub secret: String,
    /// The password that is chosen.
    pub password: String,
}

/// Changes one's own password. All other sessions end.
#[derive(Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ChangePassword {
    /// The password until now.
    pub current: String,
    /// The new one.
    pub new: String,
}

/// Adds a role, or changes the one of this name.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewRole {
    /// Its name.
    pub name: String,
    /// What it allows.
    pub rights: Vec<Right>,
    /// Whether whoever has it must use a second factor.
    #[serde(default)]
    pub second_factor: bool,
}
