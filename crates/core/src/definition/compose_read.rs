//! Reading one container from Compose text.

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
    "env_file",
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
    let mut reader = Reader { d: Definition { name, ..Definition::default() }, left: Vec::new(), root };
    for (key, node) in entries(service, "a service")? {
        reader.key(key, node, service)?;
    }
    if reader.d.image.is_empty() {
        return Err(service.wrong("the service names no `image`"));
    }
    Ok(Read { definition: reader.d, left: reader.left })
}

fn entries<'a>(node: &'a Node, what: &str) -> Result<&'a [(String, Node)]> {
    match &node.value {
        Value::Map(entries) => Ok(entries),
        Value::Null => Ok(&[]),
        _ => Err(node.wrong(format!("`{what}` is a mapping, this is {}", node.kind()))),
    }
}

fn items<'a>(node: &'a Node, what: &str) -> Result<&'a [Node]> {
    match &node.value {
        Value::List(items) => Ok(items),
        Value::Null => Ok(&[]),
        _ => Err(node.wrong(format!("`{what}` is a list, this is {}", node.kind()))),
    }
}

/// Fills in variables of the text that have a default, and makes `$$` one `$`. Others stay as they are, to
/// be caught as placeholders.
fn filled(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    let mut rest = text;
    while let Some(at) = rest.find('$') {
        out.push_str(&rest[..at]);
        rest = &rest[at..];
        if let Some(after) = rest.strip_prefix("$$") {
            out.push('$');
            rest = after;
        } else if let Some((inside, after)) = rest.strip_prefix("${").and_then(|r| r.split_once('}')) {
            match inside.split_once(":-").or_else(|| inside.split_once('-')) {
                Some((_, default)) => out.push_str(default),
                None => out.push_str(&format!("${{{inside}}}")),
            }
            rest = after;
        } else {
            out.push('$');
            rest = &rest[1..];
        }
    }
    out.push_str(rest);
    out
}

fn string(node: &Node, what: &str) -> Result<String> {
    let text =
        node.scalar().ok_or_else(|| node.wrong(format!("`{what}` is a text, this is {}", node.kind())))?;
    Ok(filled(&text))
}

fn truth(node: &Node, what: &str) -> Result<bool> {
    match &node.value {
        Value::Bool(b) => Ok(*b),
        Value::Text(t) if t == "true" || t == "false" => Ok(t == "true"),
        _ => Err(node.wrong(format!("`{what}` is `true` or `false`"))),
    }
}

fn number<T: std::str::FromStr>(node: &Node, what: &str) -> Result<T> {
    let text = string(node, what)?;
    text.trim()
        .parse()
        .map_err(|_| node.wrong(format!("`{what}`: `{}` is not a number that fits", shown(&text, 40))))
}

fn size(node: &Node, what: &str) -> Result<u64> {
    let text = string(node, what)?;
    bytes(&text).ok_or_else(|| {
        node.wrong(format!(
            "`{what}`: `{}` is not a size; write for example `512m` or `2g`",
            shown(&text, 40)
        ))
    })
}

fn span(node: &Node, what: &str) -> Result<u64> {
    let text = string(node, what)?;
    millis(&text).ok_or_else(|| {
        node.wrong(format!(
            "`{what}`: `{}` is not a span of time; write for example `30s` or `1m30s`",
            shown(&text, 40)
        ))
    })
}

/// A text or a list of texts.
fn texts(node: &Node, what: &str) -> Result<Vec<String>> {
    match &node.value {
        Value::List(items) => items.iter().map(|i| string(i, what)).collect(),
        Value::Null => Ok(Vec::new()),
        _ => Ok(vec![string(node, what)?]),
    }
}

