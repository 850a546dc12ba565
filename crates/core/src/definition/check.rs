//! Checks a definition before it is sent to an engine; each error names its field.
//!
//! Pure: what only a host or a registry can tell (paths, programs that listen, architectures) comes in with
//! [`CheckContext`]; what is not known is not complained of.

mod mounts;
mod network;

use std::collections::{BTreeMap, BTreeSet, HashMap};

use serde::{Deserialize, Serialize};

use super::{Definition, LONGEST_VALUE, MOST_ENTRIES, MountKind};
use crate::assets::Assets;
use crate::container::{Container, Port};
use crate::host::Host;
use crate::image_name::ImageName;
use crate::text::shown;

/// Error or warning.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "lowercase")]
pub enum Weight {
    /// It cannot work; it is not tried.
    Error,
    /// It may not be meant.
    Warning,
}

/// An error or warning.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Finding {
    /// The field as a JSON pointer into the settings, such as `/ports/0/host_port`.
    pub field: String,
    /// Error or warning.
    pub weight: Weight,
    /// What is wrong and what to do.
    pub sentence: String,
    /// A suggested value for the field.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub proposal: Option<String>,
}

/// What there is at a path of a host.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "lowercase")]
pub enum PathEntry {
    /// A folder.
    Folder,
    /// A file, or something else that is not a folder.
    File,
    /// Nothing.
    Nothing,
}

/// What is known of the place where the container is to be.
#[derive(Debug, Clone, Default)]
pub struct CheckContext<'a> {
    /// The host.
    pub host: Option<&'a Host>,
    /// Its containers.
    pub containers: Vec<&'a Container>,
    /// What it holds.
    pub assets: Option<&'a Assets>,
    /// The container that is replaced: its name and ports are free.
    pub replaces: Option<&'a str>,
    /// What there is at paths of the host, where it was requested.
    pub paths: BTreeMap<String, PathEntry>,
    /// Ports that other programs of the host listen on, where it was requested.
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

