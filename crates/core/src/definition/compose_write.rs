//! Writing one definition as Compose text.

use std::collections::{BTreeMap, BTreeSet};
use std::fmt::Write as _;

use super::compose::OWNER_KEY;
use super::units::{size, span};
use super::{Definition, HealthRule, MountKind, MountRule, PortRule};
use crate::yaml::quoted;

/// `$` begins a variable in Compose text, so one that is meant is doubled.
fn text(value: &str) -> String {
    quoted(&value.replace('$', "$$"))
}

struct Writer {
    out: String,
}

impl Writer {
    fn line(&mut self, depth: usize, words: &str) {
        let _ = writeln!(self.out, "{:1$}{words}", "", depth * 2);
    }

    fn value(&mut self, key: &str, value: Option<impl AsRef<str>>) {
        if let Some(value) = value {
            self.line(2, &format!("{key}: {}", text(value.as_ref())));
        }
    }

    fn bare(&mut self, key: &str, value: Option<impl ToString>) {
        if let Some(value) = value {
            self.line(2, &format!("{key}: {}", value.to_string()));
        }
    }

    fn list(&mut self, key: &str, items: &[String]) {
        if items.is_empty() {
            return;
        }
        self.line(2, &format!("{key}:"));
        for item in items {
            self.line(3, &format!("- {}", text(item)));
        }
    }

    fn inline(&mut self, depth: usize, key: &str, items: &[String]) {
        let items: Vec<String> = items.iter().map(|i| text(i)).collect();
        self.line(depth, &format!("{key}: [{}]", items.join(", ")));
    }

    fn map(&mut self, depth: usize, key: &str, entries: &BTreeMap<String, String>) {
        if entries.is_empty() {
            return;
        }
        self.line(depth, &format!("{key}:"));
        for (k, v) in entries {
            self.line(depth + 1, &format!("{}: {}", quoted(k), text(v)));
        }
    }
}

/// The Compose text of a definition: one service, and the volumes and networks it names.
pub fn write(d: &Definition) -> String {
    let mut w = Writer { out: String::new() };
    let service = if d.name.is_empty() { "container" } else { &d.name };
    w.line(0, "services:");
    w.line(1, &format!("{}:", quoted(service)));
    w.value("image", Some(&d.image));
    w.value("container_name", Some(&d.name).filter(|n| !n.is_empty()));
    if d.pull != super::PullPolicy::Missing {
        w.value("pull_policy", Some(d.pull.word()));
    }
    w.value("platform", d.platform.as_ref());
    if let Some(entrypoint) = &d.entrypoint {
        w.inline(2, "entrypoint", entrypoint);
    }
    if let Some(command) = &d.command {
        w.inline(2, "command", command);
    }
    if !d.environment.is_empty() {
        w.line(2, "environment:");
        for e in &d.environment {
            w.line(3, &format!("{}: {}", quoted(&e.name), text(&e.value)));
        }
    }
    w.value("user", d.user.as_ref());
    w.value("working_dir", d.working_folder.as_ref());
    w.value("hostname", d.hostname.as_ref());
    w.value("domainname", d.domain.as_ref());
    w.map(2, "labels", &d.labels);
    ports(&mut w, &d.ports);
    w.list("expose", &d.open);
    mounts(&mut w, &d.mounts);
    let policy = match (d.restart.policy.as_str(), d.restart.most_tries) {
        ("", _) => None,
        (policy, Some(most)) => Some(format!("{policy}:{most}")),
        (policy, None) => Some(policy.to_owned()),
    };
    w.bare("restart", policy.map(|p| quoted(&p)));
    if let Some(health) = &d.health {
        health_check(&mut w, health);
    }
    w.bare("stop_grace_period", d.grace_seconds.map(|s| span(u64::from(s) * 1000)));
    w.value("stop_signal", d.stop_signal.as_ref());
    w.bare("x-gubernum-auto-remove", d.auto_remove.then_some(true));
    w.bare("init", d.init);
    w.bare("tty", d.terminal.then_some(true));
    w.bare("stdin_open", d.input.then_some(true));
    limits(&mut w, d);
    rights(&mut w, d);
    network(&mut w, d);
    if d.log.driver.is_some() || !d.log.options.is_empty() {
        w.line(2, "logging:");
        if let Some(driver) = &d.log.driver {
            w.line(3, &format!("driver: {}", text(driver)));
        }
        w.map(3, "options", &d.log.options);
    }
    declared(&mut w, d);
    w.out
}

