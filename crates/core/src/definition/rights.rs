//! What a container may do beyond the usual, and what of the host it sees.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

/// A device of the host.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct DeviceRule {
    /// Its path on the host.
    pub host: String,
    /// Its path inside; the same when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub container: Option<String>,
    /// Of `r`, `w`, `m`; all when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub permissions: Option<String>,
}

/// Graphics processors.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct GpuRule {
    /// How many; -1 for all.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub count: Option<i64>,
    /// Or these.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub ids: Vec<String>,
    /// The driver, e.g. `nvidia`; the engine's when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub driver: Option<String>,
    /// What they must be able to do, besides being there, e.g. `compute`.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub abilities: Vec<String>,
    /// Options of the driver.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    #[cfg_attr(feature = "schema", schema(value_type = std::collections::HashMap<String, String>))]
    pub options: BTreeMap<String, String>,
}

/// What it may do beyond the usual.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct Rights {
    /// Everything that the host's root may.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub privileged: bool,
    /// Its own files cannot be written.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub read_only: bool,
    /// Capabilities added.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub add: Vec<String>,
    /// Capabilities removed.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub drop: Vec<String>,
    /// Devices.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub devices: Vec<DeviceRule>,
    /// Rules for devices that are not named, e.g. `c 1:3 mr`.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub device_rules: Vec<String>,
    /// Graphics processors.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub gpus: Option<GpuRule>,
    /// Security options, e.g. `no-new-privileges`.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub security: Vec<String>,
    /// Further groups.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub groups: Vec<String>,
    /// Kernel settings of its own.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    #[cfg_attr(feature = "schema", schema(value_type = std::collections::HashMap<String, String>))]
    pub kernel: BTreeMap<String, String>,
    /// Whose processes it sees: its own when absent, `host` or `container:name`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub processes_of: Option<String>,
    /// Whose memory it shares: `host`, `shareable`, `private`, `container:name`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub memory_of: Option<String>,
    /// Whose host name it has: its own when absent, or `host`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub hostname_of: Option<String>,
    /// Whose control groups it sees: `host` or `private`; the engine's choice when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub groups_of: Option<String>,
    /// `host` to do without the engine's mapping of users.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub users_of: Option<String>,
}
