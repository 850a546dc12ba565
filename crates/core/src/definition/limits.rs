//! How much a container may use.

use serde::{Deserialize, Serialize};

/// A limit of the kernel for each process.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct ProcessLimit {
    /// Its name, e.g. `nofile`.
    pub name: String,
    /// The soft limit.
    pub soft: i64,
    /// The hard limit.
    pub hard: i64,
}

/// How much it may use.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct Limits {
    /// Bytes of memory.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub memory: Option<u64>,
    /// Bytes of memory and swap together; -1 for endless swap.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub memory_and_swap: Option<i64>,
    /// Bytes that it is pressed down to when the host runs short.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub memory_reserved: Option<u64>,
    /// Bytes of `/dev/shm`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub shared_memory: Option<u64>,
    /// Processors, e.g. 1.5.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub processors: Option<f64>,
    /// Its weight against others when processors are short (1024 is usual).
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub processor_weight: Option<u32>,
    /// The processors it may run on, e.g. `0-2,4`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub processor_set: Option<String>,
    /// Processes; -1 for no limit.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub processes: Option<i64>,
    /// The kernel's limits for each process.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub each_process: Vec<ProcessLimit>,
    /// -1000 to 1000: who is ended first when memory runs out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub out_of_memory_score: Option<i32>,
    /// It is not ended when its memory runs out; it waits.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub waits_for_memory: bool,
    /// 0 to 100: how readily its memory is swapped out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub swappiness: Option<u8>,
    /// Microseconds of a period in which its time on processors is counted.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub processor_period: Option<u64>,
    /// Microseconds of processors in each such period; -1 for no limit.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub processor_quota: Option<i64>,
    /// Microseconds of a period in which its real-time tasks are counted.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub real_time_period: Option<u64>,
    /// Microseconds that real-time tasks have in each such period.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub real_time_runtime: Option<u64>,
    /// The control group in which its own is made.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub control_group: Option<String>,
    /// Its use of block devices.
    #[serde(default, skip_serializing_if = "BlockLimits::is_unset")]
    pub block: BlockLimits,
}

/// How much it may read from a block device and write to it.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct BlockLimits {
    /// Its weight against others, 10 to 1000.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub weight: Option<u16>,
    /// Weights for single devices.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub weights: Vec<BlockDeviceWeight>,
    /// Bytes read a second.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub read_bytes: Vec<BlockDeviceRate>,
    /// Bytes written a second.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub write_bytes: Vec<BlockDeviceRate>,
    /// Reads a second.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub reads: Vec<BlockDeviceRate>,
    /// Writes a second.
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

/// A limit of one device.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct BlockDeviceRate {
    /// Its path on the host.
    pub path: String,
    /// How much a second.
    pub rate: u64,
}
