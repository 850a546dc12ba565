//! Writes texts and trees so that they read back the same.

use super::tree::{MergeTag, Node, Value};

/// The longest key that is written as usual: YAML takes longer ones only with a mark before them.
const LONGEST_PLAIN_KEY: usize = 1000;

/// Writes a text so that it is read back as the same text, in quotes where it needs them.
pub fn quoted(text: &str) -> String {
    let plain = !text.is_empty()
        && text.chars().all(|c| c.is_ascii_alphanumeric() || "-_./+@".contains(c) || (c == ' '))
        && !text.starts_with(['-', ' ', '.', '+', '@'])
        && !text.ends_with(' ')
        && !text.chars().next().is_some_and(|c| c.is_ascii_digit())
        && !matches!(
            text.to_ascii_lowercase().as_str(),
            "true" | "false" | "yes" | "no" | "on" | "off" | "null" | "y" | "n" | "nan" | "inf"
        );
    if plain {
        return text.to_owned();
    }
    let mut out = String::with_capacity(text.len() + 2);
    out.push('"');
    for c in text.chars() {
        match c {
            '"' => out.push_str("\\\""),
            '\\' => out.push_str("\\\\"),
            '\n' => out.push_str("\\n"),
            '\r' => out.push_str("\\r"),
            '\t' => out.push_str("\\t"),
            c if c.is_control() || matches!(c, '\u{2028}' | '\u{2029}' | '\u{feff}') => {
                out.push_str(&format!("\\u{:04x}", u32::from(c)));
            }
            c => out.push(c),
        }
    }
    out.push('"');
    out
}

/// Writes a tree, each key and each entry of a list on a line of its own.
///
/// ```
/// use gubernum_core::yaml::{document, read};
/// let tree = read("services: {api: {image: x, ports: [80]}}").unwrap();
/// assert_eq!(document(&tree), "services:\n  api:\n    image: x\n    ports:\n      - 80\n");
/// ```
pub fn document(tree: &Node) -> String {
    let mut out = String::new();
    match inline(tree) {
        Some(text) => out.push_str(&format!("{text}\n")),
        None => block(tree, 0, &mut out),
    }
    out
}

fn tag(node: &Node) -> &'static str {
    match node.tag {
        Some(MergeTag::Reset) => "!reset ",
        Some(MergeTag::Override) => "!override ",
        None => "",
    }
}

/// A value that fits on a line behind its key; `None` for one that has lines of its own.
fn inline(node: &Node) -> Option<String> {
    let text = match &node.value {
        Value::Null => "~".to_owned(),
        Value::Bool(is) => is.to_string(),
        Value::Number(number) => number.clone(),
        Value::Text(text) => quoted(text),
        Value::List(items) if items.is_empty() => "[]".to_owned(),
        Value::Map(entries) if entries.is_empty() => "{}".to_owned(),
        Value::List(_) | Value::Map(_) => return None,
    };
    Some(format!("{}{text}", tag(node)))
}

/// The lines of a list or a mapping that has something in it.
fn block(node: &Node, depth: usize, out: &mut String) {
    let begin = " ".repeat(depth * 2);
    match &node.value {
        Value::List(items) => {
            for item in items {
                out.push_str(&begin);
                out.push('-');
                below(item, depth, out);
            }
        }
        Value::Map(entries) => {
            for (key, value) in entries {
                out.push_str(&begin);
                let key = quoted(key);
                if key.chars().count() > LONGEST_PLAIN_KEY {
                    out.push_str(&format!("? {key}\n{begin}:"));
                } else {
                    out.push_str(&format!("{key}:"));
                }
                below(value, depth, out);
            }
        }
        _ => {}
    }
}

/// What is behind a dash or a key.
fn below(value: &Node, depth: usize, out: &mut String) {
    match inline(value) {
        Some(text) => out.push_str(&format!(" {text}\n")),
        None => {
            let tag = tag(value).trim_end();
            out.push_str(&if tag.is_empty() { "\n".to_owned() } else { format!(" {tag}\n") });
            block(value, depth + 1, out);
        }
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::{document, quoted};
    use crate::yaml::{Key, MergeTag, Node, Place, Value, read};

    fn tree() -> impl Strategy<Value = Node> {
        let scalar = prop_oneof![
            Just(Value::Null),
            any::<bool>().prop_map(Value::Bool),
            "-?[1-9][0-9]{0,6}".prop_map(Value::Number),
            any::<String>().prop_map(Value::Text),
            Just(Value::List(Vec::new())),
            Just(Value::Map(Vec::new())),
        ];
        let tag = || prop_oneof![4 => Just(None), 1 => Just(Some(MergeTag::Reset)), 1 => Just(Some(MergeTag::Override))];
        let node = |value: Value, tag| Node { tag, ..Node::new(value, Place::START) };
        let leaf = (scalar, tag()).prop_map(move |(value, tag)| node(value, tag));
        leaf.prop_recursive(4, 32, 5, move |inner| {
            let keys = prop_oneof![8 => "[ -~]{1,12}", 1 => "x{990,1100}"]
                .prop_filter("no merge key", |k| k != "<<");
            let entries = prop::collection::btree_map(keys, inner.clone(), 1..5).prop_map(|all| {
                let key = |text| Key { text, place: Place::START };
                Value::Map(all.into_iter().map(|(text, value)| (key(text), value)).collect())
            });
            let list = prop::collection::vec(inner, 1..5).prop_map(Value::List);
            (prop_oneof![entries, list], tag()).prop_map(move |(value, tag)| node(value, tag))
        })
    }

    proptest! {
        #[test]
        fn what_is_quoted_is_read_back(text in any::<String>()) {
            let tree = read(&format!("k: {}\n", quoted(&text))).unwrap();
            prop_assert_eq!(&tree.get("k").unwrap().value, &Value::Text(text));
        }

        #[test]
        fn what_is_written_is_read_back(tree in tree()) {
            // A whole document replaces nothing.
            let tree = Node { tag: None, ..tree };
            let text = document(&tree);
            let back = read(&text).map_err(|e| TestCaseError::fail(format!("{e}\n{text}")))?;
            prop_assert_eq!(back, tree, "{}", text);
        }
    }
}
