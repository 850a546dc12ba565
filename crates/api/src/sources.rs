//! What clients send and get of the Git repositories that stacks come from.

use std::collections::{BTreeMap, BTreeSet};

pub use gubernum_core::stack::source::GitPlace;
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Has a stack follow a place in a Git repository.
#[derive(Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct SetSource {
    /// The repository: `https://…`, `ssh://…` or `account@host:path`.
    pub url: String,
    /// The branch or tag.
    pub reference: String,
    /// The stack's files in it, the later over the earlier; their folder is the stack's.
    pub paths: Vec<String>,
    /// The account for the token; `git` when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub account: Option<String>,
    /// A token for `https`. What was set before for the same address stays when absent. Sealed at rest and never shown again.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub token: Option<String>,
    /// A private key for `ssh`, as OpenSSH writes it; likewise.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ssh_key: Option<String>,
    /// The keys of the SSH server, as lines of a `known_hosts` file; without them it is not trusted.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub known_hosts: Option<String>,
    /// Seconds between two looks; 0 to look only when its hook says so.
    pub poll_seconds: u32,
    /// A change is applied without approval; otherwise it waits for approval.
    #[serde(default)]
    pub applies: bool,
    /// Values of variables.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    #[schema(value_type = std::collections::HashMap<String, String>)]
    pub variables: BTreeMap<String, String>,
    /// The profiles that are wanted.
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
    /// Its name: 40 or 64 hex digits.
    pub id: String,
    /// The first line of what its author said.
    pub subject: String,
    /// Who made it.
    pub author: String,
    /// When.
    #[schema(value_type = String, format = DateTime)]
    pub time: Timestamp,
}

/// The place in a repository that a stack follows.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct StackSource {
    /// Where.
    #[serde(flatten)]
    pub place: GitPlace,
    /// A token is set.
    pub has_token: bool,
    /// An SSH key is set.
    pub has_ssh_key: bool,
    /// Seconds between two looks; 0 for none.
    pub poll_seconds: u32,
    /// A change is applied without approval.
    pub applies: bool,
    /// Where the repository's server may say that something was pushed: a POST, signed as `hook_secret` tells.
    pub hook: String,
    /// The hook's secret: only in the answer to the request that made it. A push is taken when its header `X-Hub-Signature-256` is
    /// `sha256=` and the HMAC-SHA256 of the body with this secret, in hex.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub hook_secret: Option<String>,
    /// The commit that was fetched last.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub commit: Option<Commit>,
    /// It is not applied yet and waits for approval: `apply` with `waiting` does it.
    pub waiting: bool,
    /// When it was looked last.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(value_type = Option<String>, format = DateTime)]
    pub checked: Option<Timestamp>,
    /// Why the last look failed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub failed: Option<String>,
}
