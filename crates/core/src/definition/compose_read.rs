//! Reads one container from a Compose file: the stack's model with one service, and what a single container has no
//! setting for.
//!
//! The text may be pasted from anywhere: what is around the container is left out and told, not refused.

use std::collections::{BTreeMap, BTreeSet};

use super::compose::{Left, NAMELESS, Read};
use super::{Definition, MountKind};
use crate::compose::load::{ReadPurpose, StackInput};
use crate::compose::model::{Service, Stack};
use crate::compose::{load, read as stack_read};
use crate::yaml::{Node, Place, Value, YamlError, YamlErrors, read as read_yaml};

/// What the text is called while it is read; the rest are files beside it.
const TEXT: &str = "";
/// Attributes of a service that mean something only in a stack or at a build.
const ELSEWHERE: [&str; 16] = [
    "build",
    "configs",
    "depends_on",
    "external_links",
    "extends",
    "links",
    "post_start",
    "pre_start",
    "pre_stop",
    "profiles",
    "pull_refresh_after",
    "scale",
    "secrets",
    "volumes_from",
    "label_file",
    "include",
];

/// Reads a text with one service, whole or only what is below the service's name.
///
/// # Errors
/// Every error, with its place.
pub fn read(text: &str) -> Result<Read, YamlErrors> {
    read_with(text, &BTreeMap::new())
}

/// Reads it with the texts of the files that its `env_file` names, by their paths as written there.
///
/// # Errors
/// Every error, with its place.
pub fn read_with(text: &str, files: &BTreeMap<String, String>) -> Result<Read, YamlErrors> {
    let bare = |errors: Vec<load::FileError>| -> YamlErrors {
        let one = |e: load::FileError| match e.place.file {
            0 => YamlError { place: e.place, sentence: e.sentence },
            _ => YamlError {
                place: Place::START,
                sentence: format!("{}, line {}: {}", e.file, e.place.line, e.sentence),
            },
        };
        YamlErrors(errors.into_iter().map(one).collect())
    };
    let mut files = files.clone();
    files.insert(TEXT.to_owned(), text.to_owned());
    let given = StackInput {
        files: &files,
        main: &[TEXT.to_owned()],
        name: None,
        variables: &BTreeMap::new(),
        profiles: &BTreeSet::from(["*".to_owned()]),
        wanted: ReadPurpose::Container,
    };
    let (loaded, stack) = stack_read::read(&given).map_err(bare)?;
    let services = loaded.tree.get("services").map(Node::entries).unwrap_or_default();
    let (key, node) = match services {
        [(key, node)] => (key, node),
        [] => {
            return Err(YamlErrors(vec![loaded.tree.wrong("the file has no 'services'")]));
        }
        many => {
            let sentence = format!(
                "the file has {} services, and the form is for one container; keep one, or deploy all as a stack",
                many.len()
            );
            return Err(YamlErrors(vec![many[1].0.wrong(sentence)]));
        }
    };
    let Some(service) = stack.services.get(key.as_str()) else {
        return Err(YamlErrors(vec![node.wrong("no service")]));
    };
    if service.container.image.is_empty() {
        return Err(YamlErrors(vec![key.wrong("the service needs an 'image'")]));
    }
    let lies_here = relative_paths(node);
    if !lies_here.is_empty() {
        return Err(YamlErrors(lies_here));
    }
    let files_place = node.get("env_file").map_or(node.place, |n| n.place);
    let of_place = |(place, sentence): &(Place, String)| match loaded.files.get(usize::from(place.file)) {
        Some(file) if place.file > 0 => Left {
            place: files_place,
            sentence: format!("{}, line {}: {sentence}", crate::text::shown(file, 80), place.line),
        },
        _ => Left { place: *place, sentence: sentence.clone() },
    };
    let mut left: Vec<Left> = loaded.left.iter().map(of_place).collect();
    left.extend(
        loaded.without_effect.iter().map(|w| Left {
            place: w.place,
            sentence: format!("'{}' has no effect: {}", w.attribute, w.why),
        }),
    );
    left.extend(elsewhere(node));
    left.sort_by_key(|l| l.place);
    Ok(Read { definition: alone(&stack, service, loaded.is_bare), left })
}

