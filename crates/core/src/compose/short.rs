//! Converts short forms to long ones, such as `8080:80` to a port with its fields. Places stay those of the short
//! form.
//!
//! A value that is in its long form already comes back as it is; what it has in its fields is checked by
//! [`super::canonical`].

use crate::text::shown;
use crate::yaml::{Key, Node, Place, Value, YamlError};

type Result<T> = std::result::Result<T, YamlError>;

/// The most ports of one range.
const MOST_PORTS: u32 = 1000;

fn text(text: impl Into<String>, place: Place) -> Node {
    Node::new(Value::Text(text.into()), place)
}

/// A mapping at the place of what was written short.
fn record(place: Place, fields: impl IntoIterator<Item = (&'static str, Node)>) -> Node {
    let key = |name: &str| Key { text: name.to_owned(), place };
    Node::new(Value::Map(fields.into_iter().map(|(name, node)| (key(name), node)).collect()), place)
}

/// Whether a value is long already; else its text.
fn short(node: &Node, what: &str) -> Result<Option<String>> {
    match &node.value {
        Value::Map(_) => Ok(None),
        Value::Text(text) => Ok(Some(text.clone())),
        _ => Err(node.wrong(format!("{what} must be a string or a mapping, not {}", node.kind()))),
    }
}

fn field<'a>(node: &'a Node, name: &str) -> Option<std::borrow::Cow<'a, str>> {
    node.get(name).and_then(Node::scalar)
}

/// Two entries are the same one when they say the same.
pub(super) fn whole_key(node: &Node) -> String {
    let fields = node.entries().iter().map(|(key, value)| format!("{key}={}", whole_key(value)));
    match &node.value {
        Value::List(items) => items.iter().map(whole_key).collect::<Vec<_>>().join("\n"),
        Value::Map(_) => fields.collect::<Vec<_>>().join("\n"),
        _ => node.scalar().unwrap_or_default().into_owned(),
    }
}

/// Two mounts or devices are the same one at the same place in the container.
pub(super) fn target_key(node: &Node) -> String {
    field(node, "target").unwrap_or_default().trim_end_matches('/').to_owned()
}

/// Two configs or secrets are the same one at the same place in the container.
pub(super) fn file_key(node: &Node) -> String {
    field(node, "target").or_else(|| field(node, "source")).unwrap_or_default().into_owned()
}

/// Two ports are the same one on the same address with the same protocol.
pub(super) fn port_key(node: &Node) -> String {
    let part =
        |name: &str, usual: &str| field(node, name).map_or_else(|| usual.to_owned(), |t| t.into_owned());
    ["host_ip", "published", "target"].map(|name| part(name, "")).join("|") + "|" + &part("protocol", "tcp")
}

/// `build: FOLDER`.
pub(super) fn build(node: &Node) -> Result<Node> {
    Ok(match short(node, "'build'")? {
        None => node.clone(),
        Some(folder) => record(node.place, [("context", text(folder, node.place))]),
    })
}

/// `x-gubernum-schedule: "30 2 * * *"`.
pub(super) fn schedule(node: &Node) -> Result<Node> {
    Ok(match short(node, "a schedule")? {
        None => node.clone(),
        Some(cron) => record(node.place, [("cron", text(cron, node.place))]),
    })
}

/// `extends: SERVICE`.
pub(super) fn extends(node: &Node) -> Result<Node> {
    Ok(match short(node, "'extends'")? {
        None => node.clone(),
        Some(service) => record(node.place, [("service", text(service, node.place))]),
    })
}

/// A limit for each process that is soft and hard at once.
pub(super) fn ulimit(node: &Node) -> Result<Node> {
    Ok(match &node.value {
        Value::Map(_) => node.clone(),
        _ if node.scalar().is_none_or(|text| super::canonical::whole(&text).is_none()) => {
            let written = node.scalar().unwrap_or_default();
            return Err(node.wrong(format!("a limit must be a whole number, not '{}'", shown(&written, 40))));
        }
        _ => record(node.place, [("soft", node.clone()), ("hard", node.clone())]),
    })
}

