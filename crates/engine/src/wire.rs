//! The engine's JSON, as far as we read it. Lenient: engines leave out, add and null fields.

use std::collections::BTreeMap;

use http::StatusCode;
use serde::{Deserialize, Deserializer};

/// Reads `null` as the default: engines write it for empty lists and maps.
fn nullable<'de, D: Deserializer<'de>, T: Deserialize<'de> + Default>(d: D) -> Result<T, D::Error> {
    Ok(Option::deserialize(d)?.unwrap_or_default())
}

#[derive(Debug, Deserialize)]
#[serde(rename_all = "PascalCase")]
pub(crate) struct Version {
    pub(crate) version: String,
    pub(crate) api_version: String,
    #[serde(default)]
    pub(crate) os: String,
    #[serde(default)]
    pub(crate) arch: String,
    #[serde(default, deserialize_with = "nullable")]
    pub(crate) components: Vec<Component>,
}

#[derive(Debug, Deserialize)]
#[serde(rename_all = "PascalCase")]
pub(crate) struct Component {
    #[serde(default)]
    pub(crate) name: String,
}

#[derive(Debug, Deserialize)]
#[serde(rename_all = "PascalCase")]
pub(crate) struct Info {
    #[serde(default)]
    pub(crate) name: String,
    #[serde(default, rename = "NCPU")]
    pub(crate) processors: Option<u32>,
    #[serde(default)]
    pub(crate) mem_total: Option<u64>,
    #[serde(default, deserialize_with = "nullable")]
    pub(crate) operating_system: String,
    #[serde(default, deserialize_with = "nullable", rename = "OSVersion")]
    pub(crate) os_version: String,
    #[serde(default, deserialize_with = "nullable")]
    pub(crate) kernel_version: String,
    #[serde(default, deserialize_with = "nullable")]
    pub(crate) cgroup_version: String,
    #[serde(default, deserialize_with = "nullable")]
    pub(crate) driver: String,
    #[serde(default, deserialize_with = "nullable")]
    pub(crate) docker_root_dir: String,
    #[serde(default, deserialize_with = "nullable")]
    pub(crate) system_time: String,
    #[serde(default, deserialize_with = "nullable")]
    pub(crate) warnings: Vec<String>,
}

/// What was made.
#[derive(Debug, Deserialize)]
#[serde(rename_all = "PascalCase")]
pub(crate) struct Created {
    pub(crate) id: String,
}

/// podman's own answer, of which only what the common one lacks is read.
#[derive(Debug, Default, Deserialize)]
#[serde(default)]
pub(crate) struct PodmanInfo {
    pub(crate) host: PodmanHost,
    pub(crate) store: PodmanStore,
}

#[derive(Debug, Default, Deserialize)]
#[serde(rename_all = "camelCase", default)]
pub(crate) struct PodmanHost {
    pub(crate) mem_free: Option<u64>,
    pub(crate) uptime: Option<String>,
}

#[derive(Debug, Default, Deserialize)]
#[serde(rename_all = "camelCase", default)]
pub(crate) struct PodmanStore {
    pub(crate) graph_root_allocated: Option<u64>,
    pub(crate) graph_root_used: Option<u64>,
}

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
    #[serde(default, deserialize_with = "nullable")]
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
    #[serde(default, deserialize_with = "nullable")]
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
    #[serde(default, deserialize_with = "nullable")]
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
}

#[derive(Debug, Deserialize)]
#[serde(rename_all = "PascalCase")]
pub(crate) struct Processes {
    #[serde(default, deserialize_with = "nullable")]
    pub(crate) titles: Vec<String>,
    #[serde(default, deserialize_with = "nullable")]
    pub(crate) processes: Vec<Vec<String>>,
}

#[derive(Debug, Deserialize)]
#[serde(rename_all = "PascalCase")]
pub(crate) struct ChangedFile {
    pub(crate) path: String,
    pub(crate) kind: u8,
}

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

#[derive(Debug, Deserialize)]
#[serde(rename_all = "PascalCase")]
pub(crate) struct Summary {
    pub(crate) id: String,
}

#[derive(Debug, Deserialize)]
#[serde(rename_all = "PascalCase")]
pub(crate) struct Inspect {
    pub(crate) id: String,
    pub(crate) name: String,
    pub(crate) created: String,
    #[serde(default)]
    pub(crate) path: String,
    #[serde(default, deserialize_with = "nullable")]
    pub(crate) args: Vec<String>,
    pub(crate) state: State,
    #[serde(default)]
    pub(crate) image: String,
    #[serde(default)]
    pub(crate) restart_count: u64,
    pub(crate) config: Config,
    #[serde(default, deserialize_with = "nullable")]
    pub(crate) host_config: HostConfig,
    #[serde(default, deserialize_with = "nullable")]
    pub(crate) mounts: Vec<Mount>,
    #[serde(default, deserialize_with = "nullable")]
    pub(crate) network_settings: NetworkSettings,
}

#[derive(Debug, Deserialize)]
#[serde(rename_all = "PascalCase")]
pub(crate) struct State {
    #[serde(default)]
    pub(crate) status: String,
    #[serde(default, rename = "OOMKilled")]
    pub(crate) oom_killed: bool,
    #[serde(default)]
    pub(crate) exit_code: i64,
    #[serde(default, deserialize_with = "nullable")]
    pub(crate) error: String,
    #[serde(default, deserialize_with = "nullable")]
    pub(crate) started_at: String,
    #[serde(default, deserialize_with = "nullable")]
    pub(crate) finished_at: String,
    #[serde(default, alias = "Healthcheck")]
    pub(crate) health: Option<Health>,
}

