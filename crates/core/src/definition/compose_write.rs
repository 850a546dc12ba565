//! Writes a definition as a Compose file.

use std::collections::{BTreeMap, BTreeSet};
use std::fmt::Write as _;

use super::compose::OWNER_KEY;
use super::units::{size, span};
use super::{
    BlockLimits, Definition, HealthRule, MountKind, MountRule, NetworkConnection, NewFolder, PortRule,
};
use crate::compose::read::is_key;
use crate::yaml::quoted;

/// `$` begins a variable in Compose text, so one that is meant is doubled.
fn text(value: &str) -> String {
    quoted(&value.replace('$', "$$"))
}

/// The longest key that is written as usual.
const LONGEST_PLAIN_KEY: usize = 1000;

struct Writer {
    out: String,
}

impl Writer {
    fn line(&mut self, depth: usize, words: &str) {
        let _ = writeln!(self.out, "{:1$}{words}", "", depth * 2);
    }

    /// A key with a value on its line. YAML takes keys of more than 1024 characters only with a mark before them.
    fn entry(&mut self, depth: usize, key: &str, value: &str) {
        let key = quoted(key);
        if key.chars().count() > LONGEST_PLAIN_KEY {
            self.line(depth, &format!("? {key}"));
            self.line(depth, &format!(": {value}"));
        } else {
            self.line(depth, &format!("{key}: {value}"));
        }
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
            self.entry(depth + 1, k, &text(v));
        }
    }
}

/// What a service is called whose definition has no name.
pub const NAMELESS: &str = "container";

/// The Compose text of a definition: one service, and the volumes and networks it names.
pub fn write(d: &Definition) -> String {
    let mut w = Writer { out: String::new() };
    let names = Names::of(d);
    let service = if is_key(&d.name) { &d.name } else { NAMELESS };
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
            w.entry(3, &e.name, &text(&e.value));
        }
    }
    w.value("user", d.user.as_ref());
    w.value("working_dir", d.working_folder.as_ref());
    w.value("hostname", d.hostname.as_ref());
    w.value("domainname", d.domain.as_ref());
    w.map(2, "labels", &d.labels);
    w.map(2, "annotations", &d.annotations);
    ports(&mut w, &d.ports);
    w.list("expose", &d.open);
    mounts(&mut w, &names, &d.mounts);
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
    network(&mut w, &names, d);
    if d.log.driver.is_some() || !d.log.options.is_empty() {
        w.line(2, "logging:");
        if let Some(driver) = &d.log.driver {
            w.line(3, &format!("driver: {}", text(driver)));
        }
        w.map(3, "options", &d.log.options);
    }
    w.value("runtime", d.runtime.as_ref());
    w.map(2, "storage_opt", &d.storage);
    declared(&mut w, &names, d);
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
            Some(port) => match p.host_port_to {
                Some(to) => format!("{port}-{to}:"),
                None => format!("{port}:"),
            },
            None if address.is_empty() => String::new(),
            None => ":".to_owned(),
        };
        let protocol = if p.protocol == "tcp" { String::new() } else { format!("/{}", p.protocol) };
        w.line(3, &format!("- \"{address}{host}{}{protocol}\"", p.container_port));
    }
}

fn mounts(w: &mut Writer, names: &Names<'_>, mounts: &[MountRule]) {
    // Options that only the short form can express force all of their kind into it, so that their order stays.
    let is_short = mounts.iter().any(|m| m.kind == MountKind::Tmpfs && !m.options.is_empty());
    let (short, long): (Vec<&MountRule>, Vec<&MountRule>) =
        mounts.iter().partition(|m| is_short && m.kind == MountKind::Tmpfs);
    w.list("tmpfs", &short.into_iter().map(short_tmpfs).collect::<Vec<_>>());
    if long.is_empty() {
        return;
    }
    w.line(2, "volumes:");
    for m in long {
        let kind = match m.kind {
            MountKind::Volume => "volume",
            MountKind::Bind => "bind",
            MountKind::Tmpfs => "tmpfs",
            MountKind::Image => "image",
        };
        w.line(3, &format!("- type: {kind}"));
        if let Some(source) = &m.source {
            let source = if m.kind == MountKind::Volume { names.key(source) } else { source };
            w.line(4, &format!("source: {}", text(source)));
        }
        w.line(4, &format!("target: {}", text(&m.target)));
        if m.read_only {
            w.line(4, "read_only: true");
        }
        let more = match m.kind {
            MountKind::Volume => volume_settings(m),
            MountKind::Bind => bind_settings(m),
            MountKind::Tmpfs => [
                m.size.map(|bytes| format!("size: \"{}\"", size(bytes))),
                m.mode.as_ref().map(|mode| format!("mode: 0o{mode}")),
            ]
            .into_iter()
            .flatten()
            .collect(),
            MountKind::Image => m.subpath.iter().map(|path| format!("subpath: {}", text(path))).collect(),
        };
        if !more.is_empty() {
            w.line(4, &format!("{kind}:"));
            more.iter().for_each(|line| w.line(5, line));
        }
        // Labels of a volume with a name stand where it is declared.
        if m.kind == MountKind::Volume && m.source.is_none() && !m.labels.is_empty() {
            if more.is_empty() {
                w.line(4, "volume:");
            }
            w.map(5, "labels", &m.labels);
        }
    }
}

