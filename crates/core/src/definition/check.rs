//! Mistakes of a definition, found before an engine hears of it, each with its field.
//!
//! Pure: what only a host or a registry can tell (paths, programs that listen, architectures) comes in with
//! [`Around`]; what is not known is not complained of.

use std::collections::{BTreeMap, BTreeSet, HashMap};

use serde::{Deserialize, Serialize};

use super::{Definition, LONGEST_VALUE, MOST_ENTRIES, MountKind};
use crate::assets::Assets;
use crate::container::{Container, Port};
use crate::host::Host;
use crate::image_name::ImageName;
use crate::text::shown;

/// How bad a finding is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "lowercase")]
pub enum Weight {
    /// It cannot work; it is not tried.
    Error,
    /// It may not be meant.
    Warning,
}

/// One mistake.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Finding {
    /// The field as a JSON pointer into the definition, e.g. `/ports/0/host_port`.
    pub field: String,
    /// How bad it is.
    pub weight: Weight,
    /// What is wrong and what to do.
    pub sentence: String,
    /// A value for the field that would do.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub proposal: Option<String>,
}

/// What there is at a path of a host.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "lowercase")]
pub enum AtPath {
    /// A folder.
    Folder,
    /// A file, or something else that is not a folder.
    File,
    /// Nothing.
    Nothing,
}

/// What is known of the place where the container is to be.
#[derive(Debug, Clone, Default)]
pub struct Around<'a> {
    /// The host.
    pub host: Option<&'a Host>,
    /// Its containers.
    pub containers: Vec<&'a Container>,
    /// What it holds.
    pub assets: Option<&'a Assets>,
    /// The container that is replaced: its name and ports are free.
    pub replaces: Option<&'a str>,
    /// What there is at paths of the host, where it was asked.
    pub paths: BTreeMap<String, AtPath>,
    /// Ports that other programs of the host listen on, where it was asked.
    pub foreign_ports: BTreeSet<(u16, String)>,
    /// The architectures that the image exists for, where the registry or the host told.
    pub architectures: Option<Vec<String>>,
    /// Why the image cannot be had, where the registry told.
    pub image_problem: Option<String>,
}

/// The ports that containers of a host hold or want, with who holds them.
pub fn held_ports<'a>(
    containers: impl IntoIterator<Item = &'a Container>,
    except: Option<&str>,
) -> HashMap<(u16, String), Vec<(&'a Container, &'a Port)>> {
    let mut held: HashMap<(u16, String), Vec<(&Container, &Port)>> = HashMap::new();
    for c in containers.into_iter().filter(|c| Some(c.id.as_str()) != except) {
        for p in &c.ports {
            if let Some(port) = p.host_port {
                held.entry((port, p.protocol.clone())).or_default().push((c, p));
            }
        }
    }
    held
}

fn addresses_meet(a: Option<&str>, b: Option<&str>) -> bool {
    let any = |x: Option<&str>| matches!(x, None | Some("" | "0.0.0.0" | "::"));
    any(a) || any(b) || a == b
}

/// Finds the mistakes of a definition, errors first, each list in the order of the form.
pub fn check(d: &Definition, around: &Around<'_>) -> Vec<Finding> {
    let mut checker = Checker { d, around, found: Vec::new() };
    checker.name();
    checker.image();
    checker.configuration();
    checker.ports();
    checker.mounts();
    checker.staying_up();
    checker.limits();
    checker.network();
    checker.rights();
    checker.found.sort_by_key(|f| f.weight);
    checker.found
}

struct Checker<'a> {
    d: &'a Definition,
    around: &'a Around<'a>,
    found: Vec<Finding>,
}

/// Whether an engine takes a text as a name: a letter or digit, then letters, digits, `_`, `.`, `-`.
pub fn is_name(text: &str) -> bool {
    text.len() >= 2
        && text.len() <= 200
        && text.starts_with(|c: char| c.is_ascii_alphanumeric())
        && text.bytes().all(|b| b.is_ascii_alphanumeric() || matches!(b, b'_' | b'.' | b'-'))
}