#[derive(Debug, Deserialize)]
#[serde(rename_all = "PascalCase")]
pub(crate) struct Health {
    #[serde(default, deserialize_with = "nullable")]
    pub(crate) status: String,
    #[serde(default)]
    pub(crate) failing_streak: u32,
    #[serde(default, deserialize_with = "nullable")]
    pub(crate) log: Vec<HealthLog>,
}

#[derive(Debug, Deserialize)]
#[serde(rename_all = "PascalCase")]
pub(crate) struct HealthLog {
    #[serde(default)]
    pub(crate) exit_code: i64,
    #[serde(default, deserialize_with = "nullable")]
    pub(crate) output: String,
}

#[derive(Debug, Deserialize)]
#[serde(rename_all = "PascalCase")]
pub(crate) struct Config {
    #[serde(default)]
    pub(crate) image: String,
    #[serde(default)]
    pub(crate) tty: bool,
    #[serde(default, deserialize_with = "nullable")]
    pub(crate) labels: BTreeMap<String, String>,
    #[serde(default, deserialize_with = "nullable")]
    pub(crate) exposed_ports: BTreeMap<String, serde_json::Value>,
    #[serde(default)]
    pub(crate) stop_timeout: Option<i64>,
}

#[derive(Debug, Default, Deserialize)]
#[serde(rename_all = "PascalCase", default)]
pub(crate) struct HostConfig {
    #[serde(deserialize_with = "nullable")]
    pub(crate) restart_policy: RestartPolicy,
    #[serde(deserialize_with = "nullable")]
    pub(crate) port_bindings: Bindings,
    pub(crate) memory: i64,
    #[serde(deserialize_with = "nullable")]
    pub(crate) network_mode: String,
}

#[derive(Debug, Default, Deserialize)]
#[serde(rename_all = "PascalCase", default)]
pub(crate) struct RestartPolicy {
    #[serde(deserialize_with = "nullable")]
    pub(crate) name: String,
}

pub(crate) type Bindings = BTreeMap<String, Option<Vec<Binding>>>;

#[derive(Debug, Default, Deserialize)]
#[serde(rename_all = "PascalCase", default)]
pub(crate) struct Binding {
    #[serde(deserialize_with = "nullable")]
    pub(crate) host_ip: String,
    #[serde(deserialize_with = "nullable")]
    pub(crate) host_port: String,
}

#[derive(Debug, Default, Deserialize)]
#[serde(rename_all = "PascalCase", default)]
pub(crate) struct NetworkSettings {
    #[serde(deserialize_with = "nullable")]
    pub(crate) ports: Bindings,
    #[serde(deserialize_with = "nullable")]
    pub(crate) networks: BTreeMap<String, Option<Endpoint>>,
}

#[derive(Debug, Default, Deserialize)]
#[serde(rename_all = "PascalCase", default)]
pub(crate) struct Endpoint {
    #[serde(rename = "IPAddress", deserialize_with = "nullable")]
    pub(crate) address: String,
    #[serde(rename = "GlobalIPv6Address", deserialize_with = "nullable")]
    pub(crate) ipv6: String,
    #[serde(deserialize_with = "nullable")]
    pub(crate) aliases: Vec<String>,
}

#[derive(Debug, Deserialize)]
#[serde(rename_all = "PascalCase")]
pub(crate) struct Mount {
    #[serde(default, rename = "Type")]
    pub(crate) kind: String,
    #[serde(default, deserialize_with = "nullable")]
    pub(crate) name: String,
    #[serde(default, deserialize_with = "nullable")]
    pub(crate) source: String,
    #[serde(default)]
    pub(crate) destination: String,
    #[serde(default, rename = "RW")]
    pub(crate) writable: bool,
}

#[derive(Debug, Deserialize)]
#[serde(rename_all = "PascalCase")]
pub(crate) struct Event {
    #[serde(default, rename = "Type")]
    pub(crate) kind: String,
    #[serde(default)]
    pub(crate) action: String,
    #[serde(default)]
    pub(crate) actor: Actor,
    #[serde(default, rename = "time")]
    pub(crate) time: i64,
    #[serde(default, rename = "timeNano")]
    pub(crate) time_nano: i64,
}

#[derive(Debug, Default, Deserialize)]
pub(crate) struct Actor {
    #[serde(default, rename = "ID")]
    pub(crate) id: String,
    #[serde(default, rename = "Attributes", deserialize_with = "nullable")]
    pub(crate) attributes: BTreeMap<String, String>,
}

/// `1.41` as two numbers.
pub(crate) fn api_version(text: &str) -> Option<(u32, u32)> {
    let (major, minor) = text.split_once('.')?;
    Some((major.parse().ok()?, minor.parse().ok()?))
}

/// The engine's own words in an error's body; both engines send `{"message": …}`.
pub(crate) fn error_text(body: &[u8], status: StatusCode) -> String {
    #[derive(Deserialize)]
    struct Message {
        message: String,
    }
    let text = match serde_json::from_slice::<Message>(body) {
        Ok(m) => m.message,
        Err(_) => String::from_utf8_lossy(body).trim().to_owned(),
    };
    let text = gubernum_core::text::shown(text.trim(), 1000);
    if text.is_empty() { format!("the engine answered with status {status} and no reason") } else { text }
}
