//! Variables and labels of services from files: `env_file` and `label_file`, overridden by what the Compose file
//! sets.

use std::collections::{HashMap, HashSet};

use super::dotenv::{self, FileVariable};
use super::load::{LoadContext, Loader};
use super::paths::{entries_of, field};
use crate::text::shown;
use crate::yaml::{Key, Node, Value};

/// Fills `environment` and `labels` of every service from the files it names, and the values of variables that are only named
/// from what is around.
pub(super) fn fill_from_files(loader: &mut Loader<'_>, tree: &mut Node, context: &LoadContext) {
    for (_, service) in entries_of(tree, "services") {
        let from_files = environment_files(loader, service, context);
        let labels = label_files(loader, service, context);
        if !loader.bring(from_files.len() + labels.len(), service.place) {
            return;
        }
        lay_below(service, "environment", from_files);
        lay_below(service, "labels", labels);
        take_from_context(loader, service, context);
    }
}

fn items(service: &Node, name: &str) -> Vec<Node> {
    match service.get(name).map(|n| &n.value) {
        Some(Value::List(items)) => items.clone(),
        _ => Vec::new(),
    }
}

fn environment_files(loader: &mut Loader<'_>, service: &Node, context: &LoadContext) -> Vec<FileVariable> {
    let mut all = Vec::new();
    for file in items(service, "env_file") {
        let Some(path) = file.get("path") else { continue };
        let text = |name: &str| file.get(name).and_then(Node::scalar);
        let is_required = text("required").is_none_or(|t| super::canonical::truth(&t) != Some(false));
        let is_raw = text("format").is_some_and(|format| format == "raw");
        all.extend(read(loader, path, is_required, is_raw, context));
    }
    all
}

fn label_files(loader: &mut Loader<'_>, service: &Node, context: &LoadContext) -> Vec<FileVariable> {
    let mut all = Vec::new();
    for path in items(service, "label_file") {
        all.extend(read(loader, &path, true, false, context));
    }
    all
}

fn read(
    loader: &mut Loader<'_>,
    path: &Node,
    is_required: bool,
    is_raw: bool,
    context: &LoadContext,
) -> Vec<FileVariable> {
    let Some(name) = path.scalar() else { return Vec::new() };
    if !is_required && !loader.has(&name) {
        return Vec::new();
    }
    if !loader.has(&name) {
        let sentence = || {
            format!(
                "variables of {} are not imported, because only this text is read; paste its lines into the variables",
                shown(&name, 80)
            )
        };
        if loader.leave(path.place, sentence) {
            return Vec::new();
        }
    }
    let Some((number, text)) = loader.open(&name, Some(path.place)) else { return Vec::new() };
    if is_raw {
        return dotenv::read_raw(&text, number);
    }
    dotenv::read(&text, number, &|name| context.get(name)).unwrap_or_else(|errors| {
        errors.into_iter().for_each(|e| loader.findings.tell(e));
        Vec::new()
    })
}

/// Puts what files say below what is there. Of several files the last one counts.
fn lay_below(service: &mut Node, name: &str, from_files: Vec<FileVariable>) {
    if from_files.is_empty() {
        return;
    }
    let place = service.place;
    let mut all: Vec<(Key, Node)> = Vec::new();
    let mut known: HashMap<String, usize> = HashMap::new();
    for variable in from_files {
        let value = Node::new(variable.value.map_or(Value::Null, Value::Text), variable.place);
        match known.get(&variable.name) {
            Some(n) => all[*n].1 = value,
            None => {
                known.insert(variable.name.clone(), all.len());
                all.push((Key { text: variable.name, place: variable.place }, value));
            }
        }
    }
    match field(service, name) {
        Some(Node { value: Value::Map(own), .. }) => {
            let set: HashSet<&str> = own.iter().map(|(key, _)| key.as_str()).collect();
            all.retain(|(key, _)| !set.contains(key.as_str()));
            all.append(own);
            *own = all;
        }
        Some(other) => other.value = Value::Map(all),
        None => {
            if let Value::Map(fields) = &mut service.value {
                fields.push((Key { text: name.to_owned(), place }, Node::new(Value::Map(all), place)));
            }
        }
    }
}

/// A variable that is only named has the value that it has around the stack; without one there it is not set.
fn take_from_context(loader: &mut Loader<'_>, service: &mut Node, context: &LoadContext) {
    let Some(Node { value: Value::Map(own), .. }) = field(service, "environment") else { return };
    own.retain_mut(|(key, value)| {
        if value.value != Value::Null {
            return true;
        }
        loader.asked.note_passed(key.as_str(), key.place);
        match context.get(key.as_str()) {
            Some(known) => {
                value.value = Value::Text(known);
                true
            }
            None => {
                let sentence = || format!("'{key}' has no value in the text and is not set; enter one here");
                loader.leave(key.place, sentence);
                false
            }
        }
    });
}
