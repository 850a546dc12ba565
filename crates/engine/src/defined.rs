//! From an engine's record of a container back to its definition: what was set, told apart from the defaults of the
//! image and the engine.

use std::collections::BTreeMap;

use gubernum_core::definition::{
    Definition, DeviceRule, EnvironmentEntry, GpuRule, HealthRule, Limits, LogRule, MountKind, MountRule,
    NetworkConnection, NetworkRule, PortRule, ProcessLimit, RestartRule, Rights,
};
use gubernum_core::own_labels::current;
use gubernum_core::plan::signal_name;
use serde_json::Value;

use crate::addresses;
use crate::calls::checked;
use crate::client::{Call, Engine};
use crate::defined_mounts::mounts;
use crate::dialect::Dialect;
use crate::error::EngineError;
use crate::podman_fills;
use crate::rare_settings;

/// Bytes of `/dev/shm` that engines give without being asked.
const USUAL_SHARED_MEMORY: [u64; 2] = [67_108_864, 65_536_000];
/// podman's own limit of processes.
const PODMAN_PROCESSES: i64 = 2048;

/// A container's definition with its whole record.
#[derive(Debug, Clone)]
pub struct Defined {
    /// What was set.
    pub definition: Definition,
    /// What the image brings by itself.
    pub image: Definition,
    /// The container's record as the engine gives it.
    pub raw: Value,
    /// The id of the image it was made from, without the hash's name.
    pub image_id: String,
}

impl Engine {
    /// What a container was made with.
    ///
    /// # Errors
    /// 404 when it is gone.
    pub async fn defined(&self, id: &str) -> Result<Defined, EngineError> {
        let mut raw = self.inspect(id).await?.raw;
        if self.dialect().has_own_interface() {
            // How large a log may grow is told only there.
            let path = format!("/libpod/containers/{}/json", checked(id)?);
            let own: Value = self.json(Call::get("inspect", &path)).await?;
            raw["HostConfig"]["LogConfig"]["Size"] = own["HostConfig"]["LogConfig"]["Size"].clone();
        }
        let image_id = text(&raw["Image"]);
        let image_id = gubernum_core::assets::bare_id(&image_id).to_owned();
        // An image that is gone brings nothing: then all counts as set.
        let image = match self.inspect_image(&image_id).await {
            Ok(image) => image["Config"].clone(),
            Err(e) if e.status() == Some(404) => Value::Null,
            Err(e) => return Err(e),
        };
        let definition = definition(&raw, &image, self.dialect());
        Ok(Defined { definition, image: of_image(&image), raw, image_id })
    }
}

pub(crate) fn text(value: &Value) -> String {
    value.as_str().unwrap_or_default().to_owned()
}

pub(crate) fn some(value: &Value) -> Option<String> {
    value.as_str().filter(|t| !t.is_empty()).map(str::to_owned)
}

fn texts(value: &Value) -> Vec<String> {
    value.as_array().into_iter().flatten().filter_map(Value::as_str).map(str::to_owned).collect()
}

pub(crate) fn map(value: &Value) -> BTreeMap<String, String> {
    value.as_object().into_iter().flatten().map(|(k, v)| (k.clone(), text(v))).collect()
}

fn keys(value: &Value) -> Vec<String> {
    value.as_object().into_iter().flatten().map(|(k, _)| k.clone()).collect()
}

fn environment(value: &Value) -> Vec<(String, String)> {
    let split = |e: String| {
        e.split_once('=').map_or((e.clone(), String::new()), |(n, v)| (n.to_owned(), v.to_owned()))
    };
    texts(value).into_iter().map(split).collect()
}

fn entries(variables: Vec<(String, String)>) -> Vec<EnvironmentEntry> {
    variables.into_iter().map(|(name, value)| EnvironmentEntry { name, value, hidden: false }).collect()
}

