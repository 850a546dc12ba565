//! Registries, what they hold, definitions of containers, and earlier states to go back to.

pub use gubernum_core::preferences::{KeepNote, Preferences};
pub use gubernum_core::registry::{NewRegistry, Registry};
pub use gubernum_core::revision::Revision;
use std::collections::BTreeMap;

use gubernum_core::definition::check::Finding;
use gubernum_core::definition::{Definition, EnvironmentEntry};
use gubernum_core::plan::TidyPiece;
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A tag at a registry.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct TagRow {
    /// The tag.
    pub tag: String,
    /// What it means now.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub digest: Option<String>,
    /// When the image was built.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    #[schema(value_type = Option<String>, format = DateTime)]
    pub created: Option<Timestamp>,
    /// Bytes of its layers, packed, for the first architecture.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub size: Option<u64>,
    /// The architectures it is there for.
    pub architectures: Vec<String>,
    /// Why it could not be looked at.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub problem: Option<String>,
}

/// The tags of a repository.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct TagList {
    /// The repository with its registry.
    pub repository: String,
    /// How many tags there are.
    pub total: usize,
    /// Those that were looked at, the newest first.
    pub tags: Vec<TagRow>,
}

/// Something that a search found.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct FoundImage {
    /// Its name without a tag.
    pub name: String,
    /// What its registry says of it.
    #[serde(skip_serializing_if = "String::is_empty", default)]
    pub description: String,
    /// Hosts of the fleet that have it already.
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub hosts: Vec<String>,
}

/// What a container was made with, or what a form would make.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct DefinitionView {
    /// The host.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub host: Option<String>,
    /// What was set; secrets hidden.
    pub definition: Definition,
    /// What the image brings by itself.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub image: Option<Definition>,
    /// The same as Compose text.
    pub compose: String,
    /// What of a text was left out.
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub left: Vec<LeftOut>,
    /// Mistakes, where a host was named.
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub findings: Vec<Finding>,
}

/// Something of a Compose text that was left out.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct LeftOut {
    /// Its line.
    pub line: u64,
    /// Its column.
    pub column: u64,
    /// What it is and what that means.
    pub sentence: String,
}

/// Translates between the form and Compose text: exactly one of the two.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Translate {
    /// Compose text with one service.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub compose: Option<String>,
    /// A definition.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub definition: Option<Definition>,
    /// The texts of the files that the text's `env_file` names, by their paths as written there.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    #[schema(value_type = std::collections::HashMap<String, String>)]
    pub files: BTreeMap<String, String>,
}

/// Lines of variables as people paste them.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct VariableLines {
    /// The lines.
    pub text: String,
}

/// What they say.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct VariablesView {
    /// The variables, in order.
    pub variables: Vec<EnvironmentEntry>,
    /// What was not taken, or counts only in part.
    pub left: Vec<LeftOut>,
}

/// Says that something is to be kept, or that it need not be any more.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct SetKeepNote {
    /// What.
    pub piece: TidyPiece,
    /// Whether it is to be kept.
    pub keep: bool,
    /// Why.
    #[serde(default)]
    pub text: String,
}

/// What is known of the newest image of a tag.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ImageCheck {
    /// The image's name.
    pub image: String,
    /// What its tag means at the registry.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub digest: Option<String>,
    /// Why that is not known.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub problem: Option<String>,
    /// When it was requested.
    #[schema(value_type = String, format = DateTime)]
    pub checked: Timestamp,
    /// Containers that run something older.
    pub outdated: Vec<String>,
}