/// A mapping, or a list of `key=value`. A key alone has no value.
fn pairs(node: &Node, what: &str) -> Result<Vec<(String, Option<String>)>> {
    match &node.value {
        Value::Map(entries) => entries
            .iter()
            .map(|(k, v)| Ok((k.clone(), if v.value == Value::Null { None } else { Some(string(v, what)?) })))
            .collect(),
        Value::List(items) => items
            .iter()
            .map(|i| {
                let text = string(i, what)?;
                Ok(match text.split_once('=') {
                    Some((k, v)) => (k.to_owned(), Some(v.to_owned())),
                    None => (text, None),
                })
            })
            .collect(),
        Value::Null => Ok(Vec::new()),
        _ => {
            Err(node
                .wrong(format!("`{what}` is a mapping or a list of `NAME=value`, this is {}", node.kind())))
        }
    }
}

fn map(node: &Node, what: &str) -> Result<BTreeMap<String, String>> {
    Ok(pairs(node, what)?.into_iter().map(|(k, v)| (k, v.unwrap_or_default())).collect())
}

/// A command: a list as it is, a text taken apart as a shell would.
fn command(node: &Node, what: &str) -> Result<Vec<String>> {
    match &node.value {
        Value::List(items) => items.iter().map(|i| string(i, what)).collect(),
        Value::Null => Ok(Vec::new()),
        _ => words(&string(node, what)?)
            .ok_or_else(|| node.wrong(format!("`{what}` has a quote that is not closed"))),
    }
}

/// Takes a line apart into words: blanks part them, quotes and `\` hold them together. `None` for an open
/// quote.
pub fn words(line: &str) -> Option<Vec<String>> {
    let (mut out, mut word, mut quote, mut begun) = (Vec::new(), String::new(), None, false);
    let mut chars = line.chars();
    while let Some(c) = chars.next() {
        match (quote, c) {
            (Some('\''), '\'') | (Some('"'), '"') => quote = None,
            (Some('"'), '\\') => match chars.next()? {
                escaped @ ('"' | '\\' | '$' | '`') => word.push(escaped),
                other => word.extend(['\\', other]),
            },
            (Some(_), c) => word.push(c),
            (None, '\'' | '"') => (quote, begun) = (Some(c), true),
            (None, '\\') => {
                word.push(chars.next()?);
                begun = true;
            }
            (None, c) if c.is_whitespace() => {
                if begun {
                    out.push(std::mem::take(&mut word));
                    begun = false;
                }
            }
            (None, c) => {
                word.push(c);
                begun = true;
            }
        }
    }
    if begun {
        out.push(word);
    }
    quote.is_none().then_some(out)
}

struct Reader<'a> {
    d: Definition,
    left: Vec<Left>,
    root: Option<&'a Node>,
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
                let sentence = format!("`{key}` is left out: it means nothing for a single container here");
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

fn unknown(node: &Node, key: &str, of: &str, known: &[&str]) -> YamlError {
    let near = known.iter().map(|k| (strsim::jaro_winkler(k, key), k)).max_by(|a, b| a.0.total_cmp(&b.0));
    let hint = near
        .filter(|(score, _)| *score > 0.8)
        .map_or_else(String::new, |(_, k)| format!("; did you mean `{k}`?"));
    node.wrong(format!("`{}` is not a key of {of}{hint}", shown(key, 40)))
}

fn plain_mount(kind: MountKind, source: Option<String>, target: String) -> MountRule {
    MountRule {
        kind,
        source,
        target,
        read_only: false,
        make: None,
        propagation: None,
        size: None,
        driver: None,
        options: BTreeMap::new(),
    }
}

fn short_mount(item: &Node) -> Result<MountRule> {
    let text = string(item, "volumes")?;
    let mut parts = text.split(':');
    let first = parts.next().unwrap_or_default().to_owned();
    let Some(target) = parts.next() else {
        return Ok(plain_mount(MountKind::Volume, None, first));
    };
    let bind = first.starts_with(['/', '.', '~']);
    if bind && !first.starts_with('/') {
        let sentence = format!(
            "`{}` begins where this text lies, which no host knows; write the whole path from `/`",
            shown(&first, 80)
        );
        return Err(item.wrong(sentence));
    }
    let mut mount =
        plain_mount(if bind { MountKind::Bind } else { MountKind::Volume }, Some(first), target.to_owned());
    for option in parts.next().unwrap_or_default().split(',').filter(|o| !o.is_empty()) {
        match option {
            "ro" => mount.read_only = true,
            "rw" | "z" | "Z" | "nocopy" | "cached" | "delegated" | "consistent" => {}
            "shared" | "slave" | "private" | "rshared" | "rslave" | "rprivate" => {
                mount.propagation = Some(option.to_owned())
            }
            other => return Err(item.wrong(format!("`{}` is not an option of a mount", shown(other, 40)))),
        }
    }
    Ok(mount)
}