/// What an image brings, as a definition to show beside.
fn of_image(image: &Value) -> Definition {
    Definition {
        environment: entries(environment(&image["Env"])),
        entrypoint: Some(texts(&image["Entrypoint"])).filter(|e| !e.is_empty()),
        command: Some(texts(&image["Cmd"])).filter(|e| !e.is_empty()),
        user: some(&image["User"]),
        working_folder: some(&image["WorkingDir"]),
        labels: current(map(&image["Labels"])),
        open: keys(&image["ExposedPorts"]),
        health: health(&image["Healthcheck"]),
        stop_signal: signal(&image["StopSignal"]),
        mounts: keys(&image["Volumes"])
            .into_iter()
            .map(|t| mount(MountKind::Volume, None, t, false))
            .collect(),
        ..Definition::default()
    }
}

fn signal(value: &Value) -> Option<String> {
    let word = value.as_u64().map(|n| n.to_string()).or_else(|| some(value))?;
    signal_name(&word)
}

fn millis(value: &Value) -> Option<u64> {
    value.as_u64().filter(|n| *n > 0).map(|n| n / 1_000_000)
}

fn health(value: &Value) -> Option<HealthRule> {
    let test = texts(&value["Test"]);
    if test.first().map(String::as_str) == Some("NONE") {
        return Some(HealthRule { disabled: true, ..HealthRule::default() });
    }
    if test.is_empty() {
        return None;
    }
    Some(HealthRule {
        disabled: false,
        test,
        interval_ms: millis(&value["Interval"]),
        timeout_ms: millis(&value["Timeout"]),
        retries: value["Retries"].as_u64().and_then(|r| u32::try_from(r).ok()).filter(|r| *r > 0),
        start_ms: millis(&value["StartPeriod"]),
        start_interval_ms: millis(&value["StartInterval"]),
    })
}

pub(crate) fn mount(kind: MountKind, source: Option<String>, target: String, read_only: bool) -> MountRule {
    MountRule { kind, source, target, read_only, ..MountRule::default() }
}

/// What was set, by the container's and its image's records.
pub(crate) fn definition(raw: &Value, image: &Value, dialect: Dialect) -> Definition {
    let (config, host) = (&raw["Config"], &raw["HostConfig"]);
    let podman = dialect == Dialect::Podman;
    let id = text(&raw["Id"]);
    let differs = |key: &str| config[key] != image[key] && !(config[key].is_null() && image[key].is_null());
    let own_entrypoint = texts(&config["Entrypoint"]) != texts(&image["Entrypoint"]);
    let own_command = texts(&config["Cmd"]) != texts(&image["Cmd"]);
    let from_image = environment(&image["Env"]);
    let hostname = some(&config["Hostname"]).filter(|h| !id.starts_with(h.as_str()));
    let mode = text(&host["NetworkMode"]);
    let own_variable = |(name, value): &(String, String)| {
        if from_image.iter().any(|(n, v)| n == name && v == value) {
            return false;
        }
        // podman adds these by itself.
        let added = matches!(name.as_str(), "container" | "HOSTNAME" | "HOME")
            || (name == "TERM" && value == "xterm")
            || (name == "PATH" && !from_image.iter().any(|(n, _)| n == "PATH"));
        !(podman && added)
    };
    let image_labels = current(map(&image["Labels"]));
    let health_own = health(&config["Healthcheck"]);
    let mut definition = Definition {
        image: text(&config["Image"]),
        name: text(&raw["Name"]).trim_start_matches('/').to_owned(),
        entrypoint: own_entrypoint.then(|| texts(&config["Entrypoint"])),
        command: (own_command || (own_entrypoint && !texts(&config["Cmd"]).is_empty()))
            .then(|| texts(&config["Cmd"])),
        environment: entries(environment(&config["Env"]).into_iter().filter(own_variable).collect()),
        user: some(&config["User"]).filter(|_| differs("User")),
        working_folder: some(&config["WorkingDir"]).filter(|w| {
            differs("WorkingDir") && !(podman && w == "/" && some(&image["WorkingDir"]).is_none())
        }),
        hostname: hostname.filter(|_| mode != "host" && !mode.starts_with("container:")),
        domain: some(&config["Domainname"]),
        labels: current(map(&config["Labels"]))
            .into_iter()
            .filter(|(k, v)| image_labels.get(k) != Some(v) && k != addresses::LABEL)
            .collect(),
        ports: ports(host, config),
        open: open(config, image, host),
        mounts: mounts(raw, host, podman),
        restart: RestartRule {
            policy: text(&host["RestartPolicy"]["Name"]).replace("no", "").trim().to_owned(),
            most_tries: host["RestartPolicy"]["MaximumRetryCount"]
                .as_u64()
                .and_then(|n| u32::try_from(n).ok())
                .filter(|n| *n > 0),
        },
        health: health_own.filter(|h| Some(h) != health(&image["Healthcheck"]).as_ref()),
        grace_seconds: config["StopTimeout"]
            .as_u64()
            .and_then(|s| u32::try_from(s).ok())
            .filter(|s| !(podman && *s == 10)),
        stop_signal: signal(&config["StopSignal"])
            .filter(|s| Some(s) != signal(&image["StopSignal"]).as_ref() && !(podman && s == "SIGTERM")),
        auto_remove: host["AutoRemove"].as_bool().unwrap_or(false),
        init: host["Init"].as_bool().filter(|i| *i || !podman),
        terminal: config["Tty"].as_bool().unwrap_or(false),
        input: config["OpenStdin"].as_bool().unwrap_or(false),
        limits: limits(host, podman),
        rights: rights(host, podman),
        network: network(raw, host, config, podman),
        log: log(host, podman),
        ..Definition::default()
    };
    if podman {
        definition.rights.hostname_of = some(&host["UTSMode"]).filter(|mode| mode == "host");
    } else {
        rare_settings::read(host, &mut definition);
    }
    definition
}