/// A variable that a person was meant to replace: `${NAME}`, `<password>`, `CHANGE_ME`, `your-key-here`.
pub fn is_placeholder(value: &str) -> bool {
    let v = value.trim();
    let lower = v.to_ascii_lowercase();
    let bare: String = lower.chars().filter(char::is_ascii_alphanumeric).collect();
    (v.contains("${") && v.contains('}'))
        || (v.len() > 2 && v.starts_with('<') && v.ends_with('>') && !v.contains("</"))
        || (v.len() > 4 && v.starts_with("{{") && v.ends_with("}}"))
        || matches!(
            bare.as_str(),
            "changeme"
                | "changethis"
                | "replaceme"
                | "todo"
                | "fixme"
                | "xxx"
                | "xxxx"
                | "xxxxx"
                | "tobefilled"
                | "fillme"
        )
        || (lower.starts_with("your") && lower.len() > 5 && lower[4..].starts_with(['-', '_', ' ']))
        || lower.ends_with("_here")
        || lower.ends_with("-here")
}

impl Checker<'_> {
    fn say(
        &mut self,
        weight: Weight,
        field: impl Into<String>,
        sentence: impl Into<String>,
        proposal: Option<String>,
    ) {
        self.found.push(Finding { field: field.into(), weight, sentence: sentence.into(), proposal });
    }

    fn error(&mut self, field: impl Into<String>, sentence: impl Into<String>) {
        self.say(Weight::Error, field, sentence, None);
    }

    fn warn(&mut self, field: impl Into<String>, sentence: impl Into<String>) {
        self.say(Weight::Warning, field, sentence, None);
    }

    fn host_name(&self) -> &str {
        self.around.host.map_or("the host", |h| h.name.as_str())
    }

    fn name(&mut self) {
        let name = self.d.name.as_str();
        if name.is_empty() {
            return self.error("/name", "a container needs a name; write one that says what it is for");
        }
        if !is_name(name) {
            let image_like = name.contains('/') || name.contains(':');
            if image_like && name.parse::<ImageName>().is_ok() {
                let proposal = name.rsplit('/').next().and_then(|n| n.split(':').next()).map(str::to_owned);
                let sentence = format!(
                    "`{}` looks like an image; it belongs into the image field, and the container gets a name of its own",
                    shown(name, 80)
                );
                return self.say(Weight::Error, "/name", sentence, proposal.filter(|p| is_name(p)));
            }
            let proposal: String = name
                .chars()
                .map(|c| if c.is_ascii_alphanumeric() || "_.-".contains(c) { c } else { '-' })
                .collect::<String>()
                .trim_matches(['-', '.', '_'])
                .to_owned();
            let sentence = format!(
                "`{}` is not a name: it begins with a letter or digit and has two or more letters, digits, `_`, `.` or `-`",
                shown(name, 80)
            );
            return self.say(Weight::Error, "/name", sentence, Some(proposal).filter(|p| is_name(p)));
        }
        let taken = |wanted: &str| {
            self.around
                .containers
                .iter()
                .any(|c| c.name == wanted && Some(c.id.as_str()) != self.around.replaces)
        };
        if taken(name) {
            let proposal = (2..1000).map(|n| format!("{name}-{n}")).find(|n| !taken(n));
            let sentence = format!("`{name}` is taken on {} by another container", self.host_name());
            self.say(Weight::Error, "/name", sentence, proposal);
        }
    }

    fn image(&mut self) {
        let name: ImageName = match self.d.image.parse() {
            Ok(name) => name,
            Err(_) if self.d.image.starts_with("sha256:") => return,
            Err(error) => return self.error("/image", error.to_string()),
        };
        let here = self.around.assets.and_then(|a| {
            a.images.iter().find(|i| {
                i.tags.iter().any(|t| crate::image_name::same(t, &self.d.image))
                    || i.digests.contains(&self.d.image)
            })
        });
        if here.is_none() && self.around.assets.is_some() && self.d.pull == super::PullPolicy::Never {
            let sentence = format!("{} does not have the image and `pull` is `never`", self.host_name());
            self.error("/image", sentence);
        }
        if let Some(problem) = self.around.image_problem.clone() {
            // What the host has will do, unless it is to be fetched each time.
            if here.is_none() || self.d.pull == super::PullPolicy::Always {
                self.error("/image", problem);
            } else {
                self.warn("/image", format!("{problem}; the copy on the host is used"));
            }
        }
        let machine =
            self.around.host.and_then(|h| h.engine.as_ref()).map(|e| plain_architecture(&e.architecture));
        let offered: Option<Vec<String>> = match (here, self.d.pull) {
            (Some(image), super::PullPolicy::Missing | super::PullPolicy::Never) => {
                image.architecture.clone().map(|a| vec![a])
            }
            _ => self.around.architectures.clone(),
        };
        if let (Some(machine), Some(offered), None) = (machine, offered, self.d.platform.as_ref())
            && !offered.is_empty()
            && !offered.iter().any(|a| plain_architecture(a) == machine)
        {
            let sentence = format!(
                "the image is for {}, {} is {machine}; choose another tag or host",
                offered.join(", "),
                self.host_name()
            );
            self.error("/image", sentence);
        }
        if name.tag.as_deref() == Some("latest") && !name.is_pinned() {
            self.warn(
                "/image",
                "`latest` can be something else tomorrow; a tag with a version says what runs",
            );
        }
    }

    fn configuration(&mut self) {
        let mut seen = BTreeSet::new();
        for (n, entry) in self.d.environment.iter().enumerate() {
            let field = format!("/environment/{n}");
            if entry.name.is_empty()
                || entry.name.contains(['=', '\0'])
                || entry.name.chars().any(char::is_whitespace)
            {
                self.error(
                    format!("{field}/name"),
                    format!("`{}` is not a variable's name", shown(&entry.name, 60)),
                );
            } else if !seen.insert(&entry.name) {
                self.error(format!("{field}/name"), format!("the variable `{}` is set twice", entry.name));
            }
            if entry.value.len() > LONGEST_VALUE || entry.value.contains('\0') {
                self.error(
                    format!("{field}/value"),
                    format!(
                        "the value of `{}` is longer than {LONGEST_VALUE} bytes or has a zero byte in it",
                        shown(&entry.name, 60)
                    ),
                );
            } else if !entry.hidden && is_placeholder(&entry.value) {
                let sentence = format!(
                    "`{}` still has a placeholder: `{}`; put in what is meant",
                    entry.name,
                    shown(&entry.value, 60)
                );
                self.error(format!("{field}/value"), sentence);
            }
        }
        let d = self.d;
        for (field, length) in [
            ("/environment", d.environment.len()),
            ("/labels", d.labels.len()),
            ("/ports", d.ports.len()),
            ("/mounts", d.mounts.len()),
        ] {
            if length > MOST_ENTRIES {
                self.error(field, format!("{length} entries are too many, the most is {MOST_ENTRIES}"));
            }
        }
        if let Some(folder) = d.working_folder.as_deref().filter(|f| !f.starts_with('/')) {
            self.error(
                "/working_folder",
                format!("`{}` is not a whole path; it begins with `/`", shown(folder, 80)),
            );
        }
        if let Some(name) = d.hostname.as_deref() {
            let fine = |b: u8| b.is_ascii_alphanumeric() || matches!(b, b'-' | b'.');
            if name.is_empty() || name.len() > 63 || !name.bytes().all(fine) {
                self.error(
                    "/hostname",
                    format!(
                        "`{}` is not a host name: at most 63 letters, digits, `-` and `.`",
                        shown(name, 80)
                    ),
                );
            }
        }
        if let Some(signal) = d.stop_signal.as_deref().filter(|s| crate::plan::signal_name(s).is_none()) {
            self.error(
                "/stop_signal",
                format!("`{}` is not a signal; write for example `SIGTERM`", shown(signal, 40)),
            );
        }
    }

    fn ports(&mut self) {
        let around = self.around;
        let held = held_ports(around.containers.iter().copied(), around.replaces);
        let own_network = self.d.network.mode.as_deref().is_none_or(|m| m == "bridge" || m == "default");
        let mut given: HashMap<(u16, &str), Vec<Option<&str>>> = HashMap::new();
        let taken: BTreeSet<(u16, String)> = held
            .keys()
            .cloned()
            .chain(around.foreign_ports.iter().cloned())
            .chain(self.d.ports.iter().filter_map(|p| Some((p.host_port?, p.protocol.clone()))))
            .collect();
        let free = |from: u16, protocol: &str| {
            let next =
                (from..=u16::MAX).chain(1024..from).find(|p| !taken.contains(&(*p, protocol.to_owned())));
            next.map(|p| p.to_string())
        };
        if !own_network && !self.d.ports.is_empty() {
            let mode = self.d.network.mode.clone().unwrap_or_default();
            self.warn(
                "/ports",
                format!(
                    "in the network mode `{}` nothing is published; the ports have no effect",
                    shown(&mode, 40)
                ),
            );
        }
        for (n, p) in self.d.ports.iter().enumerate() {
            let field = format!("/ports/{n}");
            if !matches!(p.protocol.as_str(), "tcp" | "udp" | "sctp") {
                self.error(
                    format!("{field}/protocol"),
                    format!("`{}` is not a protocol: tcp, udp or sctp", shown(&p.protocol, 20)),
                );
            }
            if p.container_port == 0 {
                self.error(format!("{field}/container_port"), "the port inside is a number from 1 to 65535");
            }
            if let Some(address) = p.address.as_deref().filter(|a| a.parse::<std::net::IpAddr>().is_err()) {
                self.error(
                    format!("{field}/address"),
                    format!("`{}` is not an IP address of the host", shown(address, 60)),
                );
            }
            let Some(port) = p.host_port else { continue };
            let at = format!("{field}/host_port");
            if port == 0 {
                self.error(
                    at,
                    "the port on the host is a number from 1 to 65535; leave it empty for any free one",
                );
                continue;
            }
            let before = given.entry((port, p.protocol.as_str())).or_default();
            if before.iter().any(|a| addresses_meet(*a, p.address.as_deref())) {
                let proposal = free(port.saturating_add(1), &p.protocol);
                self.say(Weight::Error, at, format!("port {port}/{} is given twice", p.protocol), proposal);
                continue;
            }
            before.push(p.address.as_deref());
            let holder = held.get(&(port, p.protocol.clone())).and_then(|all| {
                all.iter()
                    .filter(|(_, q)| addresses_meet(q.address.as_deref(), p.address.as_deref()))
                    .max_by_key(|(c, _)| c.state.is_alive())
            });
            if let Some((c, _)) = holder {
                let proposal = free(port.saturating_add(1), &p.protocol);
                if c.state.is_alive() {
                    let sentence = format!(
                        "port {port} is taken on {} by `{}`{}",
                        self.host_name(),
                        c.name,
                        next_words(proposal.as_deref())
                    );
                    self.say(Weight::Error, at, sentence, proposal);
                } else {
                    let sentence = format!(
                        "port {port} is also wanted by `{}`, which does not run; only one of the two can run at a time",
                        c.name
                    );
                    self.say(Weight::Warning, at, sentence, proposal);
                }
            } else if around.foreign_ports.contains(&(port, p.protocol.clone())) {
                let proposal = free(port.saturating_add(1), &p.protocol);
                let sentence = format!(
                    "port {port} is taken on {} by another program{}",
                    self.host_name(),
                    next_words(proposal.as_deref())
                );
                self.say(Weight::Error, at, sentence, proposal);
            }
        }
    }

    fn mounts(&mut self) {
        let mut targets = BTreeSet::new();
        for (n, m) in self.d.mounts.iter().enumerate() {
            let field = format!("/mounts/{n}");
            if !m.target.starts_with('/') || m.target == "/" || m.target.split('/').any(|p| p == "..") {
                self.error(format!("{field}/target"), format!("`{}` is not a path inside the container: it begins with `/`, is not `/` itself and has no `..`", shown(&m.target, 80)));
            } else if !targets.insert(m.target.trim_end_matches('/')) {
                self.error(
                    format!("{field}/target"),
                    format!("something is mounted at `{}` already", shown(&m.target, 80)),
                );
            }
            match (m.kind, m.source.as_deref()) {
                (MountKind::Volume, Some(name)) => self.volume(&field, n, name),
                (MountKind::Bind, Some(path)) => self.bind(&field, n, path),
                (MountKind::Bind, None) => {
                    self.error(format!("{field}/source"), "a bind mount needs a path on the host")
                }
                _ => {}
            }
        }
    }

    fn volume(&mut self, field: &str, n: usize, name: &str) {
        let m = &self.d.mounts[n];
        if !is_name(name) {
            let sentence = if name.contains('/') {
                format!(
                    "`{}` is a path, not a volume's name; choose a folder of the host instead of a volume",
                    shown(name, 80)
                )
            } else {
                format!("`{}` is not a volume's name", shown(name, 80))
            };
            return self.error(format!("{field}/source"), sentence);
        }
        let Some(there) = self.around.assets.and_then(|a| a.volumes.iter().find(|v| v.name == name)) else {
            return;
        };
        let driver = m.driver.as_deref().unwrap_or(&there.driver);
        let other_options = !m.options.is_empty() && m.options != there.options;
        if driver != there.driver || other_options {
            let sentence = format!(
                "the volume `{name}` is there already with other options (driver {}{}); leave the options out to use it as it is, or choose another name",
                there.driver,
                options_words(&there.options)
            );
            self.error(format!("{field}/source"), sentence);
        }
        let users: Vec<&str> = self
            .around
            .containers
            .iter()
            .filter(|c| Some(c.id.as_str()) != self.around.replaces && c.state.is_alive())
            .filter(|c| c.mounts.iter().any(|x| x.kind == "volume" && x.source == name && !x.read_only))
            .map(|c| c.name.as_str())
            .collect();
        if !users.is_empty() && !m.read_only {
            let sentence = format!("the volume `{name}` is also written by {}", users.join(", "));
            self.warn(format!("{field}/source"), sentence);
        }
    }

    fn bind(&mut self, field: &str, n: usize, path: &str) {
        let m = &self.d.mounts[n];
        let at = format!("{field}/source");
        if !path.starts_with('/') || path.split('/').any(|p| p == "..") {
            return self.error(
                at,
                format!(
                    "`{}` is not a whole path on the host: it begins with `/` and has no `..`",
                    shown(path, 80)
                ),
            );
        }
        if let Some(mode) = m.make.as_ref().and_then(|x| x.mode.as_deref())
            && !(matches!(mode.len(), 3 | 4) && mode.bytes().all(|b| (b'0'..=b'7').contains(&b)))
        {
            self.error(
                format!("{field}/make/mode"),
                format!("`{}` is not a mode: three or four digits from 0 to 7, e.g. 755", shown(mode, 20)),
            );
        }
        match self.around.paths.get(path) {
            Some(AtPath::Nothing) if m.make.is_none() => {
                let sentence = format!(
                    "there is nothing at `{}` on {}; have the folder made, or correct the path",
                    shown(path, 120),
                    self.host_name()
                );
                self.say(Weight::Error, at, sentence, None);
            }
            Some(AtPath::File) if m.target.ends_with('/') || m.make.is_some() => {
                self.error(
                    at,
                    format!("`{}` is a file on {}, a folder is needed", shown(path, 120), self.host_name()),
                );
            }
            Some(AtPath::File)
                if !m.target.rsplit('/').next().unwrap_or_default().contains('.')
                    && !path.rsplit('/').next().unwrap_or_default().contains('.') =>
            {
                self.warn(
                    at,
                    format!(
                        "`{}` is a file on {}; it is mounted as a file",
                        shown(path, 120),
                        self.host_name()
                    ),
                );
            }
            _ => {}
        }
        if matches!(path, "/" | "/etc" | "/root" | "/proc" | "/sys") && !m.read_only {
            self.warn(
                format!("{field}/source"),
                format!("with `{path}` writable the container can change the whole host"),
            );
        }
    }

    fn staying_up(&mut self) {
        let policy = self.d.restart.policy.as_str();
        if !matches!(policy, "" | "no" | "always" | "unless-stopped" | "on-failure") {
            self.error(
                "/restart/policy",
                format!("`{}` is none of no, always, unless-stopped, on-failure", shown(policy, 40)),
            );
        }
        if self.d.auto_remove && !matches!(policy, "" | "no") {
            self.error("/auto_remove", format!("a container that is taken away when it ends cannot be started again: restart policy `{policy}` contradicts it; choose one of the two"));
        }
        if self.d.restart.most_tries.is_some() && policy != "on-failure" {
            self.error(
                "/restart/most_tries",
                "a most number of tries goes with the policy `on-failure` only",
            );
        }
        if let Some(h) = &self.d.health {
            if h.disabled && !h.test.is_empty() {
                self.error("/health/test", "a check that is switched off has no command");
            }
            if !h.test.is_empty() && (!matches!(h.test[0].as_str(), "CMD" | "CMD-SHELL") || h.test.len() < 2)
            {
                self.error(
                    "/health/test",
                    "a check is `CMD` and a program with its arguments, or `CMD-SHELL` and a line",
                );
            }
            for (field, ms) in [("interval_ms", h.interval_ms), ("timeout_ms", h.timeout_ms)] {
                if ms == Some(0) {
                    self.error(format!("/health/{field}"), "at least one millisecond");
                }
            }
        }
        if let Some(grace) = self.d.grace_seconds.filter(|g| *g > crate::plan::MAX_GRACE_SECONDS) {
            self.error(
                "/grace_seconds",
                format!("{grace} s are too long, the most is {} (an hour)", crate::plan::MAX_GRACE_SECONDS),
            );
        }
    }

    fn limits(&mut self) {
        let l = &self.d.limits;
        let total = self.around.host.and_then(|h| h.machine.memory_total).filter(|t| *t > 0);
        let gib = |b: u64| format!("{:.1} GiB", b as f64 / f64::from(1 << 30));
        for (field, bytes) in [("memory", l.memory), ("memory_reserved", l.memory_reserved)] {
            let Some(bytes) = bytes else { continue };
            if bytes < 6 << 20 {
                self.error(format!("/limits/{field}"), "no engine takes less than 6 MiB; check the unit");
            } else if let Some(total) = total.filter(|t| bytes > *t) {
                let sentence =
                    format!("{} are more than {} has ({})", gib(bytes), self.host_name(), gib(total));
                self.say(Weight::Error, format!("/limits/{field}"), sentence, Some(total.to_string()));
            }
        }
        if let (Some(memory), Some(reserved)) = (l.memory, l.memory_reserved)
            && reserved > memory
        {
            self.error("/limits/memory_reserved", "what is reserved is at most the limit");
        }
        if let (Some(both), Some(memory)) = (l.memory_and_swap.filter(|b| *b >= 0), l.memory)
            && both.unsigned_abs() < memory
        {
            self.error("/limits/memory_and_swap", "memory and swap together are at least the memory limit");
        }
        if let Some(p) = l.processors {
            let has = self.around.host.and_then(|h| h.machine.processors);
            if !p.is_finite() || p < 0.01 {
                self.error("/limits/processors", "at least 0.01 processors");
            } else if let Some(has) = has.filter(|h| *h > 0 && p > f64::from(*h)) {
                self.say(
                    Weight::Error,
                    "/limits/processors",
                    format!("{p} are more than {} has ({has})", self.host_name()),
                    Some(has.to_string()),
                );
            }
        }
        if l.out_of_memory_score.is_some_and(|s| !(-1000..=1000).contains(&s)) {
            self.error("/limits/out_of_memory_score", "from -1000 to 1000");
        }
    }

    fn network(&mut self) {
        let n = &self.d.network;
        if let Some(mode) = n.mode.as_deref() {
            let container = mode.strip_prefix("container:");
            if !matches!(mode, "host" | "none" | "bridge" | "default" | "slirp4netns" | "pasta" | "private")
                && container.is_none()
            {
                self.error("/network/mode", format!("`{}` is no network mode: host, none or container:name; networks of your own are chosen as networks", shown(mode, 60)));
            }
            if let Some(name) = container
                && !self.around.containers.is_empty()
                && !self.around.containers.iter().any(|c| c.name == name || c.id.starts_with(name))
            {
                self.error(
                    "/network/mode",
                    format!(
                        "there is no container `{}` on {} whose network could be shared",
                        shown(name, 60),
                        self.host_name()
                    ),
                );
            }
            if !n.networks.is_empty() && !matches!(mode, "bridge" | "default") {
                self.error(
                    "/network/networks",
                    format!(
                        "in the network mode `{}` a container is in no networks; choose one of the two",
                        shown(mode, 40)
                    ),
                );
            }
        }
        for (k, joined) in n.networks.iter().enumerate() {
            let field = format!("/network/networks/{k}");
            let Some(assets) = self.around.assets else { continue };
            let there: Vec<_> = assets.networks.iter().filter(|x| x.name == joined.name).collect();
            if there.is_empty() {
                let near = assets
                    .networks
                    .iter()
                    .map(|x| &x.name)
                    .filter(|x| strsim::jaro_winkler(x, &joined.name) > 0.85)
                    .max_by(|a, b| {
                        strsim::jaro_winkler(a, &joined.name)
                            .total_cmp(&strsim::jaro_winkler(b, &joined.name))
                    });
                let sentence = format!(
                    "there is no network `{}` on {}; make it first, or choose one that is there",
                    shown(&joined.name, 60),
                    self.host_name()
                );
                self.say(Weight::Error, format!("{field}/name"), sentence, near.cloned());
                continue;
            }
            if there.len() > 1 {
                self.error(
                    format!("{field}/name"),
                    format!(
                        "there are {} networks called `{}` on {}",
                        there.len(),
                        joined.name,
                        self.host_name()
                    ),
                );
            }
            if let Some(address) = joined.address.as_deref() {
                self.fixed_address(&field, address, &joined.name, there[0].is_built_in());
            }
        }
    }

    fn fixed_address(&mut self, field: &str, address: &str, network: &str, built_in: bool) {
        let at = format!("{field}/address");
        let Ok(ip) = address.parse::<std::net::Ipv4Addr>() else {
            return self.error(at, format!("`{}` is not an IPv4 address", shown(address, 40)));
        };
        if built_in {
            return self.error(at, format!("the engine's own network `{network}` gives no fixed addresses; make a network with a subnet of its own"));
        }
        let subnets = self
            .around
            .assets
            .and_then(|a| a.networks.iter().find(|n| n.name == network))
            .map(|n| &n.subnets);
        let ranges: Vec<&str> =
            subnets.into_iter().flatten().map(|s| s.subnet.as_str()).filter(|s| !s.contains(':')).collect();
        if !ranges.is_empty() && !ranges.iter().any(|r| within(ip, r)) {
            self.error(at.clone(), format!("`{address}` is outside of `{network}` ({})", ranges.join(", ")));
        }
        let taken = self.around.containers.iter().find(|c| {
            Some(c.id.as_str()) != self.around.replaces
                && c.attachments.iter().any(|a| a.network == network && a.address.as_deref() == Some(address))
        });
        if let Some(taken) = taken {
            self.error(at, format!("`{address}` is taken by `{}`", taken.name));
        }
    }

    fn rights(&mut self) {
        let r = &self.d.rights;
        if r.privileged {
            self.warn("/rights/privileged", "a privileged container can do everything on the host; single capabilities or devices may be enough");
        }
        for (n, d) in r.devices.iter().enumerate() {
            if !d.host.starts_with('/') {
                self.error(
                    format!("/rights/devices/{n}/host"),
                    format!("`{}` is not a device's path; it begins with `/dev/`", shown(&d.host, 60)),
                );
            }
        }
    }
}