fn long_mount(item: &Node, entries_of: &[(String, Node)]) -> Result<MountRule> {
    let kind = match item.get("type").and_then(Node::scalar).as_deref() {
        Some("volume") | None => MountKind::Volume,
        Some("bind") => MountKind::Bind,
        Some("tmpfs") => MountKind::Tmpfs,
        Some(other) => {
            return Err(
                item.wrong(format!("`{}` is not a type of mount: volume, bind or tmpfs", shown(other, 40)))
            );
        }
    };
    let mut mount = plain_mount(kind, None, String::new());
    for (k, v) in entries_of {
        match k.as_str() {
            "type" | "consistency" | "volume" => {}
            "source" | "src" => mount.source = Some(string(v, k)?),
            "target" | "destination" | "dst" => mount.target = string(v, k)?,
            "read_only" => mount.read_only = truth(v, k)?,
            "bind" => {
                mount.propagation = v.get("propagation").and_then(Node::scalar);
                let owner = v.get(OWNER_KEY).and_then(Node::scalar);
                let create = v.get("create_host_path").map(|c| truth(c, "create_host_path")).transpose()?;
                if create == Some(true) || owner.is_some() {
                    let owner = owner.unwrap_or_default();
                    let mut parts = owner.split(':');
                    let mut id = || parts.next().filter(|p| !p.is_empty()).map_or(Ok(0), str::parse);
                    let wrong = |_| {
                        v.wrong("the owner of a new folder is `user:group` or `user:group:mode`, in numbers")
                    };
                    let (user, group) = (id().map_err(wrong)?, id().map_err(wrong)?);
                    mount.make = Some(NewFolder { user, group, mode: parts.next().map(str::to_owned) });
                }
            }
            "tmpfs" => mount.size = v.get("size").map(|s| size(s, "size")).transpose()?,
            other => {
                return Err(unknown(
                    v,
                    other,
                    "a mount",
                    &["type", "source", "target", "read_only", "bind", "volume", "tmpfs"],
                ));
            }
        }
    }
    if mount.target.is_empty() {
        return Err(item.wrong("a mount needs a `target`, the path inside the container"));
    }
    Ok(mount)
}

/// A rule, or several for a range.
fn port(item: &Node) -> Result<Vec<PortRule>> {
    if let Value::Map(entries) = &item.value {
        let (mut target, mut published, mut address, mut protocol) = (None, None, None, "tcp".to_owned());
        for (k, v) in entries {
            match k.as_str() {
                "target" => target = Some(number::<u16>(v, k)?),
                "published" => published = Some(string(v, k)?),
                "host_ip" => address = Some(string(v, k)?),
                "protocol" => protocol = string(v, k)?,
                "mode" | "name" | "app_protocol" => {}
                other => {
                    return Err(unknown(v, other, "a port", &["target", "published", "host_ip", "protocol"]));
                }
            }
        }
        let target = target.ok_or_else(|| item.wrong("a port needs a `target`, the port inside"))?;
        let host = published.filter(|p| !p.is_empty()).map(|p| one_port(item, &p)).transpose()?;
        return Ok(vec![PortRule { address, host_port: host, container_port: target, protocol }]);
    }
    let text = string(item, "ports")?;
    let (rest, protocol) = text.split_once('/').map_or((text.as_str(), "tcp"), |(r, p)| (r, p));
    if !matches!(protocol, "tcp" | "udp" | "sctp") {
        return Err(item.wrong(format!("`{}` is not a protocol: tcp, udp or sctp", shown(protocol, 20))));
    }
    let (front, inside) = rest.rsplit_once(':').map_or((None, rest), |(f, i)| (Some(f), i));
    let (address, outside) = match front {
        None => (None, None),
        Some(front) => match front.rsplit_once(':') {
            Some((address, outside)) => {
                (Some(address.trim_matches(['[', ']']).to_owned()), Some(outside).filter(|o| !o.is_empty()))
            }
            None => (None, Some(front)),
        },
    };
    let inside = range(item, inside)?;
    let outside = outside.map(|o| range(item, o)).transpose()?;
    if let Some(outside) = &outside
        && outside.len() != inside.len()
    {
        return Err(item.wrong(format!("`{}`: the two ranges are not equally long", shown(&text, 60))));
    }
    Ok(inside
        .enumerate()
        .map(|(n, container_port)| PortRule {
            address: address.clone(),
            host_port: outside.clone().and_then(|mut o| o.nth(n)),
            container_port,
            protocol: protocol.to_owned(),
        })
        .collect())
}

