//! Containers, their processes and their changed files, in the engine's JSON.

use std::collections::BTreeMap;

use serde::Deserialize;

use super::{labels, nullable};

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
    #[serde(default, deserialize_with = "labels")]
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