/// `TARGET:OPTION,…`.
fn short_tmpfs(m: &MountRule) -> String {
    let read_only = m.read_only.then(|| "ro".to_owned());
    let size = m.size.map(|bytes| format!("size={bytes}"));
    let mode = m.mode.as_ref().map(|mode| format!("mode={mode}"));
    let others = m.options.iter().map(|(name, value)| match value.as_str() {
        "" => name.clone(),
        value => format!("{name}={value}"),
    });
    let options: Vec<String> = read_only.into_iter().chain(size).chain(mode).chain(others).collect();
    format!("{}:{}", m.target, options.join(","))
}

fn volume_settings(m: &MountRule) -> Vec<String> {
    let no_copy = m.no_copy.then(|| "nocopy: true".to_owned());
    no_copy.into_iter().chain(m.subpath.iter().map(|path| format!("subpath: {}", text(path)))).collect()
}

fn bind_settings(m: &MountRule) -> Vec<String> {
    let mut lines = Vec::new();
    lines.push(format!("create_host_path: {}", m.make.is_some()));
    if let Some(make) = m.make.as_ref().filter(|make| **make != NewFolder::default()) {
        let mode = make.mode.as_ref().map_or_else(String::new, |m| format!(":{m}"));
        lines.push(format!("{OWNER_KEY}: \"{}:{}{mode}\"", make.user, make.group));
    }
    lines.extend(m.propagation.iter().map(|p| format!("propagation: {}", text(p))));
    lines.extend(m.selinux.iter().map(|label| format!("selinux: {}", text(label))));
    lines.extend(
        m.below.iter().map(|below| format!("recursive: {}", if below == "no" { "disabled" } else { below })),
    );
    lines
}