fn ports(w: &mut Writer, ports: &[PortRule]) {
    if ports.is_empty() {
        return;
    }
    w.line(2, "ports:");
    for p in ports {
        let address = p
            .address
            .as_ref()
            .map_or_else(String::new, |a| if a.contains(':') { format!("[{a}]:") } else { format!("{a}:") });
        let host = match p.host_port {
            Some(port) => format!("{port}:"),
            None if address.is_empty() => String::new(),
            None => ":".to_owned(),
        };
        let protocol = if p.protocol == "tcp" { String::new() } else { format!("/{}", p.protocol) };
        w.line(3, &format!("- \"{address}{host}{}{protocol}\"", p.container_port));
    }
}

fn mounts(w: &mut Writer, mounts: &[MountRule]) {
    if mounts.is_empty() {
        return;
    }
    w.line(2, "volumes:");
    for m in mounts {
        let kind = match m.kind {
            MountKind::Volume => "volume",
            MountKind::Bind => "bind",
            MountKind::Tmpfs => "tmpfs",
        };
        w.line(3, &format!("- type: {kind}"));
        if let Some(source) = &m.source {
            w.line(4, &format!("source: {}", text(source)));
        }
        w.line(4, &format!("target: {}", text(&m.target)));
        if m.read_only {
            w.line(4, "read_only: true");
        }
        if m.make.is_some() || m.propagation.is_some() {
            w.line(4, "bind:");
            if let Some(make) = &m.make {
                w.line(5, "create_host_path: true");
                let mode = make.mode.as_ref().map_or_else(String::new, |m| format!(":{m}"));
                w.line(5, &format!("{OWNER_KEY}: \"{}:{}{mode}\"", make.user, make.group));
            }
            if let Some(propagation) = &m.propagation {
                w.line(5, &format!("propagation: {}", text(propagation)));
            }
        }
        if let Some(bytes) = m.size {
            w.line(4, &format!("tmpfs: {{size: \"{}\"}}", size(bytes)));
        }
    }
}

fn health_check(w: &mut Writer, h: &HealthRule) {
    w.line(2, "healthcheck:");
    if h.disabled {
        w.line(3, "disable: true");
    }
    if !h.test.is_empty() {
        w.inline(3, "test", &h.test);
    }
    for (key, ms) in [("interval", h.interval_ms), ("timeout", h.timeout_ms), ("start_period", h.start_ms)] {
        if let Some(ms) = ms {
            w.line(3, &format!("{key}: {}", span(ms)));
        }
    }
    if let Some(retries) = h.retries {
        w.line(3, &format!("retries: {retries}"));
    }
    // An empty mapping would be nothing at all.
    if *h == HealthRule::default() {
        w.line(3, "disable: false");
    }
}

fn limits(w: &mut Writer, d: &Definition) {
    let l = &d.limits;
    let bytes = |b: Option<u64>| b.map(|b| format!("\"{}\"", size(b)));
    w.bare("mem_limit", bytes(l.memory));
    w.bare("memswap_limit", l.memory_and_swap);
    w.bare("mem_reservation", bytes(l.memory_reserved));
    w.bare("shm_size", bytes(l.shared_memory));
    w.bare("cpus", l.processors);
    w.bare("cpu_shares", l.processor_weight);
    w.value("cpuset", l.processor_set.as_ref());
    w.bare("pids_limit", l.processes);
    w.bare("oom_score_adj", l.out_of_memory_score);
    if !l.each_process.is_empty() {
        w.line(2, "ulimits:");
        for u in &l.each_process {
            w.line(3, &format!("{}: {{soft: {}, hard: {}}}", quoted(&u.name), u.soft, u.hard));
        }
    }
}

