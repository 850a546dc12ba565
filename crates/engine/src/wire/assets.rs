//! Images, volumes, networks and their disk usage, in the engine's JSON.

use std::collections::BTreeMap;

use jiff::Timestamp;
use serde::Deserialize;

use super::{labels, nullable};

#[derive(Debug, Deserialize)]
#[serde(rename_all = "PascalCase")]
pub(crate) struct ImageSummary {
    pub(crate) id: String,
    #[serde(default, deserialize_with = "nullable")]
    pub(crate) repo_tags: Vec<String>,
    #[serde(default, deserialize_with = "nullable")]
    pub(crate) repo_digests: Vec<String>,
    #[serde(default)]
    pub(crate) size: u64,
    #[serde(default)]
    pub(crate) created: i64,
    #[serde(default, deserialize_with = "labels")]
    pub(crate) labels: BTreeMap<String, String>,
}

#[derive(Debug, Deserialize)]
#[serde(rename_all = "PascalCase")]
pub(crate) struct ImageArchitecture {
    #[serde(default, deserialize_with = "nullable")]
    pub(crate) architecture: String,
    #[serde(default, rename = "RootFS", deserialize_with = "nullable")]
    pub(crate) root: ImageRoot,
}

#[derive(Debug, Default, Deserialize)]
#[serde(rename_all = "PascalCase")]
pub(crate) struct ImageRoot {
    #[serde(default, deserialize_with = "nullable")]
    pub(crate) layers: Vec<String>,
}

#[derive(Debug, Deserialize)]
#[serde(rename_all = "PascalCase")]
pub(crate) struct ImageStep {
    #[serde(default, deserialize_with = "nullable")]
    pub(crate) created_by: String,
    #[serde(default)]
    pub(crate) created: i64,
    #[serde(default)]
    pub(crate) size: u64,
    #[serde(default, deserialize_with = "nullable")]
    pub(crate) comment: String,
}

#[derive(Debug, Deserialize)]
#[serde(rename_all = "PascalCase")]
pub(crate) struct Volumes {
    #[serde(default, deserialize_with = "nullable")]
    pub(crate) volumes: Vec<Volume>,
}

#[derive(Debug, Deserialize)]
#[serde(rename_all = "PascalCase")]
pub(crate) struct Volume {
    pub(crate) name: String,
    #[serde(default, deserialize_with = "nullable")]
    pub(crate) driver: String,
    #[serde(default, deserialize_with = "nullable")]
    pub(crate) mountpoint: String,
    #[serde(default, deserialize_with = "nullable")]
    pub(crate) options: BTreeMap<String, String>,
    #[serde(default, deserialize_with = "labels")]
    pub(crate) labels: BTreeMap<String, String>,
    #[serde(default, deserialize_with = "nullable")]
    pub(crate) created_at: String,
}

#[derive(Debug, Deserialize)]
#[serde(rename_all = "PascalCase")]
pub(crate) struct Network {
    pub(crate) name: String,
    pub(crate) id: String,
    #[serde(default, deserialize_with = "nullable")]
    pub(crate) created: String,
    #[serde(default, deserialize_with = "nullable")]
    pub(crate) driver: String,
    #[serde(default, rename = "EnableIPv6")]
    pub(crate) ipv6: bool,
    #[serde(default)]
    pub(crate) internal: bool,
    #[serde(default, deserialize_with = "nullable", rename = "IPAM")]
    pub(crate) ipam: Ipam,
    #[serde(default, deserialize_with = "nullable")]
    pub(crate) options: BTreeMap<String, String>,
    #[serde(default, deserialize_with = "labels")]
    pub(crate) labels: BTreeMap<String, String>,
}

#[derive(Debug, Default, Deserialize)]
#[serde(rename_all = "PascalCase", default)]
pub(crate) struct Ipam {
    #[serde(deserialize_with = "nullable")]
    pub(crate) config: Vec<IpamConfig>,
}

#[derive(Debug, Default, Deserialize)]
#[serde(rename_all = "PascalCase", default)]
pub(crate) struct IpamConfig {
    #[serde(deserialize_with = "nullable")]
    pub(crate) subnet: String,
    #[serde(deserialize_with = "nullable")]
    pub(crate) gateway: String,
}

#[derive(Debug, Deserialize)]
#[serde(rename_all = "PascalCase")]
pub(crate) struct DiskUse {
    #[serde(default)]
    pub(crate) layers_size: Option<u64>,
    #[serde(default, deserialize_with = "nullable")]
    pub(crate) images: Vec<DiskImage>,
    #[serde(default, deserialize_with = "nullable")]
    pub(crate) containers: Vec<DiskContainer>,
    #[serde(default, deserialize_with = "nullable")]
    pub(crate) volumes: Vec<DiskVolume>,
    #[serde(default, deserialize_with = "nullable")]
    pub(crate) build_cache: Vec<DiskCache>,
}

#[derive(Debug, Deserialize)]
#[serde(rename_all = "PascalCase")]
pub(crate) struct DiskImage {
    pub(crate) id: String,
    #[serde(default)]
    pub(crate) size: u64,
    #[serde(default)]
    pub(crate) shared_size: i64,
}

#[derive(Debug, Deserialize)]
#[serde(rename_all = "PascalCase")]
pub(crate) struct DiskContainer {
    /// podman says `ContainerID`-less records here too; without an id only the sum counts.
    #[serde(default, deserialize_with = "nullable")]
    pub(crate) id: String,
    #[serde(default)]
    pub(crate) size_rw: u64,
}

#[derive(Debug, Deserialize)]
#[serde(rename_all = "PascalCase")]
pub(crate) struct DiskVolume {
    pub(crate) name: String,
    #[serde(default)]
    pub(crate) usage_data: Option<VolumeUse>,
}

#[derive(Debug, Deserialize)]
#[serde(rename_all = "PascalCase")]
pub(crate) struct VolumeUse {
    #[serde(default)]
    pub(crate) size: i64,
}

#[derive(Debug, Deserialize)]
#[serde(rename_all = "PascalCase")]
pub(crate) struct DiskCache {
    #[serde(default)]
    pub(crate) size: u64,
    #[serde(default)]
    pub(crate) shared: bool,
    #[serde(default)]
    last_used_at: Option<String>,
    #[serde(default)]
    created_at: Option<String>,
}

impl DiskCache {
    /// When a build used it last; what was never used again since it was made counts from then.
    pub(crate) fn used(&self) -> Option<Timestamp> {
        let read = |text: &Option<String>| text.as_deref().and_then(|t| t.parse::<Timestamp>().ok());
        read(&self.last_used_at).or_else(|| read(&self.created_at))
    }
}
