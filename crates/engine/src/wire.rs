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
    pub(crate) networks: BTreeMap<String, serde_json::Value>,
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