fn next_words(port: Option<&str>) -> String {
    port.map_or_else(String::new, |p| format!("; {p} is free"))
}

fn options_words(options: &BTreeMap<String, String>) -> String {
    let words: Vec<String> = options.iter().map(|(k, v)| format!("{k}={}", shown(v, 40))).collect();
    if words.is_empty() { String::new() } else { format!(", {}", words.join(", ")) }
}

/// One word for an architecture, whatever the kernel or the registry calls it.
pub fn plain_architecture(word: &str) -> &str {
    match word {
        "x86_64" | "amd64" => "amd64",
        "aarch64" | "arm64" => "arm64",
        "armv7l" | "armhf" | "arm" => "arm",
        "i386" | "i686" | "386" => "386",
        other => other,
    }
}

fn within(ip: std::net::Ipv4Addr, range: &str) -> bool {
    let Some((base, bits)) = range.split_once('/') else { return true };
    let (Ok(base), Ok(bits)) = (base.parse::<std::net::Ipv4Addr>(), bits.parse::<u32>()) else { return true };
    let mask = u32::MAX.checked_shl(32 - bits.min(32)).unwrap_or(0);
    u32::from(ip) & mask == u32::from(base) & mask
}

#[cfg(test)]
#[path = "check_tests.rs"]
mod tests;
