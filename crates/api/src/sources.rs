//! Git sources of stacks: requests and answers.

use std::collections::{BTreeMap, BTreeSet};

pub use gubernum_core::stack::source::GitPlace;
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Makes a stack follow a Git repository.
#[derive(Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct SetSource {
    /// The repository: `https://…`, `ssh://…` or `account@host:path`.
    pub url: String,
    /// The branch or tag.
    pub reference: String,
    /// The stack's Compose files, later ones overriding earlier ones; their folder is the stack's.
    pub paths: Vec<String>,
    /// The account for the token; `git` when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub account: Option<String>,
    /// A token for `https`; unchanged when absent and the URL is the same. Sealed at rest and never shown.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub token: Option<String>,
    /// A private key for `ssh`, in OpenSSH format; likewise.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ssh_key: Option<String>,
    /// The SSH server's keys, as `known_hosts` lines; required for `ssh`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub known_hosts: Option<String>,
    /// Seconds between checks; 0 to check only on a push notification.
    pub poll_seconds: u32,
    /// Apply changes without approval.
    #[serde(default)]
    pub applies: bool,
    /// Values of variables.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    #[schema(value_type = std::collections::HashMap<String, String>)]
    pub variables: BTreeMap<String, String>,
    /// The active profiles.
    #[serde(default, skip_serializing_if = "BTreeSet::is_empty")]
    #[schema(value_type = Vec<String>)]
    pub profiles: BTreeSet<String>,
}

impl std::fmt::Debug for SetSource {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "SetSource({}, {})", self.url, self.reference)
    }
}

/// A commit.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Commit {
    /// The commit id: 40 or 64 hex digits.
    pub id: String,
    /// The first line of the commit message.
    pub subject: String,
    /// The author.
    pub author: String,
    /// The time.
    #[schema(value_type = String, format = DateTime)]
    pub time: Timestamp,
}

/// The Git repository that a stack follows.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct StackSource {
    /// Where.
    #[serde(flatten)]
    pub place: GitPlace,
    /// A token is set.
    pub has_token: bool,
    /// An SSH key is set.
    pub has_ssh_key: bool,
    /// Seconds between checks; 0 for none.
    pub poll_seconds: u32,
    /// Changes are applied without approval.
    pub applies: bool,
    /// The webhook path for push notifications: a POST, signed as described at `hook_secret`.
    pub hook: String,
    /// The webhook secret, only in the response that creates it. A push is accepted if its `X-Hub-Signature-256`
    /// header is `sha256=` and the HMAC-SHA256 of the body with this secret, in hex.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub hook_secret: Option<String>,
    /// The commit that was fetched last.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub commit: Option<Commit>,
    /// Not applied yet, waiting for approval; `apply` with `waiting` applies it.
    pub waiting: bool,
    /// When it was last checked.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(value_type = Option<String>, format = DateTime)]
    pub checked: Option<Timestamp>,
    /// Why the last check failed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub failed: Option<String>,
}
