//! The engine's JSON, as far as it is read. Lenient: engines omit, add and null fields.
//!
//! The engine itself and its events are here; containers, what hosts hold and samples of use are in the modules below.

mod assets;
mod containers;
mod usage;

pub(crate) use assets::*;
pub(crate) use containers::*;
pub(crate) use usage::*;

use std::collections::BTreeMap;

use http::StatusCode;
use serde::{Deserialize, Deserializer};

/// Reads `null` as the default: engines write it for empty lists and maps.
fn nullable<'de, D: Deserializer<'de>, T: Deserialize<'de> + Default>(d: D) -> Result<T, D::Error> {
    Ok(Option::deserialize(d)?.unwrap_or_default())
}

/// Reads labels, those of early versions under their present names.
fn labels<'de, D: Deserializer<'de>>(d: D) -> Result<BTreeMap<String, String>, D::Error> {
    nullable(d).map(gubernum_core::own_labels::current)
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

/// The engine's message in an error's body; both engines send `{"message": …}`.
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
