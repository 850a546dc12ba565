//! Settings in a container's record that definitions do not have: they are carried over when the container is
//! replaced, so that changing one setting changes nothing else.
//!
//! What definitions do have words for is in `make` and `defined`.

use gubernum_core::definition::Definition;
use serde_json::{Map, Value, json};

use crate::defined::{gpus, log, processors};
use crate::dialect::Dialect;
use crate::podman_fills;

/// Settings of dockerd that definitions have no word for, or that its record does not tell from its own choice.
const SETTINGS: [&str; 4] = ["CgroupnsMode", "CpusetMems", "Isolation", "VolumeDriver"];
/// Settings of the host's side; `base` is the record of the container that is replaced.
pub(crate) fn settings(base: &Value, d: &Definition, dialect: Dialect, host: &mut Map<String, Value>) {
    let old = &base["HostConfig"];
    if dialect == Dialect::Dockerd {
        for key in SETTINGS {
            if let Some(value) = old.get(key).filter(|v| !v.is_null()) {
                host.entry(key).or_insert_with(|| value.clone());
            }
        }
        let links: Vec<String> =
            old["Links"].as_array().into_iter().flatten().filter_map(|l| link(l.as_str()?)).collect();
        if !links.is_empty() {
            host.insert("Links".into(), json!(links));
        }
        // Nothing hidden is what somebody asked for; the usual list is the engine's default.
        for key in ["MaskedPaths", "ReadonlyPaths"] {
            if old[key].as_array().is_some_and(Vec::is_empty) {
                host.insert(key.into(), json!([]));
            }
        }
    }
    // The driver that nobody asked for may be another by now, and what reads the log would find nothing. One that was requested
    // for and is removed goes.
    let driver = old["LogConfig"]["Type"].as_str().unwrap_or_default();
    let nobody_asked = d.log.driver.is_none() && log(old, dialect == Dialect::Podman).driver.is_none();
    if nobody_asked && !driver.is_empty() {
        host.insert("LogConfig".into(), json!({"Type": driver, "Config": d.log.options}));
    }
    if dialect == Dialect::Podman && !d.rights.privileged && old["Privileged"] != true {
        missing_capabilities(old, d, host);
    }
    // A share of processors may be written as a quota of a period of its own.
    let quota = ["CpuPeriod", "CpuQuota"].map(|key| old[key].as_i64().unwrap_or(0));
    if quota[1] > 0 && old["NanoCpus"].as_i64().unwrap_or(0) == 0 && processors(old) == d.limits.processors {
        host.remove("NanoCpus");
        host.insert("CpuPeriod".into(), json!(quota[0]));
        host.insert("CpuQuota".into(), json!(quota[1]));
    }
    // That several demands for graphics processors are made has no word.
    let devices = &old["DeviceRequests"];
    if devices.as_array().is_some_and(|all| !all.is_empty()) && gpus(old) == d.rights.gpus {
        host.insert("DeviceRequests".into(), devices.clone());
    }
}

/// What podman's container did not hold, nobody gets by way of another change.
fn missing_capabilities(old: &Value, d: &Definition, host: &mut Map<String, Value>) {
    let listed = |key: &str| -> Vec<String> {
        old[key].as_array().into_iter().flatten().filter_map(Value::as_str).map(str::to_owned).collect()
    };
    let missing = podman_fills::silently_missing(&listed("CapAdd"), &listed("CapDrop"));
    let is_asked = |c: &String| d.rights.add.iter().any(|a| a.trim_start_matches("CAP_") == c || a == "ALL");
    let missing: Vec<String> = missing.into_iter().filter(|c| !is_asked(c)).collect();
    if !missing.is_empty() && !d.rights.drop.iter().any(|c| c == "ALL") {
        host.insert("CapDrop".into(), json!([&d.rights.drop[..], &missing[..]].concat()));
    }
}

/// dockerd records `/ledger:/frost-api/books` for what is asked for as `ledger:books`.
fn link(recorded: &str) -> Option<String> {
    let (to, alias) = recorded.split_once(':')?;
    Some(format!("{}:{}", to.trim_start_matches('/'), alias.rsplit('/').next()?))
}

