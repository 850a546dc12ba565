//! Checks that everything a stack's services name exists, and that the services can be started in some order.

use std::collections::{BTreeMap, BTreeSet};

use super::Reader;
use super::fields::{items, text};
use crate::compose::load::Loaded;
use crate::compose::model::Stack;
use crate::definition::MountKind;
use crate::text::{nearest, shown};
use crate::yaml::{Node, Place, YamlError};

/// A service that another one needs, and where that is said.
struct Edge<'a> {
    to: String,
    place: Place,
    attribute: &'a str,
    required: bool,
}

/// Tells what is named and not there.
pub(super) fn check(reader: &mut Reader, loaded: &Loaded, stack: &Stack) {
    let services = loaded.tree.get("services").map(Node::entries).unwrap_or_default();
    if services.is_empty() {
        let sentence = match loaded.left_out.first() {
            Some(name) => format!(
                "every service has an inactive profile, for example '{}'; activate a profile",
                shown(name, 60)
            ),
            None => "the file has no 'services'".to_owned(),
        };
        reader.tell(loaded.tree.wrong(sentence));
    }
    let mut edges: BTreeMap<&str, Vec<Edge<'_>>> = BTreeMap::new();
    let mut fixed: BTreeMap<&str, &str> = BTreeMap::new();
    for (key, node) in services {
        let Some(service) = stack.services.get(key.as_str()) else { continue };
        let needed = needs(node);
        for edge in &needed {
            is_there(reader, loaded, stack, edge);
            runs_with_the_stack(reader, stack, edge);
        }
        edges.insert(key.as_str(), needed);
        named_things(reader, stack, node);
        if service.has_fixed_name
            && let Some(other) = fixed.insert(&service.container.name, key.as_str())
        {
            let place = node.get("container_name").unwrap_or(node);
            let sentence = format!(
                "'{other}' and '{key}' have the same 'container_name'; two containers cannot share a name"
            );
            reader.tell(place.wrong(sentence));
        }
    }
    circles(reader, &edges);
}

/// All ways in which a service says that it needs another one.
fn needs(node: &Node) -> Vec<Edge<'static>> {
    let mut all = Vec::new();
    for (key, need) in node.get("depends_on").map(Node::entries).unwrap_or_default() {
        let required = super::fields::flag(need, "required").unwrap_or(true);
        all.push(Edge { to: key.text.clone(), place: key.place, attribute: "depends_on", required });
    }
    for attribute in ["links", "volumes_from"] {
        for item in items(node, attribute) {
            let Some(written) = item.scalar().filter(|t| !t.starts_with("container:")) else { continue };
            let to = written.split(':').next().unwrap_or_default().to_owned();
            all.push(Edge { to, place: item.place, attribute, required: true });
        }
    }
    for attribute in ["network_mode", "pid", "ipc"] {
        let Some(written) = text(node, attribute) else { continue };
        if let Some(to) = written.strip_prefix("service:") {
            let place = node.get(attribute).map_or(node.place, |n| n.place);
            all.push(Edge { to: to.to_owned(), place, attribute, required: true });
        }
    }
    all
}

fn is_there(reader: &mut Reader, loaded: &Loaded, stack: &Stack, edge: &Edge<'_>) {
    if stack.services.contains_key(&edge.to) {
        return;
    }
    let (to, attribute) = (shown(&edge.to, 60), edge.attribute);
    let sentence = if loaded.left_out.contains(&edge.to) {
        if !edge.required {
            return;
        }
        format!(
            "'{attribute}' names '{to}', whose profile is not active; activate it, or write 'required: false'"
        )
    } else {
        let known: Vec<&str> = stack.services.keys().map(String::as_str).collect();
        let hint =
            nearest(&edge.to, &known).map_or_else(String::new, |near| format!("; did you mean '{near}'?"));
        format!("'{attribute}' names '{to}', which does not exist{hint}")
    };
    reader.tell(YamlError { place: edge.place, sentence });
}