/// Finds the errors of a definition, errors first, each list in the order of the form.
pub fn check(d: &Definition, context: &CheckContext<'_>) -> Vec<Finding> {
    let mut checker = Checker { d, context, found: Vec::new() };
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
    context: &'a CheckContext<'a>,
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
        self.context.host.map_or("the host", |h| h.name.as_str())
    }

    fn name(&mut self) {
        let name = self.d.name.as_str();
        if name.is_empty() {
            return self.error("/name", "enter a name for the container");
        }
        if !is_name(name) {
            let image_like = name.contains('/') || name.contains(':');
            if image_like && name.parse::<ImageName>().is_ok() {
                let proposal = name.rsplit('/').next().and_then(|n| n.split(':').next()).map(str::to_owned);
                let sentence = format!(
                    "'{}' looks like an image; enter it as the image, and give the container a name",
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
                "'{}' is not a valid name: use two or more letters, digits, '_', '.' or '-', starting with a letter or digit",
                shown(name, 80)
            );
            return self.say(Weight::Error, "/name", sentence, Some(proposal).filter(|p| is_name(p)));
        }
        let taken = |wanted: &str| {
            self.context
                .containers
                .iter()
                .any(|c| c.name == wanted && Some(c.id.as_str()) != self.context.replaces)
        };
        if taken(name) {
            let proposal = (2..1000).map(|n| format!("{name}-{n}")).find(|n| !taken(n));
            let sentence =
                format!("the name '{name}' is already in use on {} by another container", self.host_name());
            self.say(Weight::Error, "/name", sentence, proposal);
        }
    }

    fn image(&mut self) {
        let name: ImageName = match self.d.image.parse() {
            Ok(name) => name,
            Err(_) if self.d.image.starts_with("sha256:") => return,
            Err(error) => return self.error("/image", error.to_string()),
        };
        let here = self.context.assets.and_then(|a| {
            a.images.iter().find(|i| {
                i.tags.iter().any(|t| crate::image_name::same(t, &self.d.image))
                    || i.digests.contains(&self.d.image)
            })
        });
        if here.is_none() && self.context.assets.is_some() && self.d.pull == super::PullPolicy::Never {
            let sentence = format!("{} does not have the image and 'pull' is 'never'", self.host_name());
            self.error("/image", sentence);
        }
        if let Some(problem) = self.context.image_problem.clone() {
            // What the host has will do, unless it is to be fetched each time.
            if here.is_none() || self.d.pull == super::PullPolicy::Always {
                self.error("/image", problem);
            } else {
                self.warn("/image", format!("{problem}; the copy on the host is used"));
            }
        }
        let machine =
            self.context.host.and_then(|h| h.engine.as_ref()).map(|e| plain_architecture(&e.architecture));
        let offered: Option<Vec<String>> = match (here, self.d.pull) {
            (Some(image), super::PullPolicy::Missing | super::PullPolicy::Never) => {
                image.architecture.clone().map(|a| vec![a])
            }
            _ => self.context.architectures.clone(),
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
            self.warn("/image", "'latest' can change at any time; use a tag with a version");
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
                    format!("'{}' is not a variable's name", shown(&entry.name, 60)),
                );
            } else if !seen.insert(&entry.name) {
                self.error(format!("{field}/name"), format!("the variable '{}' is set twice", entry.name));
            }
            if entry.value.len() > LONGEST_VALUE || entry.value.contains('\0') {
                self.error(
                    format!("{field}/value"),
                    format!(
                        "the value of '{}' is longer than {LONGEST_VALUE} bytes or has a zero byte in it",
                        shown(&entry.name, 60)
                    ),
                );
            } else if !entry.hidden && is_placeholder(&entry.value) {
                let sentence = format!(
                    "'{}' still has the placeholder '{}'; replace it",
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
                self.error(field, format!("{length} entries; the limit is {MOST_ENTRIES}"));
            }
        }
        if let Some(folder) = d.working_folder.as_deref().filter(|f| !f.starts_with('/')) {
            self.error(
                "/working_folder",
                format!("'{}' is not an absolute path; start it with '/'", shown(folder, 80)),
            );
        }
        if let Some(name) = d.hostname.as_deref() {
            let fine = |b: u8| b.is_ascii_alphanumeric() || matches!(b, b'-' | b'.');
            if name.is_empty() || name.len() > 63 || !name.bytes().all(fine) {
                self.error(
                    "/hostname",
                    format!(
                        "'{}' is not a host name: at most 63 letters, digits, '-' and '.'",
                        shown(name, 80)
                    ),
                );
            }
        }
        if let Some(signal) = d.stop_signal.as_deref().filter(|s| crate::plan::signal_name(s).is_none()) {
            self.error(
                "/stop_signal",
                format!("'{}' is not a signal; write for example 'SIGTERM'", shown(signal, 40)),
            );
        }
    }

    fn staying_up(&mut self) {
        let policy = self.d.restart.policy.as_str();
        if !matches!(policy, "" | "no" | "always" | "unless-stopped" | "on-failure") {
            self.error(
                "/restart/policy",
                format!(
                    "'{}' is not a restart policy; use no, always, unless-stopped or on-failure",
                    shown(policy, 40)
                ),
            );
        }
        if self.d.auto_remove && !matches!(policy, "" | "no") {
            self.error("/auto_remove", format!("a container that is removed on exit cannot be restarted: restart policy '{policy}' contradicts it; choose one of the two"));
        }
        if self.d.restart.most_tries.is_some() && policy != "on-failure" {
            self.error("/restart/most_tries", "a retry limit needs the restart policy 'on-failure'");
        }
        if let Some(h) = &self.d.health {
            if h.disabled && !h.test.is_empty() {
                self.error("/health/test", "a disabled health check has no command");
            }
            if !h.test.is_empty() && (!matches!(h.test[0].as_str(), "CMD" | "CMD-SHELL") || h.test.len() < 2)
            {
                self.error(
                    "/health/test",
                    "a health check is 'CMD' with a program and its arguments, or 'CMD-SHELL' with a command line",
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
                format!("{grace} s is too long, at most {} (one hour)", crate::plan::MAX_GRACE_SECONDS),
            );
        }
    }

    fn limits(&mut self) {
        let l = &self.d.limits;
        let total = self.context.host.and_then(|h| h.machine.memory_total).filter(|t| *t > 0);
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
            self.error("/limits/memory_reserved", "the reservation must not exceed the limit");
        }
        if let (Some(both), Some(memory)) = (l.memory_and_swap.filter(|b| *b >= 0), l.memory)
            && both.unsigned_abs() < memory
        {
            self.error("/limits/memory_and_swap", "memory with swap must be at least the memory limit");
        }
        if let Some(p) = l.processors {
            let has = self.context.host.and_then(|h| h.machine.processors);
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

    fn rights(&mut self) {
        let r = &self.d.rights;
        if r.privileged {
            self.warn("/rights/privileged", "a privileged container can do anything on the host; single capabilities or devices may be enough");
        }
        for (n, d) in r.devices.iter().enumerate() {
            if !d.host.starts_with('/') {
                self.error(
                    format!("/rights/devices/{n}/host"),
                    format!("'{}' is not a device path; it must start with '/dev/'", shown(&d.host, 60)),
                );
            }
        }
    }
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

#[cfg(test)]
#[path = "check_tests.rs"]
mod tests;