/// `external: true`.
pub(super) fn external(node: &Node) -> Result<Node> {
    Ok(match &node.value {
        Value::Map(entries) => {
            let mut entries = entries.clone();
            let is = Key { text: "is".to_owned(), place: node.place };
            entries.push((is, Node::new(Value::Bool(true), node.place)));
            Node::new(Value::Map(entries), node.place)
        }
        _ => record(node.place, [("is", node.clone())]),
    })
}

/// `path` of a file of variables; a text stands for a list of one.
pub(super) fn env_files(node: &Node) -> Result<Vec<Node>> {
    Ok(vec![match short(node, "an env file")? {
        None => node.clone(),
        Some(path) => record(node.place, [("path", text(path, node.place))]),
    }])
}

/// `path` of a file that is included.
pub(super) fn includes(node: &Node) -> Result<Vec<Node>> {
    Ok(vec![match short(node, "an 'include'")? {
        None => node.clone(),
        Some(path) => record(node.place, [("path", text(path, node.place))]),
    }])
}

/// `gpus: all`.
pub(super) fn gpus(node: &Node) -> Result<Vec<Node>> {
    Ok(vec![match short(node, "a GPU reservation")? {
        None => node.clone(),
        Some(all) if all == "all" => record(node.place, [("count", text("all", node.place))]),
        Some(other) => {
            let sentence = format!("'gpus' must be 'all' or a list, not '{}'", shown(&other, 40));
            return Err(node.wrong(sentence));
        }
    }])
}

/// A config or a secret by its name.
pub(super) fn file_references(node: &Node) -> Result<Vec<Node>> {
    Ok(vec![match short(node, "a config or a secret")? {
        None => node.clone(),
        Some(name) => record(node.place, [("source", text(name, node.place))]),
    }])
}

/// `HOST[:CONTAINER[:rwm]]`.
pub(super) fn devices(node: &Node) -> Result<Vec<Node>> {
    let Some(whole) = short(node, "a device")? else { return Ok(vec![node.clone()]) };
    let mut parts = whole.split(':');
    let source = parts.next().unwrap_or_default();
    let (mut target, mut permissions) = (parts.next(), parts.next());
    // Devices of the Container Device Interface are named `vendor/class=name`; a third part alone says what is allowed.
    if permissions.is_none() && target.is_some_and(|t| !t.is_empty() && t.chars().all(|c| "rwm".contains(c)))
    {
        permissions = target.take();
    }
    if source.is_empty() || parts.next().is_some() {
        let sentence =
            format!("'{}' is not a device; write '/dev/x' or '/dev/x:/dev/y:rwm'", shown(&whole, 80));
        return Err(node.wrong(sentence));
    }
    let mut fields =
        vec![("source", text(source, node.place)), ("target", text(target.unwrap_or(source), node.place))];
    fields.extend(permissions.map(|p| ("permissions", text(p, node.place))));
    Ok(vec![record(node.place, fields)])
}

/// `[SOURCE:]TARGET[:MODE]`.
pub(super) fn volumes(node: &Node) -> Result<Vec<Node>> {
    let Some(whole) = short(node, "a volume")? else { return Ok(vec![node.clone()]) };
    let wrong = |why: &str| {
        Err(node
            .wrong(format!("'{}' {why}; write 'SOURCE:/TARGET' or 'SOURCE:/TARGET:ro'", shown(&whole, 120))))
    };
    let parts: Vec<&str> = whole.split(':').collect();
    let (source, target, options) = match parts[..] {
        [target] => (None, target, ""),
        [source, target] => (Some(source), target, ""),
        [source, target, options] => (Some(source), target, options),
        _ => return wrong("has too many colons"),
    };
    if target.is_empty() || source == Some("") {
        return wrong("has an empty part");
    }
    if !target.starts_with('/') {
        return wrong("has no absolute path in the container");
    }
    let place = node.place;
    let is_path = source.is_some_and(|s| s.starts_with(['/', '.', '~']));
    let mut fields = vec![("type", text(if is_path { "bind" } else { "volume" }, place))];
    fields.extend(source.map(|s| ("source", text(s, place))));
    fields.push(("target", text(target, place)));
    let (mut bind, mut volume) = (Vec::new(), Vec::new());
    if is_path {
        // The short form makes the folder where the host does not have it; the long form only where it says so.
        bind.push(("create_host_path", Node::new(Value::Bool(true), place)));
    }
    for option in options.split(',').filter(|o| !o.is_empty()) {
        match option {
            "ro" => fields.push(("read_only", Node::new(Value::Bool(true), place))),
            "rw" | "cached" | "delegated" | "consistent" => {}
            "z" | "Z" if is_path => bind.push(("selinux", text(option, place))),
            "z" | "Z" => {}
            "nocopy" if !is_path => volume.push(("nocopy", Node::new(Value::Bool(true), place))),
            "private" | "rprivate" | "shared" | "rshared" | "slave" | "rslave" if is_path => {
                bind.push(("propagation", text(option, place)));
            }
            other => {
                return wrong(&format!("has the unknown option '{}'", shown(other, 40)));
            }
        }
    }
    if !bind.is_empty() {
        fields.push(("bind", record(place, bind)));
    }
    if !volume.is_empty() {
        fields.push(("volume", record(place, volume)));
    }
    Ok(vec![record(place, fields)])
}

