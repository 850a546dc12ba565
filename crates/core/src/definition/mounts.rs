//! Mounts of a container.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

/// The mount type.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "lowercase")]
pub enum MountKind {
    /// A volume of the engine's.
    #[default]
    Volume,
    /// A folder or file of the host.
    Bind,
    /// Memory that is empty at each start.
    Tmpfs,
    /// The files of an image, which can only be read.
    Image,
}

/// A host folder to create before the first start.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct NewFolder {
    /// The owner's user id.
    #[serde(default)]
    pub user: u32,
    /// The group id.
    #[serde(default)]
    pub group: u32,
    /// File mode; `755` when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub mode: Option<String>,
}

/// A mount.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct MountRule {
    /// What is mounted.
    pub kind: MountKind,
    /// The volume's name (an anonymous one when absent), the path on the host, or the image.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub source: Option<String>,
    /// The path in the container.
    pub target: String,
    /// Whether it is read-only.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub read_only: bool,
    /// For a bind mount: create the folder if it does not exist.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub make: Option<NewFolder>,
    /// For a bind mount: propagation, such as `rslave`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub propagation: Option<String>,
    /// For a bind mount: `no` excludes submounts, `readonly` makes them read-only too.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub below: Option<String>,
    /// For a bind mount with SELinux: `z` shares the label with other containers, `Z` is private.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub selinux: Option<String>,
    /// For a volume or an image: mount only this subfolder.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub subpath: Option<String>,
    /// For an empty volume: do not copy the image's files into it.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub no_copy: bool,
    /// For tmpfs: file mode, such as `1777`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub mode: Option<String>,
    /// For tmpfs: size limit in bytes.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub size: Option<u64>,
    /// For a new volume: the driver.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub driver: Option<String>,
    /// For a new volume: labels.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    #[cfg_attr(feature = "schema", schema(value_type = std::collections::HashMap<String, String>))]
    pub labels: BTreeMap<String, String>,
    /// For a new volume: driver options. For tmpfs: further options, such as `noexec`.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    #[cfg_attr(feature = "schema", schema(value_type = std::collections::HashMap<String, String>))]
    pub options: BTreeMap<String, String>,
}
