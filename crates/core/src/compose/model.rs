//! A stack: its services, networks, volumes, configs and secrets, as the Compose Specification defines them.
//!
//! A service's containers are [`Definition`]s, the same that the form for one container has; here they name volumes,
//! networks and services as the stack does. Reading is in [`super::read`].

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

use crate::definition::Definition;
use crate::jobs::Schedule;

/// A stack.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize)]
pub struct Stack {
    /// Its name, as far as it is said.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub name: Option<String>,
    /// Its services by name.
    pub services: BTreeMap<String, Service>,
    /// Its networks by the names that its services use. `default` is among them where one of them is in no other.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub networks: BTreeMap<String, Network>,
    /// Its volumes, likewise.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub volumes: BTreeMap<String, Volume>,
    /// Files for containers, likewise.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub configs: BTreeMap<String, FileSource>,
    /// Files for containers that nobody else is to see, likewise.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub secrets: BTreeMap<String, FileSource>,
}

/// A service: any number of containers that are the same.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize)]
pub struct Service {
    /// What each of them is. Its name is the service's, or `container_name`.
    pub container: Definition,
    /// Its container has the name that the text gives, so there can be one only.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub has_fixed_name: bool,
    /// How many there are.
    pub replicas: u32,
    /// It runs to its end and is not started again.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub is_job: bool,
    /// It is run on its schedule, or manually, and not with the stack.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub schedule: Option<Schedule>,
    /// Dependencies.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub needs: BTreeMap<String, Need>,
    /// Services that it finds by other names too: the service and the name.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub links: Vec<(String, String)>,
    /// Services and containers whose mounts it has too.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub volumes_from: Vec<MountsOf>,
    /// Configs that it has.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub configs: Vec<FileUse>,
    /// Secrets that it has.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub secrets: Vec<FileUse>,
    /// How its image is built; fetched when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub build: Option<Build>,
    /// The image is pulled again when the host's is older than this many milliseconds.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub fetched_again_after_ms: Option<u64>,
    /// How its containers are changed.
    #[serde(default)]
    pub update: Change,
    /// How they are put back when a change fails.
    #[serde(default)]
    pub rollback: Change,
    /// What is run before it is started.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub before_start: Vec<Hook>,
    /// What is run in it once it is started.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub after_start: Vec<Hook>,
    /// What is run in it before it is stopped.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub before_stop: Vec<Hook>,
}

/// When a service counts as there for those that need it.
#[derive(
    Debug,
    Clone,
    Copy,
    PartialEq,
    Eq,
    Default,
    Serialize,
    Deserialize,
    strum::EnumString,
    strum::IntoStaticStr,
)]
#[serde(rename_all = "snake_case")]
#[strum(serialize_all = "snake_case")]
pub enum Condition {
    /// It is started.
    #[default]
    ServiceStarted,
    /// Its health check is passed.
    ServiceHealthy,
    /// It ended with the code 0.
    ServiceCompletedSuccessfully,
}

/// How a service needs another one.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct Need {
    /// When the other one counts as there.
    pub condition: Condition,
    /// It is restarted when the other one is recreated.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub restart: bool,
    /// Without the other one it is not started.
    pub required: bool,
}

impl Default for Need {
    fn default() -> Self {
        Self { condition: Condition::ServiceStarted, restart: false, required: true }
    }
}

/// Mounts that another container has too.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct MountsOf {
    /// A service of the stack, or `container:NAME`.
    pub of: String,
    /// They can only be read here.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub read_only: bool,
}

/// A config or a secret in a container.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct FileUse {
    /// Which one.
    pub source: String,
    /// Where it is inside.
    pub target: String,
    /// The number of the user it belongs to.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub user: Option<u32>,
    /// The group id.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub group: Option<u32>,
    /// Its mode; 0444 when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub mode: Option<u32>,
}

/// Where a config or a secret comes from.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum FileSource {
    /// A file beside the stack (`./…`), or of the host.
    File(String),
    /// A variable around the stack.
    Environment(String),
    /// Its text itself.
    Content(String),
    /// It is kept by Gubernum under this name.
    External(String),
}

