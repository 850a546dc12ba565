//! The settings of each kind of change. Which settings belong to which kind is in [`super::Request`].

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

use crate::definition::{Definition, NetworkConnection, PullPolicy};
use crate::plan::ObjectKind;

/// Batches instead of all at once.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct Rolling {
    /// Batch size, over all hosts.
    #[serde(default = "one_at_once")]
    pub at_once: u32,
    /// Continue with the rest after a failure.
    #[serde(default, alias = "go_on")]
    pub keep_going: bool,
}

fn one_at_once() -> u32 {
    1
}

/// Settings of a new volume.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct VolumeSettings {
    /// The driver; `local` when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub driver: Option<String>,
    /// Driver options.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    #[cfg_attr(feature = "schema", schema(value_type = std::collections::HashMap<String, String>))]
    pub options: BTreeMap<String, String>,
    /// Labels.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    #[cfg_attr(feature = "schema", schema(value_type = std::collections::HashMap<String, String>))]
    pub labels: BTreeMap<String, String>,
}

/// Settings of a new network.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct NetworkSettings {
    /// The driver; `bridge` when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub driver: Option<String>,
    /// Subnet in CIDR notation; chosen by the engine when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub subnet: Option<String>,
    /// Gateway.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub gateway: Option<String>,
    /// Internal: no access to the outside.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub internal: bool,
    /// IPv6 is enabled.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub ipv6: bool,
    /// Driver options.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    #[cfg_attr(feature = "schema", schema(value_type = std::collections::HashMap<String, String>))]
    pub options: BTreeMap<String, String>,
    /// Labels.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    #[cfg_attr(feature = "schema", schema(value_type = std::collections::HashMap<String, String>))]
    pub labels: BTreeMap<String, String>,
}

/// An object to remove.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct TidyPiece {
    /// Its host.
    pub host: String,
    /// What it is.
    pub object: ObjectKind,
    /// The id: of a container, network or image, a volume's name, or `cache`.
    pub id: String,
}

/// Starts containers.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct StartRequest {
    /// Run in batches, waiting for health in between.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub rolling: Option<Rolling>,
}

/// Stops containers.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct StopRequest {
    /// Stop grace period in seconds; the container's own setting when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub grace_seconds: Option<u32>,
    /// Run in batches.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub rolling: Option<Rolling>,
}

/// Restarts containers.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct RestartRequest {
    /// Stop grace period in seconds; the container's own setting when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub grace_seconds: Option<u32>,
    /// Run in batches, waiting for health in between.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub rolling: Option<Rolling>,
}

/// Sends a signal to containers.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct KillRequest {
    /// The signal, e.g. `SIGHUP`; `SIGKILL` when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub signal: Option<String>,
}

/// Removes containers.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct RemoveRequest {
    /// Even while running.
    #[serde(default)]
    pub force: bool,
    /// With anonymous volumes.
    #[serde(default)]
    pub volumes: bool,
}

/// Creates and starts a container.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct DeployRequest {
    /// The container's settings.
    pub definition: Box<Definition>,
    /// The container from which masked values in the settings are taken.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub from: Option<String>,
    /// Seconds the container must stay up if it has no health check; 10 when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub watch_seconds: Option<u32>,
    /// Run in batches, waiting for health in between.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub rolling: Option<Rolling>,
}

/// Changes the settings of a container.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct EditRequest {
    /// The container's settings.
    pub definition: Box<Definition>,
    /// Stop grace period of the old container in seconds; the container's own setting when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub grace_seconds: Option<u32>,
    /// Seconds the new container must stay up if it has no health check; 10 when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub watch_seconds: Option<u32>,
    /// Run in batches, waiting for health in between.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub rolling: Option<Rolling>,
}

/// Updates containers to a newer image.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct UpdateRequest {
    /// Another image or tag; the container's current reference when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub image: Option<String>,
    /// Pull policy; `always` when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub policy: Option<PullPolicy>,
    /// Stop grace period of the old container in seconds; the container's own setting when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub grace_seconds: Option<u32>,
    /// Seconds the new container must stay up if it has no health check; 10 when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub watch_seconds: Option<u32>,
    /// Run in batches, waiting for health in between.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub rolling: Option<Rolling>,
}

/// Rolls containers back to before an edit or update.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct RollbackRequest {
    /// The revision; the latest when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub earlier: Option<u64>,
    /// Stop grace period of the old container in seconds; the container's own setting when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub grace_seconds: Option<u32>,
    /// Seconds the new container must stay up if it has no health check; 10 when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub watch_seconds: Option<u32>,
    /// Run in batches, waiting for health in between.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub rolling: Option<Rolling>,
}

/// Pulls an image.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct PullRequest {
    /// The image.
    pub image: String,
    /// Pull policy; `always` when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub policy: Option<PullPolicy>,
    /// Platform, such as `linux/arm64`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub platform: Option<String>,
}

/// Pushes an image to its registry.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct PushRequest {
    /// The image.
    pub image: String,
}

/// Tags an image.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct TagRequest {
    /// The image.
    pub image: String,
    /// The new name.
    pub new_name: String,
}

/// Removes images.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct RemoveImageRequest {
    /// Even with several tags or exited containers that use it.
    #[serde(default)]
    pub force: bool,
    /// Keep untagged parents.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub keep_parents: bool,
}

/// Creates volumes.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct CreateVolumeRequest {
    /// The volume's settings; a `local` volume when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub volume: Option<VolumeSettings>,
}

/// Removes volumes with their data.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct RemoveVolumeRequest {
    /// Even if the driver refuses.
    #[serde(default)]
    pub force: bool,
}

/// Creates networks.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct CreateNetworkRequest {
    /// The network's settings; a `bridge` when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub network: Option<NetworkSettings>,
}

/// Connects containers to a network.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ConnectRequest {
    /// The network, with aliases and addresses.
    pub join: NetworkConnection,
}

/// Disconnects containers from a network.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct DisconnectRequest {
    /// The network.
    pub join: NetworkConnection,
    /// Even if the container does not respond.
    #[serde(default)]
    pub force: bool,
}

/// Removes unused objects.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct TidyRequest {
    /// The objects to remove, from the suggestions.
    pub pieces: Vec<TidyPiece>,
}
