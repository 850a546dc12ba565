//! From an engine's inspect answer to the fleet's record of a container.

use gubernum_core::container::{
    Attachment, Container, Health, Mount, Port, SERVICE_LABEL, STACK_LABEL, State,
};
use gubernum_core::mask;
use jiff::Timestamp;
use serde_json::Value;

use crate::wire;

/// A container in full: the fleet's record and the engine's answer as it came.
#[derive(Debug, Clone)]
pub struct Inspected {
    /// The record; its `host` is empty until the fleet fills it in.
    pub container: Container,
    /// The engine's whole answer.
    pub raw: Value,
    /// The grace period that it was made with, in seconds.
    pub stop_timeout: Option<u32>,
}

pub(crate) fn inspected(raw: Value) -> Result<Inspected, serde_json::Error> {
    let inspect: wire::Inspect = serde::Deserialize::deserialize(&raw)?;
    let stop_timeout = inspect.config.stop_timeout.and_then(|s| u32::try_from(s).ok());
    Ok(Inspected { container: container(inspect), raw, stop_timeout })
}

fn container(i: wire::Inspect) -> Container {
    let state = State::from_engine(&i.state.status);
    let health = i.state.health.as_ref().map_or(Health::None, |h| Health::from_engine(&h.status));
    let failing_checks = i.state.health.as_ref().map_or(0, |h| h.failing_streak);
    let health_output = i.state.health.filter(|_| health == Health::Unhealthy).and_then(|h| {
        let failed = h.log.into_iter().rev().find(|entry| entry.exit_code != 0)?;
        Some(failed.output.chars().take(400).collect::<String>()).filter(|o| !o.trim().is_empty())
    });
    let ended = matches!(state, State::Exited | State::Dead | State::Restarting);
    let command = std::iter::once(i.path).chain(i.args).filter(|part| !part.is_empty()).collect::<Vec<_>>();
    let ports = ports(&i.network_settings.ports, &i.host_config.port_bindings, &i.config.exposed_ports);
    // Engines tell them in another order each time.
    let mut mounts: Vec<Mount> = i.mounts.into_iter().map(mount).collect();
    mounts.sort_by(|a, b| (&a.target, &a.source).cmp(&(&b.target, &b.source)));
    let policy = i.host_config.restart_policy.name;
    let (networks, attachments) =
        attachments(i.network_settings.networks, &i.host_config.network_mode, &i.id);
    Container {
        host: String::new(),
        name: i.name.trim_start_matches('/').to_owned(),
        id: i.id,
        image: i.config.image,
        image_id: i.image,
        command: mask::arguments(&command).join(" ").chars().take(1000).collect(),
        state,
        health,
        exit_code: ended.then_some(i.state.exit_code),
        out_of_memory: i.state.oom_killed,
        error: Some(i.state.error).filter(|e| !e.is_empty()),
        health_output,
        restart_count: i.restart_count,
        recent_starts: 0,
        restart_policy: if policy.is_empty() { "no".to_owned() } else { policy },
        stack: i.config.labels.get(STACK_LABEL).cloned(),
        service: i.config.labels.get(SERVICE_LABEL).cloned(),
        ports,
        mounts,
        networks,
        attachments,
        architecture: None,
        memory_limit: u64::try_from(i.host_config.memory).ok().filter(|&m| m > 0),
        last_lines: Vec::new(),
        failing_checks,
        asked_to_end: None,
        labels: masked_labels(i.config.labels),
        terminal: i.config.tty,
        created: time(&i.created).unwrap_or(Timestamp::UNIX_EPOCH),
        started: time(&i.state.started_at),
        finished: time(&i.state.finished_at),
        newer_image: false,
        role: None,
        is_self: false,
        attention: None,
    }
}

/// Labels are shown to everybody: what looks like a secret in them is hidden here already.
fn masked_labels(
    labels: std::collections::BTreeMap<String, String>,
) -> std::collections::BTreeMap<String, String> {
    let hide = |(name, value): (String, String)| {
        let hidden = mask::looks_secret(&name, &value) && !name.starts_with("com.docker.compose.");
        (name, if hidden { mask::MASK.to_owned() } else { value })
    };
    labels.into_iter().map(hide).collect()
}

