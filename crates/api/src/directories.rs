//! Directories through which members sign in.

pub use gubernum_core::directory::{DirectoryKind, GroupGrant, LdapGroups, LdapSettings, OpenidSettings};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// How a directory is reached.
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

/// A directory as it is set up, without its secret.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Directory {
    /// How it is reached.
    pub settings: DirectorySettings,
    /// What its groups grant.
    pub mapping: Vec<GroupGrant>,
    /// Seconds after which a member's groups are asked for again; 0 asks at every request.
    pub recheck_seconds: u32,
    /// Whether a secret is kept.
    pub has_secret: bool,
    /// Why it could not be asked the last time.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub failure: Option<String>,
}

/// Sets a directory up.
#[derive(Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct SetDirectory {
    /// How it is reached.
    pub settings: DirectorySettings,
    /// What its groups grant. Whoever is granted nothing may not sign in.
    pub mapping: Vec<GroupGrant>,
    /// Seconds after which a member's groups are asked for again, at most 3600; 0 asks at every request.
    #[serde(default = "recheck_seconds")]
    pub recheck_seconds: u32,
    /// The client's secret, or the password to bind with; the one before stays when absent. It is sealed and never shown again.
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

/// What came of trying a directory.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct DirectoryTest {
    /// What was done, in order.
    pub steps: Vec<String>,
    /// Why the next step failed; all went well when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub failure: Option<String>,
}

/// Finishes signing in at a provider of OpenID Connect.
#[derive(Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct FinishOpenid {
    /// What the provider's answer was exchanged for; it stands in the address of the console's page.
    pub ticket: String,
    /// A code of the member's second factor here, or a recovery code.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub code: Option<String>,
}

/// Where a browser goes after it has signed out here, to sign out at the provider too.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct OpenidEnd {
    /// The address; none when the session did not come from a provider, or it offers none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub address: Option<String>,
}
