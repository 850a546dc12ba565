//! What can be said with each kind of change. Which settings go with which kind is in [`super::Request`].

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

use crate::definition::{Definition, JoinedNetwork, PullPolicy};
use crate::plan::ObjectKind;

/// One after another instead of all together.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct Rolling {
    /// How many at once, over all hosts.
    #[serde(default = "one_at_once")]
    pub at_once: u32,
    /// Continue with the rest after one failed.
    #[serde(default, alias = "go_on")]
    pub keep_going: bool,
}

fn one_at_once() -> u32 {
    1
}

/// A volume to be made.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct VolumeWish {
    /// Its driver; `local` when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub driver: Option<String>,
    /// The driver's options.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    #[cfg_attr(feature = "schema", schema(value_type = std::collections::HashMap<String, String>))]
    pub options: BTreeMap<String, String>,
    /// Labels.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    #[cfg_attr(feature = "schema", schema(value_type = std::collections::HashMap<String, String>))]
    pub labels: BTreeMap<String, String>,
}

/// A network to be made.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct NetworkWish {
    /// Its driver; `bridge` when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub driver: Option<String>,
    /// Its addresses in CIDR form; of the engine's choice when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub subnet: Option<String>,
    /// Its gateway.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub gateway: Option<String>,
    /// Internal: no access to the outside.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub internal: bool,
    /// It speaks IPv6.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub ipv6: bool,
    /// The driver's options.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    #[cfg_attr(feature = "schema", schema(value_type = std::collections::HashMap<String, String>))]
    pub options: BTreeMap<String, String>,
    /// Labels.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    #[cfg_attr(feature = "schema", schema(value_type = std::collections::HashMap<String, String>))]
    pub labels: BTreeMap<String, String>,
}

/// One thing to tidy away.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct TidyPiece {
    /// Its host.
    pub host: String,
    /// What it is.
    pub object: ObjectKind,
    /// Its id: a container's or network's id, an image's, a volume's name, `cache`.
    pub id: String,
}

/// Starts containers.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct StartRequest {
    /// One after another, with a wait for health between.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub rolling: Option<Rolling>,
}

/// Stops containers.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct StopRequest {
    /// Seconds between asking and forcing. The container's own setting (usually 10) when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub grace_seconds: Option<u32>,
    /// One after another.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub rolling: Option<Rolling>,
}

/// Restarts containers.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct RestartRequest {
    /// Seconds between asking and forcing. The container's own setting (usually 10) when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub grace_seconds: Option<u32>,
    /// One after another, with a wait for health between.
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
    /// Even while it runs.
    #[serde(default)]
    pub force: bool,
    /// With its anonymous volumes.
    #[serde(default)]
    pub volumes: bool,
}

/// Makes a container and starts it.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct DeployRequest {
    /// What the container is to be.
    pub definition: Box<Definition>,
    /// The container whose hidden values are meant by hidden ones of the definition.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub from: Option<String>,
    /// Seconds that it must stay up when it has no health check; 10 when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub watch_seconds: Option<u32>,
    /// One after another, with a wait for health between.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub rolling: Option<Rolling>,
}

/// Changes the settings of a container.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct EditRequest {
    /// What the container is to be.
    pub definition: Box<Definition>,
    /// Seconds between asking the old container to end and forcing it. Its own setting (usually 10) when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub grace_seconds: Option<u32>,
    /// Seconds that the new container must stay up when it has no health check; 10 when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub watch_seconds: Option<u32>,
    /// One after another, with a wait for health between.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub rolling: Option<Rolling>,
}

/// Puts containers on a newer image.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct UpdateRequest {
    /// Another image or tag; the container's own when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub image: Option<String>,
    /// Pull policy; `always` when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub policy: Option<PullPolicy>,
    /// Seconds between asking the old container to end and forcing it. Its own setting (usually 10) when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub grace_seconds: Option<u32>,
    /// Seconds that the new container must stay up when it has no health check; 10 when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub watch_seconds: Option<u32>,
    /// One after another, with a wait for health between.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub rolling: Option<Rolling>,
}

/// Puts containers back to what they were before an edit or an update.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct RollbackRequest {
    /// Which earlier state; the last when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub earlier: Option<u64>,
    /// Seconds between asking the old container to end and forcing it. Its own setting (usually 10) when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub grace_seconds: Option<u32>,
    /// Seconds that the new container must stay up when it has no health check; 10 when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub watch_seconds: Option<u32>,
    /// One after another, with a wait for health between.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub rolling: Option<Rolling>,
}

/// Fetches an image.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct PullRequest {
    /// The image.
    pub image: String,
    /// Pull policy; `always` when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub policy: Option<PullPolicy>,
    /// The platform, e.g. `linux/arm64`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub platform: Option<String>,
}

/// Sends an image to its registry.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct PushRequest {
    /// The image.
    pub image: String,
}

/// Gives an image another name.
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
    /// Even when it has several tags or ended containers use it.
    #[serde(default)]
    pub force: bool,
    /// Keep untagged parents.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub keep_parents: bool,
}

/// Makes volumes.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct MakeVolumeRequest {
    /// What it is to be; a `local` one when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub volume: Option<VolumeWish>,
}

/// Removes volumes with their data.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct RemoveVolumeRequest {
    /// Even when its driver refuses.
    #[serde(default)]
    pub force: bool,
}

/// Makes networks.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct MakeNetworkRequest {
    /// What it is to be; a `bridge` when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub network: Option<NetworkWish>,
}

/// Connects containers to a network.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ConnectRequest {
    /// The network, with aliases and addresses.
    pub join: JoinedNetwork,
}

/// Disconnects containers from a network.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct DisconnectRequest {
    /// The network.
    pub join: JoinedNetwork,
    /// Even when the container does not answer.
    #[serde(default)]
    pub force: bool,
}

/// Removes unused things.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct TidyRequest {
    /// What to remove, as the suggestions list it.
    pub pieces: Vec<TidyPiece>,
}