fn ports(host: &Value, config: &Value) -> Vec<PortRule> {
    let split = |key: &str| {
        let (port, protocol) = key.split_once('/').unwrap_or((key, "tcp"));
        Some((port.parse::<u16>().ok()?, protocol.to_owned()))
    };
    let mut out = Vec::new();
    for (key, bindings) in host["PortBindings"].as_object().into_iter().flatten() {
        let Some((container_port, protocol)) = split(key) else { continue };
        for b in bindings.as_array().into_iter().flatten() {
            out.push(PortRule {
                address: some(&b["HostIp"]).filter(|a| a != "0.0.0.0"),
                host_port: host_port(b, 0),
                host_port_to: host_port(b, 1),
                container_port,
                protocol: protocol.clone(),
            });
        }
    }
    if host["PublishAllPorts"].as_bool() == Some(true) {
        for key in keys(&config["ExposedPorts"]) {
            if let Some((container_port, protocol)) = split(&key)
                && !out.iter().any(|p| p.container_port == container_port && p.protocol == protocol)
            {
                out.push(PortRule {
                    address: None,
                    host_port: None,
                    host_port_to: None,
                    container_port,
                    protocol,
                });
            }
        }
    }
    out.sort_by_key(|p| (p.container_port, p.protocol.clone(), p.host_port));
    out
}

/// One end of the range of ports that a binding names: the port itself, and nothing behind it, where it names one.
fn host_port(binding: &Value, end: usize) -> Option<u16> {
    binding["HostPort"].as_str()?.split('-').nth(end)?.parse().ok().filter(|p| *p > 0)
}

fn open(config: &Value, image: &Value, host: &Value) -> Vec<String> {
    let (of_image, published) = (keys(&image["ExposedPorts"]), keys(&host["PortBindings"]));
    keys(&config["ExposedPorts"])
        .into_iter()
        .filter(|p| !of_image.contains(p) && !published.contains(p))
        .collect()
}

