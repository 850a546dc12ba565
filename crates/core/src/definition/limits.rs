//! Resource limits of a container.

use serde::{Deserialize, Serialize};

/// A ulimit.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct ProcessLimit {
    /// The name, such as `nofile`.
    pub name: String,
    /// The soft limit.
    pub soft: i64,
    /// The hard limit.
    pub hard: i64,
}

/// Resource limits.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct Limits {
    /// Memory limit in bytes.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub memory: Option<u64>,
    /// Memory plus swap limit in bytes; -1 for unlimited swap.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub memory_and_swap: Option<i64>,
    /// Memory reservation (soft limit) in bytes.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub memory_reserved: Option<u64>,
    /// Size of `/dev/shm` in bytes.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub shared_memory: Option<u64>,
    /// CPU limit, such as 1.5.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub processors: Option<f64>,
    /// CPU weight (shares); the default is 1024.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub processor_weight: Option<u32>,
    /// CPUs it may use, such as `0-2,4`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub processor_set: Option<String>,
    /// Process limit; -1 for none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub processes: Option<i64>,
    /// Ulimits.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub each_process: Vec<ProcessLimit>,
    /// OOM score adjustment, -1000 to 1000: higher is killed first.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub out_of_memory_score: Option<i32>,
    /// Disable the OOM killer: it waits for memory instead.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub waits_for_memory: bool,
    /// Swappiness, 0 to 100.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub swappiness: Option<u8>,
    /// CPU period in microseconds.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub processor_period: Option<u64>,
    /// CPU quota per period in microseconds; -1 for none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub processor_quota: Option<i64>,
    /// Real-time CPU period in microseconds.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub real_time_period: Option<u64>,
    /// Real-time CPU runtime per period in microseconds.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub real_time_runtime: Option<u64>,
    /// Parent cgroup.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub control_group: Option<String>,
    /// Block I/O limits.
    #[serde(default, skip_serializing_if = "BlockLimits::is_unset")]
    pub block: BlockLimits,
}

/// Block I/O limits.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct BlockLimits {
    /// Block I/O weight, 10 to 1000.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub weight: Option<u16>,
    /// Weights of single devices.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub weights: Vec<BlockDeviceWeight>,
    /// Read limits, in bytes per second.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub read_bytes: Vec<BlockDeviceRate>,
    /// Write limits, in bytes per second.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub write_bytes: Vec<BlockDeviceRate>,
    /// Read limits, in operations per second.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub reads: Vec<BlockDeviceRate>,
    /// Write limits, in operations per second.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub writes: Vec<BlockDeviceRate>,
}

impl BlockLimits {
    /// Whether nothing is limited.
    pub fn is_unset(&self) -> bool {
        *self == Self::default()
    }
}

/// The weight of one device.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct BlockDeviceWeight {
    /// Its path on the host.
    pub path: String,
    /// The weight, 10 to 1000.
    pub weight: u16,
}

/// A rate limit for one device.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct BlockDeviceRate {
    /// Its path on the host.
    pub path: String,
    /// Bytes or operations per second.
    pub rate: u64,
}
