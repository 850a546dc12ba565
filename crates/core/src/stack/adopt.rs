//! Adopts a running stack without files: writes the Compose file whose deployment would change nothing.
//!
//! Each container's settings are written as for one alone ([`crate::definition::compose`]) and put together; what only a stack
//! says is taken from the labels that tools for the Compose Specification have in common. [`differing`] tells whether the text
//! is true.

use std::collections::{BTreeMap, BTreeSet};

use super::desired::{StackDescription, desired};
use super::labels;
use super::plan::{ApplySettings, plan_stack};
use super::present::{Present, PresentContainer};
use crate::assets::{Network, Volume};
use crate::compose::load::{ReadPurpose, StackInput};
use crate::compose::read::{is_key, read};
use crate::container::STACK_LABEL;
use crate::definition::{Definition, MountKind, compose};
use crate::text::shown;
use crate::yaml::{self, Key, Node, Place, Value};

/// Stands for the network `default` while a service is written: alone it could not be in one that nobody names.
const USUAL_NETWORK: &str = "gubernum-usual-network";
/// What the text is called.
pub const FILE: &str = "stack.yaml";

/// Writes a stack that runs on a host down.
///
/// # Errors
/// All that is in the way, a sentence each.
pub fn written(name: &str, present: &Present<'_>) -> Result<String, Vec<String>> {
    let mut services: BTreeMap<&str, Vec<&PresentContainer>> = BTreeMap::new();
    for container in present.containers.iter().filter(|c| !c.is_one_off()) {
        services.entry(container.service()).or_default().push(container);
    }
    if services.is_empty() {
        let (name, host) = (shown(name, 60), present.host);
        return Err(vec![format!("{host} has no container of the stack '{name}'")]);
    }
    let mut writer =
        Writer { name, present, networks: BTreeMap::new(), volumes: BTreeMap::new(), wrong: Vec::new() };
    let entries: Vec<(Key, Node)> = services
        .into_iter()
        .filter_map(|(service, mut containers)| {
            containers.sort_by_key(|c| c.number());
            Some((key(service), writer.service(service, &containers)?))
        })
        .collect();
    let mut tree = vec![(key("name"), text(name)), (key("services"), map(entries))];
    let networks = std::mem::take(&mut writer.networks);
    let networks: Vec<(Key, Node)> =
        networks.into_iter().map(|(k, named)| (key(&k), writer.network(&k, &named))).collect();
    let volumes = std::mem::take(&mut writer.volumes);
    let volumes: Vec<(Key, Node)> =
        volumes.into_iter().map(|(k, named)| (key(&k), writer.volume(&k, &named))).collect();
    for (section, all) in [("networks", networks), ("volumes", volumes)] {
        if !all.is_empty() {
            tree.push((key(section), map(all)));
        }
    }
    if writer.wrong.is_empty() { Ok(yaml::document(&map(tree))) } else { Err(writer.wrong) }
}

/// What a text would change of what runs, a sentence each; nothing when it is true.
pub fn differing(stack_text: &str, name: &str, present: &Present<'_>) -> Vec<String> {
    let files = BTreeMap::from([(FILE.to_owned(), stack_text.to_owned())]);
    let (main, variables, profiles) = ([FILE.to_owned()], BTreeMap::new(), BTreeSet::new());
    let given = StackInput {
        files: &files,
        main: &main,
        name: Some(name),
        variables: &variables,
        profiles: &profiles,
        wanted: ReadPurpose::Stack,
    };
    let wanted = read(&given).and_then(|(loaded, stack)| {
        let (scale, mark) = (BTreeMap::new(), |_: &[&[u8]]| String::new());
        desired(&StackDescription {
            loaded: &loaded,
            stack: &stack,
            name,
            scale: &scale,
            given: &given,
            mark: &mark,
        })
    });
    let wanted = match wanted {
        Ok(wanted) => wanted,
        Err(errors) => return errors.iter().map(ToString::to_string).collect(),
    };
    let pieces = plan_stack(&wanted, present, ApplySettings::default());
    let differs = pieces.into_iter().map(|p| p.plan).filter(|p| !p.differences.is_empty());
    differs
        .map(|plan| {
            let words: Vec<String> = plan.differences.iter().map(|d| d.words()).collect();
            format!("{}: {}", plan.name, words.join("; "))
        })
        .collect()
}