fn rights(w: &mut Writer, d: &Definition) {
    let r = &d.rights;
    w.bare("privileged", r.privileged.then_some(true));
    w.bare("read_only", r.read_only.then_some(true));
    w.list("cap_add", &r.add);
    w.list("cap_drop", &r.drop);
    let devices: Vec<String> = r
        .devices
        .iter()
        .map(|d| {
            let inside = d.container.as_ref().unwrap_or(&d.host);
            match &d.permissions {
                Some(p) => format!("{}:{inside}:{p}", d.host),
                None if d.container.is_some() => format!("{}:{inside}", d.host),
                None => d.host.clone(),
            }
        })
        .collect();
    w.list("devices", &devices);
    if let Some(gpus) = &r.gpus {
        w.line(2, "gpus:");
        let driver = gpus.driver.as_ref().map_or_else(String::new, |d| format!("driver: {}, ", text(d)));
        let which = if gpus.ids.is_empty() {
            match gpus.count {
                Some(n) if n >= 0 => format!("count: {n}"),
                _ => "count: all".to_owned(),
            }
        } else {
            let ids: Vec<String> = gpus.ids.iter().map(|i| text(i)).collect();
            format!("device_ids: [{}]", ids.join(", "))
        };
        w.line(3, &format!("- {{{driver}{which}}}"));
    }
    w.list("security_opt", &r.security);
    w.list("group_add", &r.groups);
    w.map(2, "sysctls", &r.kernel);
    w.value("pid", r.processes_of.as_ref());
    w.value("ipc", r.memory_of.as_ref());
    w.value("userns_mode", r.users_of.as_ref());
}

fn network(w: &mut Writer, d: &Definition) {
    let n = &d.network;
    w.value("network_mode", n.mode.as_ref());
    if !n.networks.is_empty() {
        w.line(2, "networks:");
        for joined in &n.networks {
            if joined.aliases.is_empty() && joined.address.is_none() && joined.ipv6.is_none() {
                w.line(3, &format!("{}: {{}}", quoted(&joined.name)));
                continue;
            }
            w.line(3, &format!("{}:", quoted(&joined.name)));
            if !joined.aliases.is_empty() {
                w.inline(4, "aliases", &joined.aliases);
            }
            if let Some(address) = &joined.address {
                w.line(4, &format!("ipv4_address: {}", text(address)));
            }
            if let Some(address) = &joined.ipv6 {
                w.line(4, &format!("ipv6_address: {}", text(address)));
            }
        }
    }
    w.list("dns", &n.dns);
    w.list("dns_search", &n.dns_search);
    w.list("dns_opt", &n.dns_options);
    w.list("extra_hosts", &n.hosts);
    w.value("mac_address", n.hardware_address.as_ref());
}

/// What a service names must be declared. It is there already or made on deployment, under its plain name.
fn declared(w: &mut Writer, d: &Definition) {
    let volumes: BTreeMap<&str, &MountRule> = d
        .mounts
        .iter()
        .filter(|m| m.kind == MountKind::Volume)
        .filter_map(|m| Some((m.source.as_deref()?, m)))
        .collect();
    if !volumes.is_empty() {
        w.line(0, "volumes:");
        for (name, m) in volumes {
            w.line(1, &format!("{}:", quoted(name)));
            w.line(2, &format!("name: {}", text(name)));
            if let Some(driver) = &m.driver {
                w.line(2, &format!("driver: {}", text(driver)));
            }
            w.map(2, "driver_opts", &m.options);
        }
    }
    let networks: BTreeSet<&str> = d.network.networks.iter().map(|n| n.name.as_str()).collect();
    if !networks.is_empty() {
        w.line(0, "networks:");
        for name in networks {
            w.line(1, &format!("{}: {{name: {}, external: true}}", quoted(name), text(name)));
        }
    }
}
