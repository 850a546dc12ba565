//! The differences between two definitions, and whether an engine can apply them in place.

use serde::{Deserialize, Serialize};
use serde_json::Value;

use super::{Definition, units};
use crate::mask::{MASK, looks_secret};

/// One setting that differs.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Difference {
    /// The setting, e.g. `environment TZ` or `limits memory`.
    pub setting: String,
    /// The current value; absent when not set.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub from: Option<String>,
    /// The new value; absent when removed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub to: Option<String>,
}

impl Difference {
    /// The whole in words.
    pub fn words(&self) -> String {
        match (&self.from, &self.to) {
            (None, Some(to)) if is_list(&self.setting) => format!("{}: + {to}", self.setting),
            (Some(from), None) if is_list(&self.setting) => format!("{}: − {from}", self.setting),
            (Some(from), Some(to)) => format!("{}: {from} → {to}", self.setting),
            (None, Some(to)) => format!("{}: {to} (new)", self.setting),
            (Some(from), None) => format!("{}: {from} (removed)", self.setting),
            (None, None) => self.setting.clone(),
        }
    }
}

/// What differs, in the order of the form. Values that look like secrets are hidden.
pub fn difference(from: &Definition, to: &Definition) -> Vec<Difference> {
    let mut out = Vec::new();
    let variables = |d: &Definition| -> serde_json::Map<String, Value> {
        d.environment.iter().map(|e| (e.name.clone(), Value::String(e.value.clone()))).collect()
    };
    let flat = |d: &Definition| {
        let mut value = serde_json::to_value(d).unwrap_or_default();
        if let Some(map) = value.as_object_mut() {
            map.insert("environment".into(), Value::Object(variables(d)));
            map.remove("pull");
            // In which order things are mounted means nothing, and engines tell it as they like.
            if let Some(mounts) = map.get_mut("mounts").and_then(Value::as_array_mut) {
                mounts.sort_by_key(|m| m["target"].as_str().map(str::to_owned));
            }
        }
        value
    };
    walk("", &flat(from), &flat(to), &mut out);
    out
}

/// Settings of which there are several: each one that comes or goes is a difference of its own.
const LISTS: [&str; 4] = ["ports", "mounts", "network networks", "devices"];

fn is_list(setting: &str) -> bool {
    LISTS.contains(&setting)
}

/// One element of a list as a person writes it: `7362→8081/udp`, `readings→/data (read-only)`, `cold-chain (10.91.4.9)`.
fn element(setting: &str, value: &Value) -> String {
    let text = |key: &str| value[key].as_str().filter(|t| !t.is_empty());
    let words = match setting {
        "ports" => {
            let inner = value["container_port"].as_u64().unwrap_or(0);
            let protocol =
                text("protocol").filter(|p| *p != "tcp").map(|p| format!("/{p}")).unwrap_or_default();
            let address = text("address").map(|a| format!("{a}:")).unwrap_or_default();
            match value["host_port"].as_u64() {
                Some(port) => format!("{address}{port}→{inner}{protocol}"),
                None => format!("{address}any free port→{inner}{protocol}"),
            }
        }
        "mounts" => {
            let source = text("source").unwrap_or("anonymous volume");
            let source = if text("kind") == Some("tmpfs") { "memory" } else { source };
            let target = text("target").unwrap_or_default();
            let more = if value["read_only"].as_bool() == Some(true) { " (read-only)" } else { "" };
            format!("{source}→{target}{more}")
        }
        "network networks" => {
            let aliases = value["aliases"].as_array().into_iter().flatten().filter_map(Value::as_str);
            let more: Vec<String> = [text("address"), text("ipv6")]
                .into_iter()
                .flatten()
                .map(str::to_owned)
                .chain(aliases.map(|a| format!("alias {a}")))
                .collect();
            let name = text("name").unwrap_or_default();
            if more.is_empty() { name.to_owned() } else { format!("{name} ({})", more.join(", ")) }
        }
        _ => plain(value),
    };
    crate::text::shown(&words, 200)
}

/// Any value without the signs of JSON: `a, b`, `key value`.
fn plain(value: &Value) -> String {
    match value {
        Value::String(text) => text.clone(),
        Value::Array(all) => all.iter().map(plain).collect::<Vec<_>>().join(", "),
        Value::Object(all) => {
            let set = all.iter().filter(|(_, v)| !v.is_null());
            set.map(|(key, v)| format!("{key} {}", plain(v))).collect::<Vec<_>>().join(" ")
        }
        Value::Bool(true) => "yes".to_owned(),
        Value::Bool(false) => "no".to_owned(),
        other => other.to_string(),
    }
}

fn shown(setting: &str, value: &Value) -> String {
    if let Some(name) = setting.strip_prefix("environment ")
        && looks_secret(name, value.as_str().unwrap_or_default())
    {
        return MASK.to_owned();
    }
    if let Some(number) = value.as_u64() {
        let last = setting.rsplit(' ').next().unwrap_or_default();
        if setting.starts_with("limits ") && last.contains("memory") {
            return units::size(number);
        }
        if last.ends_with("_ms") {
            return units::span(number);
        }
    }
    let words = value.as_array().and_then(|all| {
        let words: Option<Vec<String>> = all.iter().map(|v| v.as_str().map(str::to_owned)).collect();
        words.map(|words| crate::mask::arguments(&words).join(" "))
    });
    if let Some(name) = setting.strip_prefix("labels ")
        && looks_secret(name, value.as_str().unwrap_or_default())
    {
        return MASK.to_owned();
    }
    crate::text::shown(&words.unwrap_or_else(|| crate::mask::text(&plain(value))), 200)
}

