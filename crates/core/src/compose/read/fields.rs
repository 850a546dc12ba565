//! Typed fields of a tree in long form. Shapes were checked before; whether a number fits is checked here.

use std::collections::BTreeMap;

use super::Reader;
use crate::compose::canonical::{micros, mode, truth, whole};
use crate::definition::units::{bytes, millis};
use crate::text::shown;
use crate::yaml::{Node, Value};

/// A text.
pub(super) fn text(node: &Node, name: &str) -> Option<String> {
    node.get(name).and_then(Node::scalar).map(std::borrow::Cow::into_owned)
}

/// Texts of a list.
pub(super) fn texts(node: &Node, name: &str) -> Vec<String> {
    items(node, name).iter().filter_map(Node::scalar).map(std::borrow::Cow::into_owned).collect()
}

/// A list whose being there means something, even an empty one.
pub(super) fn command(node: &Node, name: &str) -> Option<Vec<String>> {
    node.get(name).filter(|n| n.value != Value::Null).map(|_| texts(node, name))
}

/// The values of a list.
pub(super) fn items<'a>(node: &'a Node, name: &str) -> &'a [Node] {
    match node.get(name).map(|n| &n.value) {
        Some(Value::List(items)) => items,
        _ => &[],
    }
}

/// Names with texts; nothing is an empty text.
pub(super) fn pairs(node: &Node, name: &str) -> BTreeMap<String, String> {
    let entries = node.get(name).map(Node::entries).unwrap_or_default();
    let value = |node: &Node| node.scalar().map(std::borrow::Cow::into_owned).unwrap_or_default();
    entries.iter().map(|(key, node)| (key.text.clone(), value(node))).collect()
}

/// True or false.
pub(super) fn flag(node: &Node, name: &str) -> Option<bool> {
    node.get(name).and_then(Node::scalar).and_then(|text| truth(&text))
}

/// A duration in milliseconds.
pub(super) fn span(node: &Node, name: &str) -> Option<u64> {
    node.get(name).and_then(Node::scalar).and_then(|text| millis(&text))
}

/// Bytes.
pub(super) fn size(node: &Node, name: &str) -> Option<u64> {
    node.get(name).and_then(Node::scalar).and_then(|text| bytes(&text))
}

/// Rights of a file.
pub(super) fn file_mode(node: &Node, name: &str) -> Option<u32> {
    node.get(name).and_then(Node::scalar).and_then(|text| mode(&text))
}

/// A number that need not be whole.
pub(super) fn decimal(node: &Node, name: &str) -> Option<f64> {
    node.get(name).and_then(Node::scalar).and_then(|text| text.trim().parse().ok())
}

impl Reader {
    /// A whole number within the bounds of its type.
    pub(super) fn number<T: TryFrom<i64>>(&mut self, node: &Node, name: &str) -> Option<T> {
        let node = node.get(name)?;
        let text = node.scalar()?;
        let value = whole(&text).and_then(|number| T::try_from(number).ok());
        if value.is_none() {
            let sentence = format!("'{name}' cannot be '{}': out of range", shown(&text, 40));
            self.tell(node.wrong(sentence));
        }
        value
    }

    /// A whole number between two bounds, both included.
    pub(super) fn between<T: TryFrom<i64>>(
        &mut self,
        node: &Node,
        name: &str,
        from: i64,
        to: i64,
    ) -> Option<T> {
        let number: i64 = self.number(node, name)?;
        if !(from..=to).contains(&number) {
            let place = node.get(name).unwrap_or(node);
            self.tell(place.wrong(format!("'{name}' must be from {from} to {to}, not {number}")));
            return None;
        }
        T::try_from(number).ok()
    }

    /// Microseconds.
    pub(super) fn microseconds<T: TryFrom<i64>>(&mut self, node: &Node, name: &str) -> Option<T> {
        let node = node.get(name)?;
        let text = node.scalar()?;
        let value = micros(&text).and_then(|number| T::try_from(number).ok());
        if value.is_none() {
            let sentence = format!("'{name}' cannot be '{}': out of range", shown(&text, 40));
            self.tell(node.wrong(sentence));
        }
        value
    }
}