/// `[[ADDRESS:]PUBLISHED:]TARGET[/PROTOCOL]`, each with a range where it may have one.
pub(super) fn ports(node: &Node) -> Result<Vec<Node>> {
    let whole = match &node.value {
        Value::Number(number) => number.clone(),
        _ => match short(node, "a port")? {
            Some(whole) => whole,
            None => return Ok(vec![node.clone()]),
        },
    };
    let wrong = |why: String| node.wrong(format!("'{}' {why}", shown(&whole, 80)));
    let (rest, protocol) = match whole.rsplit_once('/') {
        Some((rest, protocol)) => (rest, Some(protocol.to_ascii_lowercase())),
        None => (&whole[..], None),
    };
    let (before, target) = rest.rsplit_once(':').map_or((None, rest), |(b, t)| (Some(b), t));
    let (address, published) = match before {
        None => (None, None),
        Some(before) => match before.rsplit_once(':') {
            // An IPv6 address is in brackets; without a published port its last part is no port.
            Some((address, published)) if !published.ends_with(']') => (Some(address), Some(published)),
            _ if before.starts_with('[') || before.contains('.') => (Some(before), None),
            _ => (None, Some(before)),
        },
    };
    let address = address.map(|a| a.trim_start_matches('[').trim_end_matches(']'));
    if let Some(address) = address
        && address.parse::<core::net::IpAddr>().is_err()
    {
        return Err(wrong(format!("has '{}' in place of an address", shown(address, 60))));
    }
    let range = |text: &str, which: &str| {
        let (from, to) = text.split_once('-').unwrap_or((text, text));
        match (from.parse::<u16>(), to.parse::<u16>()) {
            (Ok(from), Ok(to)) if from > 0 && from <= to => Ok((u32::from(from), u32::from(to))),
            _ => Err(wrong(format!(
                "has '{}' as its port {which}; write a number from 1 to 65535, or a range such as '8000-8010'",
                shown(text, 40)
            ))),
        }
    };
    let targets = range(target, "in the container")?;
    let published = match published {
        None | Some("") => None,
        Some(text) => Some((text, range(text, "on the host")?)),
    };
    let count = targets.1 - targets.0 + 1;
    if count > MOST_PORTS {
        return Err(wrong(format!("has {count} ports; the limit is {MOST_PORTS}")));
    }
    // One port of the container may be published on the first free port of a range.
    let is_choice = count == 1;
    if let Some((_, (from, to))) = published
        && !is_choice
        && to - from + 1 != count
    {
        let here = to - from + 1;
        return Err(wrong(format!(
            "maps {here} host ports to {count} container ports; make both ranges equally long"
        )));
    }
    let one = |n: u32| {
        let mut fields = vec![("target", Node::new(Value::Number((targets.0 + n).to_string()), node.place))];
        if let Some((written, (from, _))) = published {
            let port = if is_choice { written.to_owned() } else { (from + n).to_string() };
            fields.push(("published", text(port, node.place)));
        }
        fields.extend(address.map(|a| ("host_ip", text(a, node.place))));
        fields.push(("protocol", text(protocol.as_deref().unwrap_or("tcp"), node.place)));
        record(node.place, fields)
    };
    Ok((0..count).map(one).collect())
}
