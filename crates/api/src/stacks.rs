//! Stack files on the wire: checks, revisions, differences and drift.

use std::collections::{BTreeMap, BTreeSet};

pub use gubernum_core::compose::report::{
    FileNote, ServiceDependency, ServiceNote, StackReport, VariableNote, VariableState,
};
pub use gubernum_core::revision::StackRevision;
pub use gubernum_core::stack::difference::{
    DifferenceLine, FileDifference, LineKind, RevisionDifference, ValueDifference,
};
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Stack files to check. Nothing is saved or changed.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct CheckStack {
    /// The host of the stack from which masked values in the files are taken.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub host: Option<String>,
    /// The stack's name; the files' own name when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub stack: Option<String>,
    /// File contents by path relative to the stack's folder.
    #[schema(value_type = std::collections::HashMap<String, String>)]
    pub files: BTreeMap<String, String>,
    /// The Compose files among them; later ones override earlier ones.
    pub main: Vec<String>,
    /// Values of variables.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    #[schema(value_type = std::collections::HashMap<String, String>)]
    pub variables: BTreeMap<String, String>,
    /// The active profiles.
    #[serde(default, skip_serializing_if = "BTreeSet::is_empty")]
    #[schema(value_type = Vec<String>)]
    pub profiles: BTreeSet<String>,
}

/// A revision of a stack with its files. Values that look like secrets are masked; sent back in an unchanged line,
/// they keep their value.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct StackDefinition {
    /// The revision.
    #[serde(flatten)]
    pub revision: StackRevision,
    /// File contents by path relative to the stack's folder.
    #[schema(value_type = std::collections::HashMap<String, String>)]
    pub files: BTreeMap<String, String>,
    /// The Compose files among them; later ones override earlier ones.
    pub main: Vec<String>,
    /// Values of variables.
    #[schema(value_type = std::collections::HashMap<String, String>)]
    pub variables: BTreeMap<String, String>,
    /// The active profiles.
    #[schema(value_type = Vec<String>)]
    pub profiles: BTreeSet<String>,
    /// Replica counts that override the files.
    #[schema(value_type = std::collections::HashMap<String, u32>)]
    pub scale: BTreeMap<String, u32>,
}

/// A stack deployed by Gubernum, and whether it has drifted from its newest revision.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct DriftRow {
    /// The host.
    pub host: String,
    /// The stack.
    pub stack: String,
    /// The newest revision.
    pub revision: u64,
    /// The names of the parts that differ.
    pub differs: Vec<String>,
    /// Since when.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(value_type = Option<String>, format = DateTime)]
    pub since: Option<Timestamp>,
    /// Why the drift is unknown, if it is.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub unknown: Option<String>,
}
