//! Directories that members sign in through.

pub use gubernum_core::directory::{DirectoryKind, GroupGrant, LdapGroups, LdapSettings, OpenidSettings};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Connection settings of a directory.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum DirectorySettings {
    /// A provider of OpenID Connect.
    Openid(OpenidSettings),
    /// An LDAP server.
    Ldap(LdapSettings),
}

impl DirectorySettings {
    /// What it speaks.
    pub fn kind(&self) -> DirectoryKind {
        match self {
            Self::Openid(_) => DirectoryKind::Openid,
            Self::Ldap(_) => DirectoryKind::Ldap,
        }
    }
}

/// A configured directory, without its secret.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Directory {
    /// Connection settings.
    pub settings: DirectorySettings,
    /// Grants by group.
    pub mapping: Vec<GroupGrant>,
    /// How long a member's groups are cached, in seconds; 0 looks them up on every request.
    pub recheck_seconds: u32,
    /// Whether a secret is set.
    pub has_secret: bool,
    /// Why the last query failed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub failure: Option<String>,
}

/// Configures a directory.
#[derive(Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct SetDirectory {
    /// Connection settings.
    pub settings: DirectorySettings,
    /// Grants by group. Members without a grant cannot sign in.
    pub mapping: Vec<GroupGrant>,
    /// How long a member's groups are cached, in seconds, at most 3600; 0 looks them up on every request.
    #[serde(default = "recheck_seconds")]
    pub recheck_seconds: u32,
    /// The client secret or bind password; unchanged when absent. Sealed at rest and never shown.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub secret: Option<String>,
}

fn recheck_seconds() -> u32 {
    gubernum_core::directory::RECHECK_SECONDS
}

impl std::fmt::Debug for SetDirectory {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("SetDirectory").field("settings", &self.settings).finish_non_exhaustive()
    }
}

/// The outcome of testing a directory.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct DirectoryTest {
    /// Completed steps, in order.
    pub steps: Vec<String>,
    /// Why the next step failed; absent on success.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub failure: Option<String>,
}

/// Finishes signing in at a provider of OpenID Connect.
#[derive(Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct FinishOpenid {
    /// The ticket for the provider's answer, from the address of the console's page.
    pub ticket: String,
    /// A code of the member's second factor here, or a recovery code.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub code: Option<String>,
}

/// Where the browser signs out at the provider after signing out here.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ProviderLogout {
    /// The URL; absent without a provider, or if it offers none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub address: Option<String>,
}
