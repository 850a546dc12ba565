//! What clients send and get of stacks as texts: checked, kept as revisions, compared, and what differs from them.

use std::collections::{BTreeMap, BTreeSet};

pub use gubernum_core::compose::report::{
    FileNote, NeedNote, ServiceNote, StackReport, VariableNote, VariableState,
};
pub use gubernum_core::revision::StackRevision;
pub use gubernum_core::stack::difference::{
    DifferenceLine, FileDifference, LineKind, RevisionDifference, ValueDifference,
};
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A stack's files, to be checked. Nothing is kept and nothing is touched.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct CheckStack {
    /// The host of the stack whose hidden values are meant, where any are in the files.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub host: Option<String>,
    /// The stack's name, where it is chosen already; otherwise what the text says.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub stack: Option<String>,
    /// Its files with their texts, by their paths from the stack's folder.
    #[schema(value_type = std::collections::HashMap<String, String>)]
    pub files: BTreeMap<String, String>,
    /// Which of them are the stack, the later over the earlier.
    pub main: Vec<String>,
    /// Values of variables.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    #[schema(value_type = std::collections::HashMap<String, String>)]
    pub variables: BTreeMap<String, String>,
    /// The profiles that are wanted.
    #[serde(default, skip_serializing_if = "BTreeSet::is_empty")]
    #[schema(value_type = Vec<String>)]
    pub profiles: BTreeSet<String>,
}

/// A revision of a stack with its files. What looks like a secret is hidden; sent back in a line as it was shown, it means what it was.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct StackDefinition {
    /// Which revision.
    #[serde(flatten)]
    pub revision: StackRevision,
    /// Its files with their texts, by their paths from the stack's folder.
    #[schema(value_type = std::collections::HashMap<String, String>)]
    pub files: BTreeMap<String, String>,
    /// Which of them are the stack, the later over the earlier.
    pub main: Vec<String>,
    /// Values of variables.
    #[schema(value_type = std::collections::HashMap<String, String>)]
    pub variables: BTreeMap<String, String>,
    /// The profiles that were wanted.
    #[schema(value_type = Vec<String>)]
    pub profiles: BTreeSet<String>,
    /// How many containers services have, where that is another number than the text says.
    #[schema(value_type = std::collections::HashMap<String, u32>)]
    pub scale: BTreeMap<String, u32>,
}

/// A stack that was deployed by way of Gubernum, and whether it is as its newest revision says.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct DriftRow {
    /// The host.
    pub host: String,
    /// The stack.
    pub stack: String,
    /// Its newest revision.
    pub revision: u64,
    /// What of it differs, by its names; empty when nothing does.
    pub differs: Vec<String>,
    /// Since when it differs.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(value_type = Option<String>, format = DateTime)]
    pub since: Option<Timestamp>,
    /// Why that cannot be told, when it could not be.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub unknown: Option<String>,
}