fn walk(setting: &str, from: &Value, to: &Value, out: &mut Vec<Difference>) {
    if from == to {
        return;
    }
    let empty = |v: &Value| match v {
        Value::Null => true,
        Value::Object(m) => m.is_empty(),
        Value::Array(a) => a.is_empty(),
        Value::String(s) => s.is_empty(),
        _ => false,
    };
    if let (Value::Object(a), Value::Object(b)) = (from, to) {
        let mut keys: Vec<&String> = a.keys().chain(b.keys()).collect();
        keys.sort();
        keys.dedup();
        for key in keys {
            let inner = if setting.is_empty() { key.clone() } else { format!("{setting} {key}") };
            walk(&inner, a.get(key).unwrap_or(&Value::Null), b.get(key).unwrap_or(&Value::Null), out);
        }
        return;
    }
    match (from, to) {
        (Value::Object(m), _) | (_, Value::Object(m)) if !m.is_empty() => {
            let blank = Value::Object(serde_json::Map::new());
            let (a, b) = if from.is_object() { (from, &blank) } else { (&blank, to) };
            return walk(setting, a, b, out);
        }
        _ => {}
    }
    if is_list(setting) {
        let elements = |v: &Value| -> Vec<String> {
            v.as_array().into_iter().flatten().map(|e| element(setting, e)).collect()
        };
        let (before, after) = (elements(from), elements(to));
        let gone = before.iter().filter(|e| !after.contains(e));
        out.extend(gone.map(|e| Difference { setting: setting.to_owned(), from: Some(e.clone()), to: None }));
        let come = after.iter().filter(|e| !before.contains(e));
        let all: Vec<Difference> = come
            .map(|e| Difference { setting: setting.to_owned(), from: None, to: Some(e.clone()) })
            .collect();
        // What differs in something that the words do not say is still a difference.
        if all.is_empty() && before.iter().all(|e| after.contains(e)) {
            let words = |v: &Value| Some(crate::text::shown(&plain(v), 200));
            out.push(Difference { setting: setting.to_owned(), from: words(from), to: words(to) });
        }
        out.extend(all);
        return;
    }
    let side = |v: &Value| {
        (!empty(v) || v.is_string() && setting.starts_with("environment ")).then(|| shown(setting, v))
    };
    let (from, to) = (side(from), side(to));
    if from.is_some() || to.is_some() {
        out.push(Difference { setting: setting.to_owned(), from, to });
    }
}

/// Whether all that differs is what engines can change while a container runs: limits and the restart
/// policy. (Its name too, which is not part of this.)
pub fn only_in_place(differences: &[Difference]) -> bool {
    const IN_PLACE: [&str; 8] = [
        "limits memory",
        "limits memory_and_swap",
        "limits memory_reserved",
        "limits processors",
        "limits processor_weight",
        "limits processor_set",
        "limits processes",
        "name",
    ];
    // Taking a limit away in place is something engines do not agree on.
    differences.iter().all(|d| {
        (IN_PLACE.contains(&d.setting.as_str()) && d.to.is_some()) || d.setting.starts_with("restart")
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::definition::EnvironmentEntry;

    fn with(name: &str, value: &str) -> Definition {
        let mut d = Definition::for_image("x");
        d.environment.push(EnvironmentEntry { name: name.into(), value: value.into(), hidden: false });
        d
    }

    #[test]
    fn secrets_stay_hidden_and_single_settings_are_named() {
        let found = difference(&with("TZ", "UTC"), &with("TZ", "Europe/London"));
        assert_eq!(found[0].words(), "environment TZ: UTC → Europe/London");
        let secret = difference(&with("DB_PASSWORD", "pears"), &with("DB_PASSWORD", "plums"));
        assert!(!secret[0].words().contains("pears") && !secret[0].words().contains("plums"));
        assert!(difference(&with("A", "1"), &with("A", "1")).is_empty());
    }

    #[test]
    fn ports_and_mounts_are_reported_one_by_one_and_never_as_json() {
        let ports = |list: serde_json::Value| -> Definition {
            serde_json::from_value(serde_json::json!({"image": "x", "ports": list})).unwrap()
        };
        let from = ports(serde_json::json!([{"host_port": 7360, "container_port": 8080}]));
        let to = ports(serde_json::json!([{"host_port": 7360, "container_port": 8080},
            {"host_port": 7362, "container_port": 8081, "protocol": "udp"}]));
        let words = |a: &Definition, b: &Definition| {
            difference(a, b).iter().map(Difference::words).collect::<Vec<_>>().join("; ")
        };
        assert_eq!(words(&from, &to), "ports: + 7362→8081/udp");
        assert_eq!(words(&to, &from), "ports: − 7362→8081/udp");
        let mut mounted: Definition = serde_json::from_value(serde_json::json!({"image": "x", "mounts":
            [{"kind": "volume", "source": "readings", "target": "/data", "read_only": true}]}))
        .unwrap();
        assert_eq!(words(&Definition::for_image("x"), &mounted), "mounts: + readings→/data (read-only)");
        mounted.command = Some(vec!["serve".into(), "--name".into(), "frost api".into()]);
        assert!(!words(&Definition::for_image("x"), &mounted).contains(['[', '{', '"']));
    }

    #[test]
    fn limits_are_changed_in_place_and_variables_are_not() {
        let (from, mut to) = (Definition::for_image("x"), Definition::for_image("x"));
        to.limits.memory = Some(1 << 30);
        to.restart.policy = "always".into();
        assert!(only_in_place(&difference(&from, &to)));
        assert!(!only_in_place(&difference(&to, &from)));
        assert!(!only_in_place(&difference(&from, &with("A", "1"))));
    }
}