/// How many processors it may use, in either of the ways in which that is written.
pub(crate) fn processors(host: &Value) -> Option<f64> {
    let positive = |key: &str| host[key].as_u64().filter(|v| *v > 0);
    match (positive("NanoCpus"), positive("CpuQuota"), positive("CpuPeriod")) {
        (Some(nanos), _, _) => Some(nanos as f64 / 1e9),
        (None, Some(quota), Some(period)) => Some(quota as f64 / period as f64),
        (None, Some(quota), None) => Some(quota as f64 / 100_000.0),
        _ => None,
    }
}

fn limits(host: &Value, podman: bool) -> Limits {
    let positive = |key: &str| host[key].as_u64().filter(|v| *v > 0);
    let memory = positive("Memory");
    let each = host["Ulimits"].as_array().into_iter().flatten().map(|u| ProcessLimit {
        name: text(&u["Name"]),
        soft: u["Soft"].as_i64().unwrap_or(0),
        hard: u["Hard"].as_i64().unwrap_or(0),
    });
    let each: Vec<ProcessLimit> = each.collect();
    Limits {
        memory,
        // Engines fill in twice the memory by themselves.
        memory_and_swap: host["MemorySwap"]
            .as_i64()
            .filter(|s| *s != 0 && memory.is_some_and(|m| *s != m.saturating_mul(2) as i64)),
        memory_reserved: positive("MemoryReservation"),
        shared_memory: positive("ShmSize").filter(|s| !USUAL_SHARED_MEMORY.contains(s)),
        processors: processors(host),
        processor_weight: positive("CpuShares").and_then(|s| u32::try_from(s).ok()),
        processor_set: some(&host["CpusetCpus"]),
        processes: host["PidsLimit"].as_i64().filter(|p| *p != 0 && !(podman && *p == PODMAN_PROCESSES)),
        each_process: if podman { podman_fills::process_limits(each) } else { each },
        out_of_memory_score: host["OomScoreAdj"]
            .as_i64()
            .and_then(|s| i32::try_from(s).ok())
            .filter(|s| *s != 0),
        ..Limits::default()
    }
}

/// The graphics processors that are asked for.
pub(crate) fn gpus(host: &Value) -> Option<GpuRule> {
    host["DeviceRequests"].as_array().and_then(|all| all.first()).map(|g| GpuRule {
        count: g["Count"].as_i64().filter(|c| *c != 0),
        ids: texts(&g["DeviceIDs"]),
        driver: some(&g["Driver"]),
        abilities: g["Capabilities"]
            .as_array()
            .and_then(|any| any.first())
            .map(|all| texts(all).into_iter().filter(|word| word != "gpu").collect())
            .unwrap_or_default(),
        options: map(&g["Options"]),
    })
}

fn rights(host: &Value, podman: bool) -> Rights {
    let other = |key: &str, usual: &[&str]| some(&host[key]).filter(|m| !usual.contains(&m.as_str()));
    let privileged = host["Privileged"].as_bool().unwrap_or(false);
    let (add, drop) = match (texts(&host["CapAdd"]), texts(&host["CapDrop"])) {
        // What is allowed everything has nothing added or dropped in podman's eyes.
        _ if podman && privileged => Default::default(),
        (added, dropped) if podman => podman_fills::capabilities(&added, &dropped),
        asked => asked,
    };
    Rights {
        privileged,
        read_only: host["ReadonlyRootfs"].as_bool().unwrap_or(false),
        add,
        drop,
        devices: host["Devices"]
            .as_array()
            .into_iter()
            .flatten()
            .map(|d| {
                let path = text(&d["PathOnHost"]);
                DeviceRule {
                    container: some(&d["PathInContainer"]).filter(|p| *p != path),
                    permissions: some(&d["CgroupPermissions"]).filter(|p| p != "rwm"),
                    host: path,
                }
            })
            .collect(),
        gpus: gpus(host),
        security: texts(&host["SecurityOpt"]),
        groups: texts(&host["GroupAdd"]),
        kernel: map(&host["Sysctls"]),
        processes_of: other("PidMode", &["private"]),
        memory_of: other("IpcMode", if podman { &["private", "shareable"] } else { &["private"] }),
        users_of: other("UsernsMode", &["private"]),
        ..Rights::default()
    }
}