fn health_check(w: &mut Writer, h: &HealthRule) {
    w.line(2, "healthcheck:");
    if h.disabled {
        w.line(3, "disable: true");
    }
    if !h.test.is_empty() {
        w.inline(3, "test", &h.test);
    }
    for (key, ms) in [
        ("interval", h.interval_ms),
        ("timeout", h.timeout_ms),
        ("start_period", h.start_ms),
        ("start_interval", h.start_interval_ms),
    ] {
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
    w.bare("oom_kill_disable", l.waits_for_memory.then_some(true));
    w.bare("mem_swappiness", l.swappiness);
    w.bare("cpu_period", l.processor_period);
    w.bare("cpu_quota", l.processor_quota);
    w.bare("cpu_rt_period", l.real_time_period);
    w.bare("cpu_rt_runtime", l.real_time_runtime);
    w.value("cgroup_parent", l.control_group.as_ref());
    block(w, &l.block);
    if !l.each_process.is_empty() {
        w.line(2, "ulimits:");
        for u in &l.each_process {
            w.line(3, &format!("{}: {{soft: {}, hard: {}}}", quoted(&u.name), u.soft, u.hard));
        }
    }
}

fn block(w: &mut Writer, b: &BlockLimits) {
    if b.is_unset() {
        return;
    }
    w.line(2, "blkio_config:");
    if let Some(weight) = b.weight {
        w.line(3, &format!("weight: {weight}"));
    }
    if !b.weights.is_empty() {
        w.line(3, "weight_device:");
        for one in &b.weights {
            w.line(4, &format!("- {{path: {}, weight: {}}}", text(&one.path), one.weight));
        }
    }
    for (key, rates) in [
        ("device_read_bps", &b.read_bytes),
        ("device_write_bps", &b.write_bytes),
        ("device_read_iops", &b.reads),
        ("device_write_iops", &b.writes),
    ] {
        if !rates.is_empty() {
            w.line(3, &format!("{key}:"));
        }
        for one in rates {
            w.line(4, &format!("- {{path: {}, rate: {}}}", text(&one.path), one.rate));
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
        let driver = gpus.driver.as_ref().map(|d| format!("driver: {}", text(d)));
        let which = if gpus.ids.is_empty() {
            match gpus.count {
                Some(n) if n >= 0 => format!("count: {n}"),
                _ => "count: all".to_owned(),
            }
        } else {
            let ids: Vec<String> = gpus.ids.iter().map(|i| text(i)).collect();
            format!("device_ids: [{}]", ids.join(", "))
        };
        driver.into_iter().chain([which]).enumerate().for_each(|(n, line)| {
            w.line(3, &format!("{}{line}", if n == 0 { "- " } else { "  " }));
        });
        if !gpus.abilities.is_empty() {
            w.inline(4, "capabilities", &gpus.abilities);
        }
        w.map(4, "options", &gpus.options);
    }
    w.list("device_cgroup_rules", &r.device_rules);
    w.list("security_opt", &r.security);
    w.list("group_add", &r.groups);
    w.map(2, "sysctls", &r.kernel);
    w.value("pid", r.processes_of.as_ref());
    w.value("ipc", r.memory_of.as_ref());
    w.value("uts", r.hostname_of.as_ref());
    w.value("cgroup", r.groups_of.as_ref());
    w.value("userns_mode", r.users_of.as_ref());
}

fn network(w: &mut Writer, names: &Names<'_>, d: &Definition) {
    let n = &d.network;
    w.value("network_mode", n.mode.as_ref());
    if !n.networks.is_empty() {
        w.line(2, "networks:");
        for joined in &n.networks {
            let key = quoted(names.key(&joined.name));
            if *joined == (NetworkConnection { name: joined.name.clone(), ..NetworkConnection::default() }) {
                w.line(3, &format!("{key}: {{}}"));
                continue;
            }
            w.line(3, &format!("{key}:"));
            if !joined.aliases.is_empty() {
                w.inline(4, "aliases", &joined.aliases);
            }
            if !joined.link_local.is_empty() {
                w.inline(4, "link_local_ips", &joined.link_local);
            }
            for (key, value) in [
                ("ipv4_address", &joined.address),
                ("ipv6_address", &joined.ipv6),
                ("mac_address", &joined.hardware_address),
                ("interface_name", &joined.interface),
            ] {
                if let Some(value) = value {
                    w.line(4, &format!("{key}: {}", text(value)));
                }
            }
            if let Some(priority) = joined.gateway_priority {
                w.line(4, &format!("gw_priority: {priority}"));
            }
            w.map(4, "driver_opts", &joined.options);
        }
    }
    w.list("dns", &n.dns);
    w.list("dns_search", &n.dns_search);
    w.list("dns_opt", &n.dns_options);
    w.list("extra_hosts", &n.hosts);
    w.value("mac_address", n.hardware_address.as_ref());
}

/// The names of volumes and networks in a text: their own, or ones made up where those cannot appear.
struct Names<'a> {
    made_up: BTreeMap<&'a str, String>,
}

impl<'a> Names<'a> {
    fn of(d: &'a Definition) -> Self {
        let volumes =
            d.mounts.iter().filter(|m| m.kind == MountKind::Volume).filter_map(|m| m.source.as_deref());
        let networks = d.network.networks.iter().map(|n| n.name.as_str());
        let all: BTreeSet<&str> = volumes.chain(networks).collect();
        // `default` stands for the network that nobody names.
        let odd = all.iter().filter(|name| !is_key(name) || **name == "default").enumerate();
        let made_up = odd.map(|(n, name)| {
            let free = (n + 1..).map(|n| format!("name-{n}")).find(|key| !all.contains(key.as_str()));
            (*name, free.unwrap_or_default())
        });
        Self { made_up: made_up.collect() }
    }

    fn key<'b>(&'b self, name: &'b str) -> &'b str {
        self.made_up.get(name).map_or(name, String::as_str)
    }
}

/// What a service names must be declared. It is there already or made on deployment, under its plain name.
fn declared(w: &mut Writer, names: &Names<'_>, d: &Definition) {
    let volumes: BTreeMap<&str, &MountRule> = d
        .mounts
        .iter()
        .filter(|m| m.kind == MountKind::Volume)
        .filter_map(|m| Some((m.source.as_deref()?, m)))
        .collect();
    if !volumes.is_empty() {
        w.line(0, "volumes:");
        for (name, m) in volumes {
            w.line(1, &format!("{}:", quoted(names.key(name))));
            w.line(2, &format!("name: {}", text(name)));
            if let Some(driver) = &m.driver {
                w.line(2, &format!("driver: {}", text(driver)));
            }
            w.map(2, "driver_opts", &m.options);
            w.map(2, "labels", &m.labels);
        }
    }
    let networks: BTreeSet<&str> = d.network.networks.iter().map(|n| n.name.as_str()).collect();
    if !networks.is_empty() {
        w.line(0, "networks:");
        for name in networks {
            w.line(1, &format!("{}: {{name: {}, external: true}}", quoted(names.key(name)), text(name)));
        }
    }
}