/// The networks by name, with the addresses in them. podman names none for the host's own and for none,
/// where dockerd does; other names are only told while it runs.
fn attachments(
    networks: std::collections::BTreeMap<String, Option<wire::Endpoint>>,
    mode: &str,
    id: &str,
) -> (Vec<String>, Vec<Attachment>) {
    let some = |text: String| Some(text).filter(|t| !t.is_empty());
    let mut names: Vec<String> = networks.keys().cloned().collect();
    if names.is_empty() && matches!(mode, "host" | "none") {
        names.push(mode.to_owned());
    }
    let attachments = networks.into_iter().filter_map(|(network, endpoint)| {
        let endpoint = endpoint?;
        // The engine adds the id's beginning by itself: it tells nothing.
        let aliases: Vec<String> =
            endpoint.aliases.into_iter().filter(|a| !id.starts_with(a.as_str())).collect();
        let (address, ipv6) = (some(endpoint.address), some(endpoint.ipv6));
        let tells = address.is_some() || ipv6.is_some() || !aliases.is_empty();
        tells.then_some(Attachment { network, address, ipv6, aliases })
    });
    (names, attachments.collect())
}

fn mount(m: wire::Mount) -> Mount {
    let anonymous = m.kind == "volume" && m.name.len() == 64 && m.name.bytes().all(|b| b.is_ascii_hexdigit());
    let source = if m.name.is_empty() { m.source } else { m.name };
    Mount { kind: m.kind, source, target: m.destination, read_only: !m.writable, anonymous }
}

/// While it runs the network knows its ports; before and after, only its settings do.
fn ports(
    live: &wire::Bindings,
    set: &wire::Bindings,
    exposed: &std::collections::BTreeMap<String, Value>,
) -> Vec<Port> {
    let mut ports: Vec<Port> = Vec::new();
    let source = if live.is_empty() { set } else { live };
    for (key, bindings) in source {
        let Some((container_port, protocol)) = port_key(key) else { continue };
        let inner = || Port { address: None, host_port: None, container_port, protocol: protocol.to_owned() };
        match bindings.as_deref() {
            None | Some([]) => ports.push(inner()),
            Some(bindings) => ports.extend(bindings.iter().map(|b| {
                let address = if b.host_ip.is_empty() { "0.0.0.0".to_owned() } else { b.host_ip.clone() };
                Port { address: Some(address), host_port: b.host_port.parse().ok(), ..inner() }
            })),
        }
    }
    for key in exposed.keys() {
        let Some((container_port, protocol)) = port_key(key) else { continue };
        if !ports.iter().any(|p| p.container_port == container_port && p.protocol == protocol) {
            ports.push(Port {
                address: None,
                host_port: None,
                container_port,
                protocol: protocol.to_owned(),
            });
        }
    }
    ports.sort();
    ports.dedup();
    ports
}

fn port_key(key: &str) -> Option<(u16, &str)> {
    let (port, protocol) = key.split_once('/').unwrap_or((key, "tcp"));
    Some((port.parse().ok()?, protocol))
}

/// Engines write the year 1 for "never".
pub(crate) fn time(text: &str) -> Option<Timestamp> {
    let time: Timestamp = text.parse().ok()?;
    (time > Timestamp::UNIX_EPOCH).then_some(time)
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    fn base() -> Value {
        json!({
            "Id": "ab", "Name": "/frost-api", "Created": "2026-11-23T07:54:29.204423049Z",
            "State": {"Status": "running", "StartedAt": "2026-11-23T07:54:29Z", "FinishedAt": "0001-01-01T00:00:00Z",
                      "Health": {"Status": "", "FailingStreak": 0, "Log": null}},
            "Config": {"Image": "x", "Labels": null, "ExposedPorts": {"80/tcp": {}, "53/udp": {}}},
            "HostConfig": null, "Mounts": null, "NetworkSettings": {"Ports": {}, "Networks": null}
        })
    }

    #[test]
    fn nulls_and_the_year_one_are_nothing() {
        let c = inspected(base()).unwrap().container;
        assert_eq!((c.health, c.finished, c.exit_code), (Health::None, None, None));
        assert_eq!((c.name.as_str(), c.restart_policy.as_str()), ("frost-api", "no"));
        assert_eq!(c.ports.len(), 2);
    }

    #[test]
    fn published_ports_carry_their_address() {
        let mut raw = base();
        raw["NetworkSettings"]["Ports"] =
            json!({"80/tcp": [{"HostIp": "", "HostPort": "7311"}], "53/udp": null});
        let ports = inspected(raw).unwrap().container.ports;
        let published = ports.iter().find(|p| p.container_port == 80).unwrap();
        assert_eq!((published.address.as_deref(), published.host_port), (Some("0.0.0.0"), Some(7311)));
        assert_eq!(ports.len(), 2);
    }

    #[test]
    fn a_stopped_container_keeps_the_ports_it_was_made_with() {
        let mut raw = base();
        raw["HostConfig"] =
            json!({"PortBindings": {"80/tcp": [{"HostIp": "127.0.0.1", "HostPort": "7311"}]}});
        let ports = inspected(raw).unwrap().container.ports;
        assert_eq!(ports.iter().find(|p| p.container_port == 80).unwrap().host_port, Some(7311));
    }
}