fn network(raw: &Value, host: &Value, config: &Value, podman: bool) -> NetworkRule {
    let mode = text(&host["NetworkMode"]);
    let id = text(&raw["Id"]);
    let apart = mode == "host" || mode == "none" || mode.starts_with("container:") || mode == "slirp4netns";
    let usual = if podman { "podman" } else { "bridge" };
    let mut networks: Vec<NetworkConnection> = Vec::new();
    if !apart {
        for (name, e) in raw["NetworkSettings"]["Networks"].as_object().into_iter().flatten() {
            // The engine adds the id's beginning as a name by itself.
            let aliases = texts(&e["Aliases"])
                .into_iter()
                .filter(|a| a.len() < 12 || !id.starts_with(a.as_str()))
                .collect();
            let [address, ipv6] = if podman && name != usual {
                let present = [some(&e["IPAddress"]), some(&e["GlobalIPv6Address"])];
                addresses::wanted(current(map(&config["Labels"])).get(addresses::LABEL), name, present)
            } else {
                ["IPv4Address", "IPv6Address"].map(|key| some(&e["IPAMConfig"][key]))
            };
            let mut options = map(&e["DriverOpts"]);
            networks.push(NetworkConnection {
                name: name.clone(),
                aliases,
                address,
                ipv6,
                link_local: texts(&e["IPAMConfig"]["LinkLocalIPs"]),
                // Engines write the address that they gave into the same place.
                hardware_address: None,
                gateway_priority: e["GwPriority"].as_i64().filter(|p| *p != 0),
                interface: options.remove(crate::make::INTERFACE_OPTION),
                options,
            });
        }
        networks.sort_by_key(|n| n.name != mode);
        if let [only] = &networks[..]
            && only.name == usual
            && only.address.is_none()
        {
            networks.clear();
        }
    }
    NetworkRule {
        mode: apart.then_some(mode),
        networks,
        dns: texts(&host["Dns"]),
        dns_search: texts(&host["DnsSearch"]),
        dns_options: texts(&host["DnsOptions"]),
        hosts: texts(&host["ExtraHosts"]),
        hardware_address: some(&config["MacAddress"]),
    }
}