struct Writer<'a> {
    name: &'a str,
    present: &'a Present<'a>,
    /// Networks by their keys: their names.
    networks: BTreeMap<String, String>,
    /// Volumes, likewise.
    volumes: BTreeMap<String, String>,
    wrong: Vec<String>,
}

impl Writer<'_> {
    fn service(&mut self, service: &str, containers: &[&PresentContainer]) -> Option<Node> {
        let first = containers.first()?;
        if !is_key(service) {
            self.wrong.push(format!("'{}' is not a valid service name", shown(service, 60)));
            return None;
        }
        let definition = self.of_service(service, first);
        for other in containers.iter().skip(1) {
            let differs =
                crate::definition::difference::difference(&definition, &self.of_service(service, other));
            if let Some(difference) = differs.first() {
                self.wrong.push(format!(
                    "{} and {} are the same service but differ ({}); make them equal first",
                    first.container.name,
                    other.container.name,
                    difference.words()
                ));
            }
        }
        if definition.labels.contains_key(labels::FILES) {
            self.wrong.push(format!(
                "{} has configs or secrets whose source is unknown; deploy the stack from its files",
                first.container.name
            ));
        }
        let alone = yaml::read(&compose::write(&definition)).ok()?;
        let (_, mut node) = alone.get("services")?.entries().first()?.clone();
        let Value::Map(fields) = &mut node.value else { return None };
        for (_, networks) in fields.iter_mut().filter(|(key, _)| key.as_str() == "networks") {
            rename(networks, USUAL_NETWORK, "default");
        }
        if definition.network.mode.is_none() && definition.network.networks.is_empty() {
            // Of one that says nothing, the text would mean the stack's own network.
            fields.push((key("network_mode"), text("bridge")));
        }
        let number = first.number();
        let usual =
            [format!("{}-{service}-{number}", self.name), format!("{}_{service}_{number}", self.name)];
        if containers.len() > 1 {
            fields.push((key("scale"), number_node(containers.len())));
        } else if !usual.contains(&first.container.name) {
            fields.push((key("container_name"), text(&first.container.name)));
        }
        if let Some(needs) = first.container.labels.get(labels::DEPENDS_ON).and_then(|t| needs(t)) {
            fields.push((key("depends_on"), needs));
        }
        Some(node)
    }

    /// A container's definition with the names of the stack in it.
    fn of_service(&mut self, service: &str, present: &PresentContainer) -> Definition {
        let mut d = present.definition.clone();
        let own = std::mem::take(&mut d.name);
        d.labels.retain(|label, _| !label.starts_with(labels::COMMON));
        for mount in d.mounts.iter_mut().filter(|m| m.kind == MountKind::Volume) {
            let Some(name) = mount.source.take() else { continue };
            // An anonymous one stays where it is, and has no name in the text.
            if !(name.len() == 64 && name.bytes().all(|b| b.is_ascii_hexdigit())) {
                mount.source = Some(self.volume_key(&name));
            }
            (mount.driver, mount.options, mount.labels) = (None, BTreeMap::new(), BTreeMap::new());
        }
        for joined in &mut d.network.networks {
            joined
                .aliases
                .retain(|a| a != service && *a != own && !present.container.id.starts_with(a.as_str()));
            let network = self.network_key(&joined.name);
            joined.name = if network == "default" { USUAL_NETWORK.to_owned() } else { network };
        }
        for mode in [&mut d.network.mode, &mut d.rights.processes_of, &mut d.rights.memory_of] {
            let Some(of) = mode.as_deref().and_then(|m| m.strip_prefix("container:")) else { continue };
            let other =
                self.present.containers.iter().find(|c| c.container.id == of || c.container.name == of);
            if let Some(other) = other {
                *mode = Some(format!("service:{}", other.service()));
            } else if let Some(name) = self.present.names.get(of) {
                *mode = Some(format!("container:{name}"));
            }
        }
        d
    }

    /// Under which key something of an engine is in the text: as its label says, or by its name.
    fn key_of(&self, name: &str, label: Option<&String>, taken: &BTreeMap<String, String>) -> String {
        let plain = name.strip_prefix(self.name).and_then(|rest| rest.strip_prefix('_'));
        let wanted = label.map(String::as_str).or(plain).unwrap_or(name);
        let wanted = if is_key(wanted) { wanted.to_owned() } else { "named".to_owned() };
        let is_free = |key: &String| taken.get(key).is_none_or(|other| other == name);
        let numbered = (2..).map(|n| format!("{wanted}-{n}"));
        std::iter::once(wanted.clone()).chain(numbered).find(is_free).unwrap_or(wanted)
    }

    fn network_of(&self, name: &str) -> Option<&Network> {
        self.present.assets.networks.iter().find(|n| n.name == name)
    }

    fn volume_of(&self, name: &str) -> Option<&Volume> {
        self.present.assets.volumes.iter().find(|v| v.name == name)
    }

    fn network_key(&mut self, name: &str) -> String {
        let label = self
            .network_of(name)
            .filter(|n| self.is_own(&n.labels))
            .and_then(|n| n.labels.get(labels::NETWORK));
        let key = self.key_of(name, label, &self.networks);
        self.networks.insert(key.clone(), name.to_owned());
        key
    }

    fn volume_key(&mut self, name: &str) -> String {
        let label = self
            .volume_of(name)
            .filter(|v| self.is_own(&v.labels))
            .and_then(|v| v.labels.get(labels::VOLUME));
        let key = self.key_of(name, label, &self.volumes);
        self.volumes.insert(key.clone(), name.to_owned());
        key
    }

    /// Whether something was made for this stack.
    fn is_own(&self, labels: &BTreeMap<String, String>) -> bool {
        labels.get(STACK_LABEL).is_some_and(|stack| stack == self.name)
    }

    /// What belongs to the stack is made with it elsewhere; what does not is only named.
    fn network(&self, network_key: &str, name: &str) -> Node {
        let own = self.network_of(name).filter(|n| self.is_own(&n.labels));
        let Some(network) = own else { return there_already(name) };
        let mut fields = self.named(network_key, name);
        if network.driver != "bridge" {
            fields.push((key("driver"), text(&network.driver)));
        }
        for (flag, is) in [("internal", network.internal), ("enable_ipv6", network.ipv6)] {
            if is {
                fields.push((key(flag), Node::new(Value::Bool(true), Place::START)));
            }
        }
        map(fields)
    }

    fn volume(&self, volume_key: &str, name: &str) -> Node {
        let own = self.volume_of(name).filter(|v| self.is_own(&v.labels));
        let Some(volume) = own else { return there_already(name) };
        let mut fields = self.named(volume_key, name);
        if volume.driver != "local" {
            fields.push((key("driver"), text(&volume.driver)));
        }
        if !volume.options.is_empty() {
            let options = volume.options.iter().map(|(name, value)| (key(name), text(value)));
            fields.push((key("driver_opts"), map(options.collect())));
        }
        map(fields)
    }

    /// The name, where it is not the one that the stack gives by itself.
    fn named(&self, own_key: &str, name: &str) -> Vec<(Key, Node)> {
        let is_usual = name == format!("{}_{own_key}", self.name);
        if is_usual { Vec::new() } else { vec![(key("name"), text(name))] }
    }
}

