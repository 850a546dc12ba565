//! Privileges, capabilities, devices and namespaces of a container.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

/// A device of the host.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct DeviceRule {
    /// Its path on the host.
    pub host: String,
    /// Path in the container; the same when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub container: Option<String>,
    /// Of `r`, `w`, `m`; all when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub permissions: Option<String>,
}

/// A GPU reservation.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct GpuRule {
    /// Number of GPUs; -1 for all.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub count: Option<i64>,
    /// Device ids, instead of a count.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub ids: Vec<String>,
    /// The driver, such as `nvidia`; the engine's when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub driver: Option<String>,
    /// Required capabilities, such as `compute`.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub abilities: Vec<String>,
    /// Driver options.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    #[cfg_attr(feature = "schema", schema(value_type = std::collections::HashMap<String, String>))]
    pub options: BTreeMap<String, String>,
}

/// Privileges and namespaces of a container.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct Rights {
    /// Privileged mode.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub privileged: bool,
    /// Read-only root filesystem.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub read_only: bool,
    /// Added capabilities.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub add: Vec<String>,
    /// Dropped capabilities.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub drop: Vec<String>,
    /// Devices.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub devices: Vec<DeviceRule>,
    /// Device cgroup rules, such as `c 1:3 mr`.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub device_rules: Vec<String>,
    /// Graphics processors.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub gpus: Option<GpuRule>,
    /// Security options, such as `no-new-privileges`.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub security: Vec<String>,
    /// Additional groups.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub groups: Vec<String>,
    /// Sysctls.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    #[cfg_attr(feature = "schema", schema(value_type = std::collections::HashMap<String, String>))]
    pub kernel: BTreeMap<String, String>,
    /// PID namespace: `host` or `container:name`; private when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub processes_of: Option<String>,
    /// IPC namespace: `host`, `shareable`, `private` or `container:name`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub memory_of: Option<String>,
    /// UTS namespace: `host`; private when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub hostname_of: Option<String>,
    /// cgroup namespace: `host` or `private`; the engine's default when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub groups_of: Option<String>,
    /// User namespace: `host` disables user namespace remapping.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub users_of: Option<String>,
}
