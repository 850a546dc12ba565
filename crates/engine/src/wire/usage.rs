//! Samples of resource usage, in the engine's JSON.

use std::collections::BTreeMap;

use serde::Deserialize;

use super::nullable;

/// dockerd's sample. Its keys are the kernel's, which differ between the two ways of accounting.
#[derive(Debug, Deserialize)]
pub(crate) struct Stats {
    pub(crate) read: String,
    #[serde(default, deserialize_with = "nullable")]
    pub(crate) cpu_stats: CpuStats,
    #[serde(default, deserialize_with = "nullable")]
    pub(crate) memory_stats: MemoryStats,
    #[serde(default, deserialize_with = "nullable")]
    pub(crate) pids_stats: PidsStats,
    #[serde(default, deserialize_with = "nullable")]
    pub(crate) blkio_stats: BlkioStats,
    #[serde(default)]
    pub(crate) networks: Option<BTreeMap<String, NetworkStats>>,
}

#[derive(Debug, Default, Deserialize)]
#[serde(default)]
pub(crate) struct CpuStats {
    #[serde(deserialize_with = "nullable")]
    pub(crate) cpu_usage: CpuUsage,
}

#[derive(Debug, Default, Deserialize)]
#[serde(default)]
pub(crate) struct CpuUsage {
    pub(crate) total_usage: u64,
}

#[derive(Debug, Default, Deserialize)]
#[serde(default)]
pub(crate) struct MemoryStats {
    pub(crate) usage: Option<u64>,
    pub(crate) limit: Option<u64>,
    #[serde(deserialize_with = "nullable")]
    pub(crate) stats: BTreeMap<String, serde_json::Value>,
}

#[derive(Debug, Default, Deserialize)]
#[serde(default)]
pub(crate) struct PidsStats {
    pub(crate) current: Option<u64>,
}

#[derive(Debug, Default, Deserialize)]
#[serde(default)]
pub(crate) struct BlkioStats {
    pub(crate) io_service_bytes_recursive: Option<Vec<BlkioEntry>>,
}

#[derive(Debug, Default, Deserialize)]
#[serde(default)]
pub(crate) struct BlkioEntry {
    pub(crate) op: String,
    pub(crate) value: u64,
}

#[derive(Debug, Default, Deserialize)]
#[serde(default)]
pub(crate) struct NetworkStats {
    pub(crate) rx_bytes: u64,
    pub(crate) tx_bytes: u64,
}

/// podman's samples of all containers at once.
#[derive(Debug, Deserialize)]
#[serde(rename_all = "PascalCase")]
pub(crate) struct PodmanStats {
    #[serde(default, deserialize_with = "nullable")]
    pub(crate) stats: Vec<PodmanStat>,
}

#[derive(Debug, Deserialize)]
#[serde(rename_all = "PascalCase")]
pub(crate) struct PodmanStat {
    #[serde(rename = "ContainerID")]
    pub(crate) container_id: String,
    #[serde(default, rename = "CPUNano")]
    pub(crate) cpu_nano: u64,
    #[serde(default)]
    pub(crate) system_nano: u64,
    #[serde(default)]
    pub(crate) mem_usage: u64,
    #[serde(default)]
    pub(crate) mem_limit: u64,
    #[serde(default)]
    pub(crate) net_input: u64,
    #[serde(default)]
    pub(crate) net_output: u64,
    #[serde(default)]
    pub(crate) block_input: u64,
    #[serde(default)]
    pub(crate) block_output: u64,
    #[serde(default, rename = "PIDs")]
    pub(crate) pids: u64,
}