/// The log's driver and options that were asked for.
pub(crate) fn log(host: &Value, podman: bool) -> LogRule {
    let mut options = map(&host["LogConfig"]["Config"]);
    // podman reports its only option in another place.
    if let Some(size) = some(&host["LogConfig"]["Size"]).filter(|s| podman && s != "0B") {
        options.insert("max-size".into(), size);
    }
    let driver = some(&host["LogConfig"]["Type"]).filter(|d| {
        !(options.is_empty()
            && (d == "json-file" || (podman && matches!(d.as_str(), "journald" | "k8s-file"))))
    });
    LogRule { driver, options }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::make::create_body;
    use serde_json::json;

    #[test]
    fn what_the_image_brings_is_not_what_was_set() {
        let image = json!({"Env": ["PATH=/bin", "LANG=C"], "Cmd": ["serve"], "Entrypoint": ["/app"], "User": "1000", "Labels": {"a": "b"}, "ExposedPorts": {"80/tcp": {}}});
        let raw = json!({
            "Id": "abcdef0123456789", "Name": "/frost-api", "Image": "sha256:11",
            "Config": {"Image": "frost/api:2", "Hostname": "abcdef012345", "Env": ["TZ=UTC", "PATH=/bin", "LANG=C"], "Cmd": ["serve"],
                       "Entrypoint": ["/app"], "User": "1000", "Labels": {"a": "b", "c": "d"}, "ExposedPorts": {"80/tcp": {}, "81/tcp": {}}},
            "HostConfig": {"NetworkMode": "front", "RestartPolicy": {"Name": "no"}, "Memory": 1024, "MemorySwap": 2048, "ShmSize": 67108864,
                           "PortBindings": {"80/tcp": [{"HostIp": "", "HostPort": "7311"}]}, "LogConfig": {"Type": "json-file", "Config": {}}},
            "Mounts": [{"Type": "volume", "Name": "data", "Destination": "/data", "RW": true}],
            "NetworkSettings": {"Networks": {"back": {"Aliases": ["abcdef012345", "frost"]}, "front": {"IPAMConfig": {"IPv4Address": "172.30.0.9"}}}},
        });
        let d = definition(&raw, &image, Dialect::Dockerd);
        assert_eq!(d.environment.iter().map(|e| e.name.as_str()).collect::<Vec<_>>(), ["TZ"]);
        assert_eq!((d.command.as_ref(), d.user.as_ref(), d.hostname.as_ref()), (None, None, None));
        assert_eq!((d.labels.len(), d.open.clone()), (1, vec!["81/tcp".to_owned()]));
        assert_eq!(
            (d.limits.memory, d.limits.memory_and_swap, d.limits.shared_memory),
            (Some(1024), None, None)
        );
        assert_eq!(d.network.networks[0].address.as_deref(), Some("172.30.0.9"));
        assert_eq!(d.network.networks[1].aliases, ["frost"]);
        assert_eq!(d.restart, RestartRule::default());
        let body = create_body(&d, Some(&raw), Dialect::Dockerd);
        assert_eq!(body["HostConfig"]["NetworkMode"], "front");
        assert_eq!(
            body["NetworkingConfig"]["EndpointsConfig"]["front"]["IPAMConfig"]["IPv4Address"],
            "172.30.0.9"
        );
        assert_eq!(body["HostConfig"]["PortBindings"]["80/tcp"][0]["HostPort"], "7311");
        assert_eq!(body.get("Cmd"), None);
    }

    #[test]
    fn an_address_that_the_engine_does_not_tell_is_kept() {
        let raw = |labels: Value| {
            json!({
                "Id": "ab", "Name": "/x", "Config": {"Image": "x", "Labels": labels}, "HostConfig": {"NetworkMode": "cold"},
                "NetworkSettings": {"Networks": {"cold": {"IPAMConfig": null, "IPAddress": "10.91.4.9", "GlobalIPv6Address": ""}}},
            })
        };
        let of_others = definition(&raw(json!({})), &Value::Null, Dialect::Podman);
        assert_eq!(of_others.network.networks[0].address.as_deref(), Some("10.91.4.9"));
        let free = definition(&raw(json!({"gubernum.addresses": "cold="})), &Value::Null, Dialect::Podman);
        assert_eq!((&free.network.networks[0].address, free.labels.len()), (&None, 0));
        let former =
            definition(&raw(json!({"org.gubernum.addresses": "cold="})), &Value::Null, Dialect::Podman);
        assert_eq!(former, free, "what an early version wrote is read");
        let body = create_body(&of_others, None, Dialect::Podman);
        assert_eq!(body["Labels"]["gubernum.addresses"], "cold=10.91.4.9");
        assert!(
            create_body(&of_others, None, Dialect::Dockerd)["Labels"].get("gubernum.addresses").is_none()
        );
    }

    #[test]
    fn a_switched_off_check_and_a_shared_network_are_kept() {
        let raw = json!({
            "Id": "ab", "Name": "/x", "Config": {"Image": "x", "Healthcheck": {"Test": ["NONE"]}},
            "HostConfig": {"NetworkMode": "container:cd", "RestartPolicy": {"Name": "on-failure", "MaximumRetryCount": 3}}, "NetworkSettings": {"Networks": {}},
        });
        let d = definition(&raw, &Value::Null, Dialect::Dockerd);
        assert!(d.health.as_ref().unwrap().disabled);
        assert_eq!(d.network.mode.as_deref(), Some("container:cd"));
        assert_eq!((d.restart.policy.as_str(), d.restart.most_tries), ("on-failure", Some(3)));
    }
}
