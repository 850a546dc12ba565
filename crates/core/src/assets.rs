//! What a host holds besides containers: images, volumes, networks and its disk, as reported by the engine.
//!
//! Not here: who uses them, which [`crate::inventory`] works out over the whole fleet.

use std::collections::BTreeMap;

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use crate::image_name::ImageName;

/// One image on one host.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Image {
    /// The digest of the image configuration without `sha256:`; the same on every host.
    pub id: String,
    /// Tags as `name:tag`; none for an untagged image.
    pub tags: Vec<String>,
    /// Registry digests as `name@sha256:…`.
    pub digests: Vec<String>,
    /// Size of all layers, in bytes.
    pub size: u64,
    /// Bytes of layers shared with other images of the host, if measured.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub shared: Option<u64>,
    /// When it was built.
    #[cfg_attr(feature = "schema", schema(value_type = String, format = DateTime))]
    pub created: Timestamp,
    /// Architecture, such as `amd64`.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub architecture: Option<String>,
    /// Labels.
    #[cfg_attr(feature = "schema", schema(value_type = std::collections::HashMap<String, String>))]
    pub labels: BTreeMap<String, String>,
    /// Its layers from the bottom, to work out what images share; not told to clients.
    #[serde(skip)]
    pub layers: Vec<Layer>,
}

/// One layer of an image.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Layer {
    /// Stands for it and all below it.
    pub id: String,
    /// Size in bytes.
    pub size: u64,
}

/// One volume on one host.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Volume {
    /// Its name.
    pub name: String,
    /// The driver, such as `local`.
    pub driver: String,
    /// The data's path on the host.
    pub mount_point: String,
    /// Driver options.
    #[cfg_attr(feature = "schema", schema(value_type = std::collections::HashMap<String, String>))]
    pub options: BTreeMap<String, String>,
    /// Labels.
    #[cfg_attr(feature = "schema", schema(value_type = std::collections::HashMap<String, String>))]
    pub labels: BTreeMap<String, String>,
    /// When it was created, if reported.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    #[cfg_attr(feature = "schema", schema(value_type = Option<String>, format = DateTime))]
    pub created: Option<Timestamp>,
    /// Size of the data in bytes, if measured.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub size: Option<u64>,
    /// It is anonymous.
    pub anonymous: bool,
}

/// A subnet of a network.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Subnet {
    /// In CIDR notation.
    pub subnet: String,
    /// The gateway, if set.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub gateway: Option<String>,
}

/// One network on one host.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Network {
    /// The engine's id; names are not unique.
    pub id: String,
    /// Its name.
    pub name: String,
    /// The driver, such as `bridge`.
    pub driver: String,
    /// Address ranges.
    pub subnets: Vec<Subnet>,
    /// Internal: no access to the outside.
    pub internal: bool,
    /// IPv6 is enabled.
    pub ipv6: bool,
    /// Driver options.
    #[cfg_attr(feature = "schema", schema(value_type = std::collections::HashMap<String, String>))]
    pub options: BTreeMap<String, String>,
    /// Labels.
    #[cfg_attr(feature = "schema", schema(value_type = std::collections::HashMap<String, String>))]
    pub labels: BTreeMap<String, String>,
    /// When it was created, if reported.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    #[cfg_attr(feature = "schema", schema(value_type = Option<String>, format = DateTime))]
    pub created: Option<Timestamp>,
}

impl Network {
    /// Whether the engine makes it by itself and nobody can remove it.
    pub fn is_built_in(&self) -> bool {
        matches!(self.name.as_str(), "bridge" | "host" | "none" | "podman")
    }
}

/// Disk usage of the engine's data in bytes. Absent values are not reported by the engine.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Disk {
    /// Size of the file system with the engine's data.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub total: Option<u64>,
    /// Used space on that file system, by anything.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub used: Option<u64>,
    /// All images, shared layers counted once.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub images: Option<u64>,
    /// Writable layers of all containers.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub containers: Option<u64>,
    /// All volumes.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub volumes: Option<u64>,
    /// The build cache.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub build_cache: Option<u64>,
    /// When a build last used the cache, if reported.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    #[cfg_attr(feature = "schema", schema(value_type = Option<String>, format = DateTime))]
    pub cache_used: Option<Timestamp>,
    /// When it was measured.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    #[cfg_attr(feature = "schema", schema(value_type = Option<String>, format = DateTime))]
    pub measured: Option<Timestamp>,
}

/// Everything that a host holds besides its containers.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Assets {
    /// Images.
    pub images: Vec<Image>,
    /// Volumes.
    pub volumes: Vec<Volume>,
    /// Networks.
    pub networks: Vec<Network>,
    /// Bytes that containers have written over their images, by id, where the engine has measured them.
    pub written: BTreeMap<String, u64>,
}

impl Image {
    /// Its digests at the repository of this name.
    fn digests_at<'a>(&'a self, name: &ImageName) -> impl Iterator<Item = &'a str> {
        let of_repository =
            |d: &&String| d.parse::<ImageName>().is_ok_and(|d: ImageName| d.same_repository(name));
        self.digests.iter().filter(of_repository).filter_map(|d| d.split_once('@').map(|(_, d)| d))
    }
}

impl Assets {
    /// Whether the image of this id is the one that a digest of its repository stands for; `None` where the host does not
    /// tell. An image that lost its tag to a newer one may have lost its digests too: then the host's copy of the
    /// newer one tells.
    pub fn is_image(&self, id: &str, name: &ImageName, digest: &str) -> Option<bool> {
        let own = self.images.iter().find(|i| i.id == id);
        if own.is_some_and(|i| i.digests_at(name).any(|d| d == digest)) {
            return Some(true);
        }
        let other = self.images.iter().any(|i| i.id != id && i.digests_at(name).any(|d| d == digest));
        let told = own.is_some_and(|i| i.digests_at(name).next().is_some());
        (other || told).then_some(false)
    }
}

/// The kinds of things that can be unused.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "lowercase")]
#[derive(strum::IntoStaticStr)]
#[strum(serialize_all = "lowercase")]
pub enum AssetKind {
    /// An image.
    Image,
    /// A volume.
    Volume,
    /// A network.
    Network,
}

impl AssetKind {
    /// The word used in records and in the API.
    pub fn word(self) -> &'static str {
        self.into()
    }
}

/// An image's id without the name of its hash.
pub fn bare_id(id: &str) -> &str {
    id.strip_prefix("sha256:").unwrap_or(id)
}

#[cfg(test)]
#[path = "assets_tests.rs"]
mod tests;
