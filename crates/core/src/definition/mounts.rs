//! What is mounted into a container.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

/// What is mounted.
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

/// A folder to be made on the host before the first start.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct NewFolder {
    /// The number of the user it shall belong to.
    #[serde(default)]
    pub user: u32,
    /// The number of the group.
    #[serde(default)]
    pub group: u32,
    /// Its mode, e.g. `755` (octal digits); `755` when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub mode: Option<String>,
}

/// One mount.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct MountRule {
    /// What is mounted.
    pub kind: MountKind,
    /// The volume's name (an anonymous one when absent), the path on the host, or the image.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub source: Option<String>,
    /// The path inside.
    pub target: String,
    /// Whether the container may only read it.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub read_only: bool,
    /// For a bind: make the folder when it is not there.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub make: Option<NewFolder>,
    /// For a bind: how mounts spread, e.g. `rslave`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub propagation: Option<String>,
    /// For a bind: `no` leaves out what is mounted below it, `readonly` makes that read-only too.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub below: Option<String>,
    /// For a bind, on hosts with SELinux: `z` shares the label with other containers, `Z` keeps it for this one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub selinux: Option<String>,
    /// For a volume or an image: only this folder of it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub subpath: Option<String>,
    /// For a volume that is empty: what the image has at that place is not copied into it.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub no_copy: bool,
    /// For tmpfs: its mode, e.g. `1777` (octal digits).
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub mode: Option<String>,
    /// For tmpfs: its most bytes.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub size: Option<u64>,
    /// For a volume that is made: its driver.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub driver: Option<String>,
    /// For a volume that is made: its labels.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    #[cfg_attr(feature = "schema", schema(value_type = std::collections::HashMap<String, String>))]
    pub labels: BTreeMap<String, String>,
    /// For a volume that is made: its driver's options. For tmpfs: further options, e.g. `noexec`.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    #[cfg_attr(feature = "schema", schema(value_type = std::collections::HashMap<String, String>))]
    pub options: BTreeMap<String, String>,
}