/// A job is not there when the others begin.
fn runs_with_the_stack(reader: &mut Reader, stack: &Stack, edge: &Edge<'_>) {
    if stack.services.get(&edge.to).is_some_and(|of| of.schedule.is_some()) {
        let (to, attribute) = (shown(&edge.to, 60), edge.attribute);
        let sentence = format!(
            "'{attribute}' names '{to}', a job that runs at its own times and not with the stack; remove one of the two"
        );
        reader.tell(YamlError { place: edge.place, sentence });
    }
}

/// Networks, volumes, configs and secrets that a service names.
fn named_things(reader: &mut Reader, stack: &Stack, node: &Node) {
    for (key, _) in node.get("networks").map(Node::entries).unwrap_or_default() {
        if key.text != "default" && !stack.networks.contains_key(key.as_str()) {
            undeclared(reader, key.place, "network", "networks", key, stack.networks.keys());
        }
    }
    for item in items(node, "volumes") {
        let is_volume = matches!(text(item, "type").as_deref(), None | Some("volume"));
        let Some(source) = text(item, "source").filter(|_| is_volume) else { continue };
        if !stack.volumes.contains_key(&source) {
            let place = item.get("source").map_or(item.place, |n| n.place);
            undeclared(reader, place, "volume", "volumes", &source, stack.volumes.keys());
        }
    }
    for (what, section, known) in
        [("config", "configs", &stack.configs), ("secret", "secrets", &stack.secrets)]
    {
        for item in items(node, section) {
            let Some(source) = text(item, "source") else { continue };
            if !known.contains_key(&source) {
                let place = item.get("source").map_or(item.place, |n| n.place);
                undeclared(reader, place, what, section, &source, known.keys());
            }
        }
    }
}

fn undeclared<'a>(
    reader: &mut Reader,
    place: Place,
    what: &str,
    section: &str,
    name: &str,
    known: impl Iterator<Item = &'a String>,
) {
    let known: Vec<&str> = known.map(String::as_str).collect();
    let name = shown(name, 60);
    let sentence = match nearest(&name, &known) {
        Some(near) => format!("the {what} '{name}' is not declared; did you mean '{near}'?"),
        None => {
            format!("the {what} '{name}' is not declared; add it to the top-level '{section}'")
        }
    };
    reader.tell(YamlError { place, sentence });
}

/// Tells of services that need each other in a circle, each circle once.
fn circles(reader: &mut Reader, edges: &BTreeMap<&str, Vec<Edge<'_>>>) {
    let mut done: BTreeSet<&str> = BTreeSet::new();
    for &start in edges.keys() {
        // Depth first, with the way that led there; without recursion, because a text may have many services.
        let mut way: Vec<(&str, usize)> = vec![(start, 0)];
        while let Some((at, next)) = way.last_mut() {
            let at = *at;
            if done.contains(at) {
                way.pop();
                continue;
            }
            let Some(edge) = edges.get(at).and_then(|all| all.get(*next)) else {
                done.insert(at);
                way.pop();
                continue;
            };
            *next += 1;
            let Some((&to, _)) = edges.get_key_value(edge.to.as_str()) else { continue };
            match way.iter().position(|(name, _)| *name == to) {
                Some(n) => {
                    let circle: Vec<&str> = way[n..].iter().map(|(name, _)| *name).chain([to]).collect();
                    let sentence = format!(
                        "services depend on each other in a circle: {}",
                        shown(&circle.join(" → "), 200)
                    );
                    reader.tell(YamlError { place: edge.place, sentence });
                }
                None => way.push((to, 0)),
            }
        }
    }
}

impl Stack {
    /// The volumes that a service mounts, by the names that the stack has for them.
    pub fn volumes_of(&self, service: &str) -> BTreeSet<&str> {
        let mounts = self.services.get(service).map(|s| &s.container.mounts[..]).unwrap_or_default();
        let volumes = mounts.iter().filter(|m| m.kind == MountKind::Volume);
        volumes.filter_map(|m| m.source.as_deref()).collect()
    }
}