/// A network.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
pub struct Network {
    /// Its name at the engine; made from the stack's when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub name: Option<String>,
    /// It exists already and is not changed.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub external: bool,
    /// Its driver; the engine's usual one when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub driver: Option<String>,
    /// Driver options.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub options: BTreeMap<String, String>,
    /// Labels.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub labels: BTreeMap<String, String>,
    /// Nothing in it reaches outside.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub internal: bool,
    /// Containers outside of the stack may join it.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub attachable: bool,
    /// Whether it has IPv4 addresses.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ipv4: Option<bool>,
    /// Whether it has IPv6 addresses.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ipv6: Option<bool>,
    /// What gives its addresses.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub address_driver: Option<String>,
    /// Options of that.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub address_options: BTreeMap<String, String>,
    /// Its ranges of addresses.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub ranges: Vec<AddressRange>,
}

/// A range of addresses.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
pub struct AddressRange {
    /// All of it, e.g. `172.30.0.0/24`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub subnet: Option<String>,
    /// The part of which containers get theirs.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub range: Option<String>,
    /// The gateway.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub gateway: Option<String>,
    /// Addresses that others have.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub taken: BTreeMap<String, String>,
}

/// A volume.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
pub struct Volume {
    /// Its name at the engine; made from the stack's when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub name: Option<String>,
    /// It exists already and is not changed.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub external: bool,
    /// The driver; `local` when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub driver: Option<String>,
    /// Driver options.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub options: BTreeMap<String, String>,
    /// Labels.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub labels: BTreeMap<String, String>,
}

/// How an image is built.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
pub struct Build {
    /// The folder, seen from the stack's, or an address.
    #[serde(default)]
    pub context: String,
    /// The file with the steps, seen from there; `Dockerfile` when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub file: Option<String>,
    /// The steps themselves.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub steps: Option<String>,
    /// Values for the steps; those without one are around the stack.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub arguments: BTreeMap<String, Option<String>>,
    /// Images whose layers may be used.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub cache_from: Vec<String>,
    /// Further names, as `name:address`.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub hosts: Vec<String>,
    /// Labels of the image.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub labels: BTreeMap<String, String>,
    /// The network in which the steps are run.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub network: Option<String>,
    /// Nothing is taken from the cache.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub without_cache: bool,
    /// Its base images are pulled even if present.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub pull: bool,
    /// The platform; the host's when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub platform: Option<String>,
    /// Bytes of `/dev/shm` for the steps.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub shared_memory: Option<u64>,
    /// Further names of the image.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub tags: Vec<String>,
    /// Target stage.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub target: Option<String>,
    /// The kernel's limits for the steps.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub each_process: Vec<crate::definition::ProcessLimit>,
    /// It is built at each deployment.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub always: bool,
}

/// What is done when a change fails.
#[derive(
    Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, strum::EnumString, strum::IntoStaticStr,
)]
#[serde(rename_all = "lowercase")]
#[strum(serialize_all = "lowercase")]
pub enum FailureAction {
    /// The other containers are changed all the same.
    Continue,
    /// It stops there.
    Pause,
    /// What was comes back.
    Rollback,
}

/// How containers of a service are changed.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize)]
pub struct Change {
    /// How many at once; all when 0, one when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub at_once: Option<u32>,
    /// Milliseconds between two.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub pause_ms: Option<u64>,
    /// What is done when one fails; chosen with the deployment when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub on_failure: Option<FailureAction>,
    /// Milliseconds for which a new one is watched.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub watch_ms: Option<u64>,
    /// The share of those that may fail.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub may_fail: Option<f64>,
    /// The new one is started before the old one is stopped.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub starts_first: Option<bool>,
}

/// A command that is run at a moment of a container's life.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
pub struct Hook {
    /// The command.
    pub command: Vec<String>,
    /// As whom; the container's user when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub user: Option<String>,
    /// It may do everything that the host's root may.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub privileged: bool,
    /// Where; the container's folder when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub working_folder: Option<String>,
    /// Its variables, besides the container's.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub environment: BTreeMap<String, String>,
}
