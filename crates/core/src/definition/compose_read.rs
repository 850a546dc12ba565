//! Reading one container from Compose text.

mod files;
mod mounts;
mod nodes;
mod parts;

use std::collections::BTreeMap;

use super::compose::{Left, OWNER_KEY, Read};
use super::units::{bytes, millis};
use super::{
    Definition, DeviceRule, EnvironmentEntry, GpuRule, HealthRule, JoinedNetwork, MountKind, MountRule,
    NewFolder, PortRule, ProcessLimit, PullPolicy,
};
use crate::mask::MASK;
use crate::text::shown;
use crate::yaml::{Node, Value, YamlError, read as read_yaml};

pub use files::{EnvironmentFile, environment_files};
use mounts::{long_mount, plain_mount, short_mount};
pub use nodes::words;
use nodes::{command, entries, items, map, number, pairs, size, span, string, texts, truth, unknown};
use parts::{gpus, health, port};

type Result<T> = std::result::Result<T, YamlError>;

/// Keys of a service that mean something only in a stack or at a build.
const ELSEWHERE: &[&str] = &[
    "build",
    "depends_on",
    "deploy",
    "profiles",
    "scale",
    "secrets",
    "configs",
    "extends",
    "links",
    "external_links",
    "volumes_from",
    "annotations",
    "attach",
    "develop",
    "credential_spec",
    "models",
    "provider",
    "post_start",
    "pre_stop",
    "use_api_socket",
    "label_file",
    "cgroup",
    "cgroup_parent",
    "uts",
    "runtime",
    "isolation",
    "blkio_config",
    "device_cgroup_rules",
    "storage_opt",
    "cpu_count",
    "cpu_percent",
    "cpu_period",
    "cpu_quota",
    "cpu_rt_period",
    "cpu_rt_runtime",
    "mem_swappiness",
    "oom_kill_disable",
    "stop_on_removal",
];

/// Reads a text with one service, whole or only what stands below the service's name.
///
/// # Errors
/// The first mistake, with its place.
pub fn read(text: &str) -> Result<Read> {
    read_with(text, &BTreeMap::new())
}

/// Reads it with the texts of the files that its `env_file` names, by their paths as written there.
///
/// # Errors
/// The first mistake, with its place.
pub fn read_with(text: &str, files: &BTreeMap<String, String>) -> Result<Read> {
    let tree = read_yaml(text)?;
    let Value::Map(top) = &tree.value else {
        return Err(
            tree.wrong(format!("a Compose text is a mapping with `services`, this is {}", tree.kind()))
        );
    };
    let (name, service, root) = match tree.get("services") {
        Some(services) => {
            let entries = entries(services, "services")?;
            match entries {
                [(name, service)] => (name.clone(), service, Some(&tree)),
                [] => return Err(services.wrong("`services` is empty; write one service")),
                many => {
                    let sentence = format!(
                        "the text has {} services, the form is for one container; keep one of them, or deploy all as a stack",
                        many.len()
                    );
                    return Err(services.wrong(sentence));
                }
            }
        }
        None if top.iter().any(|(k, _)| k == "image") => (String::new(), &tree, None),
        None => return Err(tree.wrong("there are no `services` in this text")),
    };
    let d = Definition { name, ..Definition::default() };
    let mut reader = Reader { d, left: Vec::new(), root, files, from_files: Vec::new() };
    for (key, node) in entries(service, "a service")? {
        reader.key(key, node, service)?;
    }
    if reader.d.image.is_empty() {
        return Err(service.wrong("the service names no `image`"));
    }
    reader.lay_files_below();
    Ok(Read { definition: reader.d, left: reader.left })
}

struct Reader<'a> {
    d: Definition,
    left: Vec<Left>,
    root: Option<&'a Node>,
    /// Texts of files that `env_file` names.
    files: &'a BTreeMap<String, String>,
    /// What they set; `environment` counts more.
    from_files: Vec<EnvironmentEntry>,
}

