//! Merges two files in long form, the later one over the earlier (Compose Specification, "Merge").
//!
//! Mappings are merged key by key. Of lists both are kept; ports, volumes, configs, secrets and devices that have the same
//! place in the container become one. Command lines and single values are replaced. `!reset` removes what was there,
//! `!override` stands alone. How each attribute behaves follows from its shape ([`super::schema`]).

use super::schema::{Field, Record, Shape};
use crate::yaml::{Key, MergeTag, Node, Value};

/// The value `over` put onto `base`. Both are in their long form.
pub fn merge(base: Node, over: Node, shape: &Shape) -> Node {
    match over.tag {
        Some(MergeTag::Override) => return untagged(over, shape),
        Some(MergeTag::Reset) => return Node { value: Value::Null, tag: None, ..over },
        None => {}
    }
    match shape {
        // Nothing is a command line of its own: it clears what the image says.
        Shape::Command => over,
        // Where nothing stands nothing is said.
        _ if over.value == Value::Null => base,
        Shape::Record(record) | Shape::Short(_, record) => merge_record(base, over, record),
        Shape::Names(record) => merge_keys(base, over, |_| Shape::Record(record)),
        Shape::Map(inner) => merge_keys(base, over, |_| **inner),
        Shape::Pairs => merge_keys(base, over, |_| Shape::Anything),
        Shape::Texts | Shape::TextsOrNumbers | Shape::TextOrTexts => {
            merge_lists(base, over, |base, item| (!base.contains(&item)).then_some(item))
        }
        Shape::List(_) => merge_lists(base, over, |_, item| Some(item)),
        Shape::Entries(entries) => merge_lists(base, over, |base, item| {
            let key = (entries.key)(&item);
            match base.iter_mut().find(|known| (entries.key)(known) == key) {
                Some(known) => {
                    let before = std::mem::replace(known, Node::new(Value::Null, item.place));
                    *known = merge_record(before, item, entries.record);
                    None
                }
                None => Some(item),
            }
        }),
        _ => over,
    }
}

/// A text that stands alone, freed of its tags: what is reset is not there.
pub fn untagged(node: Node, shape: &Shape) -> Node {
    let empty = match &node.value {
        Value::Map(_) => Value::Map(Vec::new()),
        Value::List(_) => Value::List(Vec::new()),
        _ => return Node { tag: None, ..node },
    };
    let base = Node::new(empty, node.place);
    merge(base, Node { tag: None, ..node }, shape)
}

fn merge_record(base: Node, over: Node, record: &Record) -> Node {
    // Options belong to their driver: those of another one mean nothing to it.
    let driver = |node: &Node| node.get("driver").and_then(Node::scalar).map(std::borrow::Cow::into_owned);
    let is_other_driver =
        record.what == "'logging'" && driver(&over).is_some_and(|d| Some(d) != driver(&base));
    let base = if is_other_driver { Node { value: Value::Map(Vec::new()), ..base } } else { base };
    merge_keys(base, over, |key| record.field(key).map_or(Shape::Anything, |field: &Field| field.shape))
}

fn merge_keys(base: Node, over: Node, shape: impl Fn(&str) -> Shape) -> Node {
    let (mut entries, place) = match (base.value, &over.value) {
        (Value::Map(entries), _) => (entries, base.place),
        (_, Value::Map(_)) => (Vec::new(), over.place),
        _ => return over,
    };
    let Value::Map(all) = over.value else { return Node::new(Value::Map(entries), place) };
    for (key, value) in all {
        let at = entries.iter().position(|(known, _)| *known == key);
        let is_reset = value.tag == Some(MergeTag::Reset);
        match at {
            Some(at) if is_reset => {
                entries.remove(at);
            }
            None if is_reset => {}
            Some(at) => {
                let (known, before) = entries.remove(at);
                // An error is mended where it was said last.
                let is_replaced = !matches!(value.value, Value::Map(_) | Value::List(_));
                let key = if is_replaced && value.value != Value::Null { key } else { known };
                let merged = merge(before, value, &shape(&key));
                entries.insert(at, (key, merged));
            }
            None => {
                let shape = shape(&key);
                entries.push((Key { ..key }, untagged(value, &shape)));
            }
        }
    }
    Node::new(Value::Map(entries), place)
}

fn merge_lists(base: Node, over: Node, mut new: impl FnMut(&mut Vec<Node>, Node) -> Option<Node>) -> Node {
    let (Value::List(mut items), Value::List(all)) = (base.value, over.value.clone()) else { return over };
    for item in all {
        if let Some(item) = new(&mut items, item) {
            items.push(item);
        }
    }
    Node::new(Value::List(items), base.place)
}

#[cfg(test)]
#[path = "merge_tests.rs"]
mod tests;
