//! Registries and their images, container definitions, and earlier revisions for rollback.

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
    /// The current digest.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub digest: Option<String>,
    /// When the image was built.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    #[schema(value_type = Option<String>, format = DateTime)]
    pub created: Option<Timestamp>,
    /// Compressed size of the layers in bytes, for the first architecture.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub size: Option<u64>,
    /// Available architectures.
    pub architectures: Vec<String>,
    /// Why it could not be read.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub problem: Option<String>,
}

/// The tags of a repository.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct TagList {
    /// The repository with its registry.
    pub repository: String,
    /// Total number of tags.
    pub total: usize,
    /// The tags looked up, newest first.
    pub tags: Vec<TagRow>,
}

/// A search result.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct FoundImage {
    /// Image name without a tag.
    pub name: String,
    /// The registry's description.
    #[serde(skip_serializing_if = "String::is_empty", default)]
    pub description: String,
    /// Hosts that have the image already.
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub hosts: Vec<String>,
}

/// The settings of a container or a form.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct DefinitionView {
    /// The host.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub host: Option<String>,
    /// The settings; secrets masked.
    pub definition: Definition,
    /// The image's defaults.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub image: Option<Definition>,
    /// The settings as a Compose file.
    pub compose: String,
    /// What was dropped from a Compose file.
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub left: Vec<DroppedAttribute>,
    /// Errors and warnings, when a host was named.
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub findings: Vec<Finding>,
}

/// A part of a Compose file that was dropped.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct DroppedAttribute {
    /// Its line.
    pub line: u64,
    /// Its column.
    pub column: u64,
    /// What was dropped and why.
    pub sentence: String,
}

/// Converts between form settings and a Compose file: give exactly one.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Translate {
    /// A Compose file with one service.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub compose: Option<String>,
    /// Container settings.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub definition: Option<Definition>,
    /// Contents of the files that `env_file` names, by their paths as written.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    #[schema(value_type = std::collections::HashMap<String, String>)]
    pub files: BTreeMap<String, String>,
}

/// Pasted variables.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct VariableLines {
    /// The lines.
    pub text: String,
}

/// The variables of pasted lines.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct VariablesView {
    /// The variables, in order.
    pub variables: Vec<EnvironmentEntry>,
    /// What was dropped, or only partly used.
    pub left: Vec<DroppedAttribute>,
}

/// Protects an object from tidy, or ends that.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct SetKeepNote {
    /// What.
    pub piece: TidyPiece,
    /// Whether to keep it.
    pub keep: bool,
    /// Why.
    #[serde(default)]
    pub text: String,
}

/// The newest known image of a tag.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ImageCheck {
    /// The image's name.
    pub image: String,
    /// The digest of the tag at the registry.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub digest: Option<String>,
    /// Why the digest is unknown.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub problem: Option<String>,
    /// When it was requested.
    #[schema(value_type = String, format = DateTime)]
    pub checked: Timestamp,
    /// Containers that run an older image.
    pub outdated: Vec<String>,
}