/// What belongs to its place in a network: names of its own for others.
pub(crate) fn endpoint(base: Option<&Value>, network: &str, endpoint: &mut Value) {
    let Some(old) = base.map(|b| &b["NetworkSettings"]["Networks"][network]) else { return };
    if let Some(links) = old.get("Links").filter(|v| v.as_array().is_some_and(|a| !a.is_empty())) {
        endpoint["Links"] = links.clone();
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::make::create_body;
    use gubernum_core::definition::{GpuRule, NetworkConnection};
    use rstest::rstest;

    #[rstest]
    #[case("/ledger:/frost-api/books", Some("ledger:books"))]
    #[case("ledger:books", Some("ledger:books"))]
    #[case("/ledger:/frost-api/ledger", Some("ledger:ledger"))]
    #[case("nothing", None)]
    fn links_are_asked_for_as_they_were(#[case] recorded: &str, #[case] asked: Option<&str>) {
        assert_eq!(link(recorded).as_deref(), asked);
    }

    #[test]
    fn what_has_no_word_is_carried_over() {
        let base = json!({"HostConfig": {
            "CgroupParent": "orchard.slice", "CpusetMems": "0", "MemorySwappiness": null, "Links": ["/ledger:/frost-api/books"],
            "MaskedPaths": [], "ReadonlyPaths": ["/proc/bus"], "Tmpfs": {"/run": "size=4m,mode=1770,noexec,rw,nosuid"},
            "Mounts": [{"Type": "tmpfs", "Target": "/cache", "TmpfsOptions": {"Mode": 448}}]},
            "NetworkSettings": {"Networks": {"front": {"Links": ["db:ledger"], "DriverOpts": null}, "back": {"Links": null}}}});
        // What has a word is read with it; the rest comes from the record.
        let mut d = crate::defined::definition(&base, &Value::Null, Dialect::Dockerd);
        d.mounts.iter_mut().filter(|m| m.target == "/run").for_each(|m| m.size = Some(8 << 20));
        let joined = |name: &str| NetworkConnection {
            name: name.into(),
            aliases: vec!["frost".into()],
            ..NetworkConnection::default()
        };
        d.network.networks = vec![joined("front"), joined("back")];
        let body = create_body(&d, Some(&base), Dialect::Dockerd);
        let host = &body["HostConfig"];
        assert_eq!((&host["CgroupParent"], host.get("MemorySwappiness")), (&json!("orchard.slice"), None));
        assert_eq!(host["CpusetMems"], json!("0"));
        assert_eq!(host["Links"], json!(["ledger:books"]));
        assert_eq!((&host["MaskedPaths"], host.get("ReadonlyPaths")), (&json!([]), None));
        let wanted = json!({"/run": "size=8388608,mode=1770,noexec", "/cache": "mode=700"});
        assert_eq!(host["Tmpfs"], wanted);
        assert_eq!(body["NetworkingConfig"]["EndpointsConfig"]["front"]["Links"], json!(["db:ledger"]));
        assert!(body["NetworkingConfig"]["EndpointsConfig"]["front"].get("DriverOpts").is_none());
        // podman's records are in another tongue: what it would not take is left.
        let body = create_body(&d, Some(&base), Dialect::Podman);
        assert!(body["HostConfig"].get("CpusetMems").is_none() && body["HostConfig"].get("Links").is_none());
    }

    #[rstest]
    #[case::usual(json!({"Type": "json-file", "Config": {}}), Some("json-file"))]
    #[case::asked_for_and_taken_away(json!({"Type": "syslog", "Config": {}}), None)]
    #[case::with_options_that_are_taken_away(json!({"Type": "json-file", "Config": {"max-size": "1m"}}), None)]
    fn a_log_driver_stays_unless_it_is_taken_away(#[case] old: Value, #[case] driver: Option<&str>) {
        let base = json!({"HostConfig": {"LogConfig": old}});
        let body = create_body(&Definition::for_image("frost/api:2"), Some(&base), Dialect::Dockerd);
        assert_eq!(body["HostConfig"]["LogConfig"]["Type"].as_str(), driver);
    }

    #[test]
    fn abilities_of_graphics_processors_stay_as_long_as_these_stay() {
        let asked = json!([{"Driver": "", "Count": -1, "DeviceIDs": null, "Capabilities": [["compute", "gpu"]], "Options": {"a": "b"}}]);
        let base = json!({"HostConfig": {"DeviceRequests": asked}});
        let mut d = Definition::for_image("frost/vision:1");
        d.rights.gpus = gpus(&base["HostConfig"]);
        assert_eq!(d.rights.gpus.as_ref().map(|g| g.abilities.len()), Some(1));
        assert_eq!(create_body(&d, Some(&base), Dialect::Dockerd)["HostConfig"]["DeviceRequests"], asked);
        d.rights.gpus = Some(GpuRule { count: Some(1), ..GpuRule::default() });
        let one = create_body(&d, Some(&base), Dialect::Dockerd);
        assert_eq!(one["HostConfig"]["DeviceRequests"][0]["Capabilities"], json!([["gpu"]]));
        d.rights.gpus = None;
        let none = create_body(&d, Some(&base), Dialect::Dockerd);
        assert!(none["HostConfig"].get("DeviceRequests").is_none());
    }
}