/// Host paths that are relative to the file's folder.
fn relative_paths(service: &Node) -> Vec<YamlError> {
    let Some(Node { value: Value::List(mounts), .. }) = service.get("volumes") else { return Vec::new() };
    let sources = mounts
        .iter()
        .filter_map(|m| m.get("source"))
        .filter(|s| s.scalar().is_some_and(|t| t.starts_with("./")));
    let sentence = |source: &Node| {
        let path = source.scalar().unwrap_or_default().into_owned();
        source.wrong(format!(
            "'{}' is a relative path, which a host cannot know; write an absolute path",
            crate::text::shown(&path, 80)
        ))
    };
    sources.map(sentence).collect()
}

/// What of a service a single container has no place for.
fn elsewhere(service: &Node) -> Vec<Left> {
    let mut left = Vec::new();
    for (key, value) in service.entries() {
        if ELSEWHERE.contains(&key.as_str()) && value.value != Value::Null {
            let sentence = format!("'{key}' is dropped: it does not apply to a single container");
            left.push(Left { place: key.place, sentence });
        }
        if key.text == "deploy" {
            let others = value.entries().iter().filter(|(k, _)| {
                matches!(k.as_str(), "replicas" | "mode" | "update_config" | "rollback_config")
            });
            left.extend(others.map(|(k, _)| Left {
                place: k.place,
                sentence: format!("'deploy.{k}' is dropped: it does not apply to a single container"),
            }));
        }
    }
    left
}

/// A service's container with the engine's names for what it uses.
fn alone(stack: &Stack, service: &Service, is_bare: bool) -> Definition {
    let mut container = service.container.clone();
    if is_bare && container.name == NAMELESS && !service.has_fixed_name {
        container.name.clear();
    }
    for mount in container.mounts.iter_mut().filter(|m| m.kind == MountKind::Volume) {
        let Some(volume) = mount.source.as_ref().and_then(|source| stack.volumes.get(source)) else {
            continue;
        };
        if let Some(name) = &volume.name {
            mount.source = Some(name.clone());
        }
        mount.driver.clone_from(&volume.driver);
        mount.options.clone_from(&volume.options);
        mount.labels.extend(volume.labels.clone());
    }
    container
        .network
        .networks
        .retain(|n| n.name != "default" || stack.networks.get("default").is_some_and(|d| d.name.is_some()));
    for joined in &mut container.network.networks {
        if let Some(name) = stack.networks.get(&joined.name).and_then(|n| n.name.clone()) {
            joined.name = name;
        }
    }
    container
}

/// A file that `env_file` names.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct EnvironmentFile {
    /// Its path as written.
    pub path: String,
    /// It must be there.
    pub required: bool,
}

/// The files that the `env_file` of a text with one service names, in order.
///
/// # Errors
/// When the text cannot be read.
pub fn environment_files(text: &str) -> Result<Vec<EnvironmentFile>, YamlError> {
    let tree = read_yaml(text)?;
    let service = match tree.get("services") {
        Some(services) => services.entries().first().map(|(_, service)| service),
        None => Some(&tree),
    };
    let Some(node) = service.and_then(|s| s.get("env_file")) else { return Ok(Vec::new()) };
    let one = |node: &Node| {
        let (path, required) = match &node.value {
            Value::Map(_) => {
                (node.get("path")?, node.get("required").and_then(Node::scalar).as_deref() != Some("false"))
            }
            _ => (node, true),
        };
        Some(EnvironmentFile { path: path.scalar()?.into_owned(), required })
    };
    match &node.value {
        Value::List(items) => Ok(items.iter().filter_map(one).collect()),
        _ => Ok(one(node).into_iter().collect()),
    }
}

#[cfg(test)]
#[path = "compose_read_tests.rs"]
mod tests;