fn there_already(name: &str) -> Node {
    map(vec![(key("name"), text(name)), (key("external"), Node::new(Value::Bool(true), Place::START))])
}

/// `depends_on` from what the label says.
fn needs(label: &str) -> Option<Node> {
    let one = |part: &str| -> Option<(Key, Node)> {
        let mut parts = part.split(':');
        let service = parts.next().filter(|s| is_key(s))?;
        let mut fields = vec![(key("condition"), text(parts.next()?))];
        if parts.next() == Some("true") {
            fields.push((key("restart"), Node::new(Value::Bool(true), Place::START)));
        }
        Some((key(service), map(fields)))
    };
    let all: Vec<(Key, Node)> = label.split(',').filter_map(one).collect();
    (!all.is_empty()).then(|| map(all))
}

fn rename(node: &mut Node, from: &str, to: &str) {
    match &mut node.value {
        Value::Map(entries) => {
            for (key, _) in entries.iter_mut().filter(|(key, _)| key.as_str() == from) {
                to.clone_into(&mut key.text);
            }
        }
        Value::List(items) => items.iter_mut().for_each(|item| {
            if item.value == Value::Text(from.to_owned()) {
                item.value = Value::Text(to.to_owned());
            }
        }),
        _ => {}
    }
}

fn key(text: &str) -> Key {
    Key { text: text.to_owned(), place: Place::START }
}

fn map(entries: Vec<(Key, Node)>) -> Node {
    Node::new(Value::Map(entries), Place::START)
}

/// A text in which `$` stands for itself.
fn text(value: &str) -> Node {
    Node::new(Value::Text(value.replace('$', "$$")), Place::START)
}

fn number_node(number: usize) -> Node {
    Node::new(Value::Number(number.to_string()), Place::START)
}
