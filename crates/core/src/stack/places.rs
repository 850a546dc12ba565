//! Finds the place of a value in a stack's files, by the keys that lead to it.

use crate::compose::load::{FileError, Loaded};
use crate::yaml::Place;

/// Finds places in a stack that was read.
pub(super) struct Places<'a> {
    loaded: &'a Loaded,
}

impl<'a> Places<'a> {
    pub(super) fn new(loaded: &'a Loaded) -> Self {
        Self { loaded }
    }

    /// The place of the last of the keys that is there.
    fn place(&self, keys: &[&str]) -> Place {
        let mut node = &self.loaded.tree;
        let mut place = node.place;
        for key in keys {
            let Some((at, next)) = node.entries().iter().find(|(k, _)| k.as_str() == *key) else { break };
            place = at.place;
            node = next;
        }
        place
    }

    /// An error at that place.
    pub(super) fn error(&self, keys: &[&str], sentence: String) -> FileError {
        let place = self.place(keys);
        let file = self.loaded.files.get(usize::from(place.file)).cloned().unwrap_or_default();
        FileError { file, place, sentence }
    }
}
