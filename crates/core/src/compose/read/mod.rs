//! From a stack's tree in long form to the stack: the meaning of each field, and what must fit together.
//!
//! Containers are read in [`container`] and [`mounts`], what else a service has in [`service`], networks, volumes and files in
//! [`resources`]; whether all that is named is there in [`references`].

mod container;
mod fields;
mod mounts;
mod references;
mod resources;
mod service;

use std::collections::BTreeMap;

pub(crate) use container::{AUTO_REMOVE_KEY, OWNER_KEY};

use super::load::{FileError, Loaded, ReadPurpose, StackInput, collect, named};
use super::model::Stack;
use crate::text::shown;
use crate::yaml::{Key, MOST_ERRORS, Node, YamlError};

/// Reads a stack: its files, and what they mean together.
///
/// # Errors
/// Every error, in the order of the files and their lines.
pub fn read(given: &StackInput<'_>) -> Result<(Loaded, Stack), Vec<FileError>> {
    let (loaded, mut errors) = collect(given);
    let mut reader = Reader::default();
    let stack = reader.stack(&loaded);
    // Where a file has errors of its own, what is read of it would only be told of them once more; whether all that it names
    // is there can still be said.
    if !errors.is_empty() {
        reader.errors.clear();
    }
    let is_readable = errors.is_empty() || !stack.services.is_empty();
    if loaded.wanted == ReadPurpose::Stack && is_readable {
        references::check(&mut reader, &loaded, &stack);
    }
    errors.extend(reader.errors);
    if errors.is_empty() { Ok((loaded, stack)) } else { Err(named(errors, &loaded.files)) }
}

/// What gathers errors.
#[derive(Default)]
pub(super) struct Reader {
    errors: Vec<YamlError>,
}

impl Reader {
    /// Adds an error.
    fn tell(&mut self, error: YamlError) {
        if self.errors.len() < MOST_ERRORS {
            self.errors.push(error);
        }
    }

    fn stack(&mut self, loaded: &Loaded) -> Stack {
        let tree = &loaded.tree;
        if let (Some(name), Some(node)) = (&loaded.name, tree.get("name"))
            && !is_stack_name(name)
        {
            self.tell(node.wrong(format!(
                "'{}' is not a valid stack name; use lower-case letters, digits, '-' and '_', starting with a letter or digit",
                shown(name, 60)
            )));
        }
        let mut stack = Stack {
            name: loaded.name.clone(),
            networks: self.each(tree, "networks", Self::network),
            volumes: self.each(tree, "volumes", Self::volume),
            configs: self.each(tree, "configs", Self::file_source),
            secrets: self.each(tree, "secrets", Self::file_source),
            ..Stack::default()
        };
        stack.services = self.each(tree, "services", |reader, key, node| reader.service(key, node));
        if stack.services.values().any(|s| s.container.network.networks.iter().any(|n| n.name == "default")) {
            stack.networks.entry("default".to_owned()).or_default();
        }
        stack
    }

    /// The entries of a section that have names which can be names.
    fn each<T>(
        &mut self,
        tree: &Node,
        section: &str,
        mut read: impl FnMut(&mut Self, &Key, &Node) -> T,
    ) -> BTreeMap<String, T> {
        let mut all = BTreeMap::new();
        for (key, node) in tree.get(section).map(Node::entries).unwrap_or_default() {
            if !is_key(key) {
                self.tell(key.wrong(format!(
                    "'{}' is not a valid name; use letters, digits, '.', '-' and '_'",
                    shown(key, 60)
                )));
            }
            let value = read(self, key, node);
            all.insert(key.text.clone(), value);
        }
        all
    }
}

/// Whether a stack can be called so.
pub fn is_stack_name(name: &str) -> bool {
    name.len() <= 63
        && name.starts_with(|c: char| c.is_ascii_lowercase() || c.is_ascii_digit())
        && name.bytes().all(|b| b.is_ascii_lowercase() || b.is_ascii_digit() || matches!(b, b'-' | b'_'))
}

/// Whether a service, a network and the like can be called so.
pub(crate) fn is_key(name: &str) -> bool {
    !name.is_empty()
        && name.len() <= 128
        && name.bytes().all(|b| b.is_ascii_alphanumeric() || matches!(b, b'_' | b'.' | b'-'))
}

#[cfg(test)]
#[path = "../read_tests.rs"]
mod tests;