impl Reader<'_> {
    fn leave(&mut self, node: &Node, sentence: String) {
        self.left.push(Left { place: node.place, sentence });
    }

    fn key(&mut self, key: &str, node: &Node, service: &Node) -> Result<()> {
        let d = &mut self.d;
        match key {
            "image" => d.image = string(node, key)?,
            "container_name" => d.name = string(node, key)?,
            "pull_policy" => {
                d.pull = match string(node, key)?.as_str() {
                    "always" => PullPolicy::Always,
                    "missing" | "if_not_present" => PullPolicy::Missing,
                    "never" => PullPolicy::Never,
                    other => {
                        return Err(node.wrong(format!(
                            "`pull_policy`: `{}` is none of always, missing, never",
                            shown(other, 40)
                        )));
                    }
                }
            }
            "platform" => d.platform = Some(string(node, key)?),
            "entrypoint" => d.entrypoint = Some(command(node, key)?),
            "command" => d.command = Some(command(node, key)?).filter(|_| node.value != Value::Null),
            "environment" => self.environment(node)?,
            "env_file" => self.environment_files(node)?,
            "user" => d.user = Some(string(node, key)?),
            "working_dir" => d.working_folder = Some(string(node, key)?),
            "hostname" => d.hostname = Some(string(node, key)?),
            "domainname" => d.domain = Some(string(node, key)?),
            "labels" => d.labels = map(node, key)?,
            "ports" => {
                for item in items(node, key)? {
                    self.d.ports.extend(port(item)?);
                }
            }
            "expose" => {
                d.open = texts(node, key)?
                    .into_iter()
                    .map(|p| if p.contains('/') { p } else { format!("{p}/tcp") })
                    .collect();
            }
            "volumes" => {
                for item in items(node, key)? {
                    let mount = self.mount(item)?;
                    self.d.mounts.push(mount);
                }
            }
            "tmpfs" => {
                for text in texts(node, key)? {
                    let target = text.split(':').next().unwrap_or_default().to_owned();
                    self.d.mounts.push(plain_mount(MountKind::Tmpfs, None, target));
                }
            }
            "restart" => {
                let text = string(node, key)?;
                let (policy, most) =
                    text.split_once(':').map_or((text.as_str(), None), |(p, n)| (p, Some(n)));
                if !matches!(policy, "no" | "always" | "unless-stopped" | "on-failure") {
                    return Err(node.wrong(format!(
                        "`restart`: `{}` is none of no, always, on-failure, unless-stopped",
                        shown(&text, 40)
                    )));
                }
                let most = most.map(str::parse).transpose();
                d.restart.most_tries =
                    most.map_err(|_| node.wrong("`restart`: what stands after `:` is not a number"))?;
                d.restart.policy = policy.to_owned();
            }
            "healthcheck" => d.health = Some(health(node)?),
            "stop_grace_period" => {
                d.grace_seconds = Some(u32::try_from(span(node, key)?.div_ceil(1000)).unwrap_or(u32::MAX))
            }
            "stop_signal" => d.stop_signal = Some(string(node, key)?),
            "x-gubernum-auto-remove" => d.auto_remove = truth(node, key)?,
            "init" => d.init = Some(truth(node, key)?),
            "tty" => d.terminal = truth(node, key)?,
            "stdin_open" => d.input = truth(node, key)?,
            "logging" => {
                for (k, v) in entries(node, key)? {
                    match k.as_str() {
                        "driver" => d.log.driver = Some(string(v, k)?),
                        "options" => d.log.options = map(v, k)?,
                        other => return Err(unknown(v, other, "logging", &["driver", "options"])),
                    }
                }
            }
            _ => return self.further(key, node, service),
        }
        Ok(())
    }

    fn further(&mut self, key: &str, node: &Node, service: &Node) -> Result<()> {
        let (l, r, n) = (&mut self.d.limits, &mut self.d.rights, &mut self.d.network);
        match key {
            "mem_limit" => l.memory = Some(size(node, key)?),
            "memswap_limit" => {
                let text = string(node, key)?;
                l.memory_and_swap =
                    Some(if text == "-1" { -1 } else { i64::try_from(size(node, key)?).unwrap_or(i64::MAX) });
            }
            "mem_reservation" => l.memory_reserved = Some(size(node, key)?),
            "shm_size" => l.shared_memory = Some(size(node, key)?),
            "cpus" => l.processors = Some(number(node, key)?),
            "cpu_shares" => l.processor_weight = Some(number(node, key)?),
            "cpuset" => l.processor_set = Some(string(node, key)?),
            "pids_limit" => l.processes = Some(number(node, key)?),
            "oom_score_adj" => l.out_of_memory_score = Some(number(node, key)?),
            "ulimits" => {
                for (name, v) in entries(node, key)? {
                    let (soft, hard) = match (v.get("soft"), v.get("hard")) {
                        (Some(soft), Some(hard)) => (number(soft, name)?, number(hard, name)?),
                        _ => {
                            let both = number(v, name)?;
                            (both, both)
                        }
                    };
                    l.each_process.push(ProcessLimit { name: name.clone(), soft, hard });
                }
            }
            "privileged" => r.privileged = truth(node, key)?,
            "read_only" => r.read_only = truth(node, key)?,
            "cap_add" => r.add = texts(node, key)?,
            "cap_drop" => r.drop = texts(node, key)?,
            "devices" => {
                for text in texts(node, key)? {
                    let mut parts = text.splitn(3, ':').map(str::to_owned);
                    let host = parts.next().unwrap_or_default();
                    r.devices.push(DeviceRule {
                        container: parts.next().filter(|c| *c != host),
                        permissions: parts.next(),
                        host,
                    });
                }
            }
            "gpus" => r.gpus = Some(gpus(node)?),
            "security_opt" => r.security = texts(node, key)?,
            "group_add" => r.groups = texts(node, key)?,
            "sysctls" => r.kernel = map(node, key)?,
            "pid" => r.processes_of = Some(string(node, key)?),
            "ipc" => r.memory_of = Some(string(node, key)?),
            "userns_mode" => r.users_of = Some(string(node, key)?),
            "network_mode" => n.mode = Some(string(node, key)?),
            "networks" => self.networks(node)?,
            "dns" => n.dns = texts(node, key)?,
            "dns_search" => n.dns_search = texts(node, key)?,
            "dns_opt" => n.dns_options = texts(node, key)?,
            "mac_address" => n.hardware_address = Some(string(node, key)?),
            "extra_hosts" => {
                n.hosts = match &node.value {
                    Value::Map(_) => map(node, key)?.into_iter().map(|(k, v)| format!("{k}:{v}")).collect(),
                    _ => texts(node, key)?.into_iter().map(|t| t.replacen('=', ":", 1)).collect(),
                }
            }
            key if key.starts_with("x-") => {}
            "deploy" => self.resources(node)?,
            key if ELSEWHERE.contains(&key) => {
                let sentence = format!("`{key}` is left out: it cannot be set on a single container here");
                self.leave(node, sentence);
            }
            other => {
                let known = [
                    "image",
                    "container_name",
                    "command",
                    "entrypoint",
                    "environment",
                    "ports",
                    "volumes",
                    "networks",
                    "restart",
                    "healthcheck",
                    "labels",
                    "user",
                    "working_dir",
                    "hostname",
                    "mem_limit",
                    "cpus",
                    "logging",
                    "network_mode",
                    "privileged",
                    "read_only",
                    "cap_add",
                    "cap_drop",
                    "devices",
                    "tmpfs",
                    "extra_hosts",
                ];
                let _ = service;
                return Err(unknown(node, other, "a service", &known));
            }
        }
        Ok(())
    }

    /// Limits written in the newer place; the rest of `deploy` is for stacks.
    fn resources(&mut self, node: &Node) -> Result<()> {
        for (key, value) in entries(node, "deploy")? {
            if key != "resources" {
                self.leave(
                    value,
                    format!("`deploy.{key}` is left out: it means nothing for a single container here"),
                );
                continue;
            }
            let limits = &mut self.d.limits;
            if let Some(most) = value.get("limits") {
                for (k, v) in entries(most, "limits")? {
                    match k.as_str() {
                        "cpus" => limits.processors = Some(number(v, k)?),
                        "memory" => limits.memory = Some(size(v, k)?),
                        "pids" => limits.processes = Some(number(v, k)?),
                        other => return Err(unknown(v, other, "limits", &["cpus", "memory", "pids"])),
                    }
                }
            }
            if let Some(memory) = value.get("reservations").and_then(|r| r.get("memory")) {
                limits.memory_reserved = Some(size(memory, "memory")?);
            }
        }
        Ok(())
    }

    fn environment(&mut self, node: &Node) -> Result<()> {
        for (name, value) in pairs(node, "environment")? {
            let hidden = value.as_deref() == Some(MASK);
            if value.is_none() {
                let sentence = format!("`{name}` has no value in the text; it is empty here");
                self.leave(node, sentence);
            }
            self.d.environment.retain(|e| e.name != name);
            self.d.environment.push(EnvironmentEntry { name, value: value.unwrap_or_default(), hidden });
        }
        Ok(())
    }

    fn networks(&mut self, node: &Node) -> Result<()> {
        let names: Vec<(String, Option<&Node>)> = match &node.value {
            Value::Map(entries) => entries.iter().map(|(k, v)| (k.clone(), Some(v))).collect(),
            _ => texts(node, "networks")?.into_iter().map(|n| (n, None)).collect(),
        };
        for (name, settings) in names {
            let mut joined = JoinedNetwork {
                name: self.declared_name("networks", &name),
                aliases: Vec::new(),
                address: None,
                ipv6: None,
            };
            for (k, v) in settings.map_or(Ok(&[][..]), |s| entries(s, "networks"))? {
                match k.as_str() {
                    "aliases" => joined.aliases = texts(v, k)?,
                    "ipv4_address" => joined.address = Some(string(v, k)?),
                    "ipv6_address" => joined.ipv6 = Some(string(v, k)?),
                    "mac_address" => self.d.network.hardware_address = Some(string(v, k)?),
                    other => self.left.push(Left {
                        place: v.place,
                        sentence: format!("`{other}` of a network is left out"),
                    }),
                }
            }
            self.d.network.networks.push(joined);
        }
        Ok(())
    }

    /// The name under which something at the top is really known.
    fn declared_name(&self, section: &str, name: &str) -> String {
        let declared = self.root.and_then(|r| r.get(section)).and_then(|s| s.get(name));
        declared.and_then(|d| d.get("name")).and_then(Node::scalar).unwrap_or_else(|| name.to_owned())
    }

    fn mount(&mut self, item: &Node) -> Result<MountRule> {
        let mut mount = match &item.value {
            Value::Map(entries) => long_mount(item, entries)?,
            _ => short_mount(item)?,
        };
        if mount.kind == MountKind::Volume
            && let Some(source) = mount.source.clone()
        {
            if let Some(declared) = self.root.and_then(|r| r.get("volumes")).and_then(|v| v.get(&source)) {
                mount.driver = declared.get("driver").and_then(Node::scalar);
                if let Some(options) = declared.get("driver_opts") {
                    mount.options = map(options, "driver_opts")?;
                }
            }
            mount.source = Some(self.declared_name("volumes", &source));
        }
        Ok(mount)
    }
}