fn one_port(item: &Node, text: &str) -> Result<u16> {
    let port: Option<u16> = text.trim().parse().ok().filter(|&p| p > 0);
    port.ok_or_else(|| item.wrong(format!("`{}` is not a port: a number from 1 to 65535", shown(text, 40))))
}

fn range(item: &Node, text: &str) -> Result<std::ops::RangeInclusive<u16>> {
    let (first, last) = text.split_once('-').unwrap_or((text, text));
    let (first, last) = (one_port(item, first)?, one_port(item, last)?);
    if last < first || last - first > 1000 {
        return Err(item.wrong(format!("`{}` is not a range of at most 1000 ports", shown(text, 40))));
    }
    Ok(first..=last)
}

fn health(node: &Node) -> Result<HealthRule> {
    let mut h = HealthRule::default();
    for (k, v) in entries(node, "healthcheck")? {
        match k.as_str() {
            "disable" => h.disabled = truth(v, k)?,
            "test" => {
                h.test = match &v.value {
                    Value::List(_) => texts(v, k)?,
                    _ => vec!["CMD-SHELL".to_owned(), string(v, k)?],
                };
                match h.test.first().map(String::as_str) {
                    Some("NONE") => (h.disabled, h.test) = (true, Vec::new()),
                    Some("CMD" | "CMD-SHELL") => {}
                    _ => return Err(v.wrong("`test` begins with `CMD`, `CMD-SHELL` or `NONE`")),
                }
            }
            "interval" => h.interval_ms = Some(span(v, k)?),
            "timeout" => h.timeout_ms = Some(span(v, k)?),
            "start_period" => h.start_ms = Some(span(v, k)?),
            "start_interval" => {}
            "retries" => h.retries = Some(number(v, k)?),
            other => {
                return Err(unknown(
                    v,
                    other,
                    "healthcheck",
                    &["test", "interval", "timeout", "retries", "start_period", "disable"],
                ));
            }
        }
    }
    Ok(h)
}

fn gpus(node: &Node) -> Result<GpuRule> {
    let mut rule = GpuRule { count: None, ids: Vec::new(), driver: None };
    if node.scalar().as_deref() == Some("all") {
        rule.count = Some(-1);
        return Ok(rule);
    }
    let items = items(node, "gpus")?;
    for (k, v) in items.first().map_or(Ok(&[][..]), |first| entries(first, "gpus"))? {
        match k.as_str() {
            "driver" => rule.driver = Some(string(v, k)?),
            "device_ids" => rule.ids = texts(v, k)?,
            "count" => {
                rule.count = Some(if v.scalar().as_deref() == Some("all") { -1 } else { number(v, k)? })
            }
            "capabilities" | "options" => {}
            other => return Err(unknown(v, other, "gpus", &["driver", "count", "device_ids"])),
        }
    }
    Ok(rule)
}
