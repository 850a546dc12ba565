//! YAML as a tree that knows where each part stands, so that a mistake can be pointed at.
//!
//! Reading only. Limits: a text of [`MOST_BYTES`], the parser's own limits for depth, aliases and nodes.

use std::fmt;

use serde::Deserialize;
use serde::de::{self, Deserializer, MapAccess, SeqAccess, Visitor};
use serde_saphyr::Spanned;

/// The longest text that is read.
pub const MOST_BYTES: usize = 1024 * 1024;

/// A place in a text, both from 1.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Place {
    /// The line.
    pub line: u64,
    /// The column.
    pub column: u64,
}

/// What a text cannot be read for.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("line {}, column {}: {sentence}", place.line, place.column)]
pub struct YamlError {
    /// Where.
    pub place: Place,
    /// What is wrong and what to write instead.
    pub sentence: String,
}

/// A value.
#[derive(Debug, Clone, PartialEq)]
pub enum Value {
    /// Nothing.
    Null,
    /// True or false.
    Bool(bool),
    /// A number, as a text.
    Number(String),
    /// A text.
    Text(String),
    /// A list.
    List(Vec<Node>),
    /// Keys with values, in their order.
    Map(Vec<(String, Node)>),
}

/// A value and where it stands.
#[derive(Debug, Clone, PartialEq)]
pub struct Node {
    /// The value.
    pub value: Value,
    /// Where it begins.
    pub place: Place,
}

impl Node {
    /// An error at this place.
    pub fn wrong(&self, sentence: impl Into<String>) -> YamlError {
        YamlError { place: self.place, sentence: sentence.into() }
    }

    /// The value of a key.
    pub fn get(&self, key: &str) -> Option<&Node> {
        match &self.value {
            Value::Map(entries) => entries.iter().find(|(k, _)| k == key).map(|(_, n)| n),
            _ => None,
        }
    }

    /// What kind of value it is, in words.
    pub fn kind(&self) -> &'static str {
        match self.value {
            Value::Null => "nothing",
            Value::Bool(_) => "true or false",
            Value::Number(_) => "a number",
            Value::Text(_) => "a text",
            Value::List(_) => "a list",
            Value::Map(_) => "a mapping",
        }
    }

    /// A text, a number or a truth value as a text.
    pub fn scalar(&self) -> Option<String> {
        match &self.value {
            Value::Text(t) | Value::Number(t) => Some(t.clone()),
            Value::Bool(b) => Some(b.to_string()),
            _ => None,
        }
    }
}

impl<'de> Deserialize<'de> for Node {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        let spanned = Spanned::<Value>::deserialize(deserializer)?;
        let place = Place { line: spanned.referenced.line(), column: spanned.referenced.column() };
        Ok(Self { value: spanned.value, place })
    }
}

impl<'de> Deserialize<'de> for Value {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        deserializer.deserialize_any(Reader)
    }
}

struct Reader;

impl<'de> Visitor<'de> for Reader {
    type Value = Value;

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("any value")
    }

    fn visit_unit<E: de::Error>(self) -> Result<Value, E> {
        Ok(Value::Null)
    }

    fn visit_none<E: de::Error>(self) -> Result<Value, E> {
        Ok(Value::Null)
    }

    fn visit_some<D: Deserializer<'de>>(self, deserializer: D) -> Result<Value, D::Error> {
        deserializer.deserialize_any(Self)
    }

    fn visit_bool<E: de::Error>(self, v: bool) -> Result<Value, E> {
        Ok(Value::Bool(v))
    }

    fn visit_i64<E: de::Error>(self, v: i64) -> Result<Value, E> {
        Ok(Value::Number(v.to_string()))
    }

    fn visit_u64<E: de::Error>(self, v: u64) -> Result<Value, E> {
        Ok(Value::Number(v.to_string()))
    }

    fn visit_f64<E: de::Error>(self, v: f64) -> Result<Value, E> {
        Ok(Value::Number(v.to_string()))
    }

    fn visit_str<E: de::Error>(self, v: &str) -> Result<Value, E> {
        Ok(Value::Text(v.to_owned()))
    }

    fn visit_seq<A: SeqAccess<'de>>(self, mut seq: A) -> Result<Value, A::Error> {
        let mut list = Vec::new();
        while let Some(node) = seq.next_element::<Node>()? {
            list.push(node);
        }
        Ok(Value::List(list))
    }

    fn visit_map<A: MapAccess<'de>>(self, mut map: A) -> Result<Value, A::Error> {
        let mut entries = Vec::new();
        while let Some((key, node)) = map.next_entry::<String, Node>()? {
            entries.push((key, node));
        }
        Ok(Value::Map(entries))
    }
}

/// Reads a text.
///
/// # Errors
/// Where reading stopped and why.
pub fn read(text: &str) -> Result<Node, YamlError> {
    if text.len() > MOST_BYTES {
        let sentence = format!("the text has {} bytes, the most is {MOST_BYTES}", text.len());
        return Err(YamlError { place: Place { line: 1, column: 1 }, sentence });
    }
    let options = serde_saphyr::options! {
        strict_booleans: true,
        with_snippet: false,
    };
    serde_saphyr::from_str_with_options::<Node>(text, options).map_err(|e| {
        let place = e
            .location()
            .map_or(Place { line: 1, column: 1 }, |l| Place { line: l.line(), column: l.column() });
        // The place stands before the sentence; the parser says it once more at the end.
        let whole = e.to_string();
        let sentence = whole.split(" at line ").next().unwrap_or(&whole).lines().next().unwrap_or_default();
        YamlError { place, sentence: crate::text::shown(sentence, 300) }
    })
}

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

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn places_are_told() {
        let tree = read("a:\n  b: [1, true, x]\n").unwrap();
        let list = tree.get("a").unwrap().get("b").unwrap();
        assert_eq!(list.place, Place { line: 2, column: 6 });
        let Value::List(items) = &list.value else { panic!("a list") };
        assert_eq!(items[2].place, Place { line: 2, column: 16 });
        assert_eq!((items[0].scalar(), items[1].value.clone()), (Some("1".into()), Value::Bool(true)));
    }

    #[test]
    fn mistakes_are_pointed_at() {
        let error = read("a: 1\na: 2\n").unwrap_err();
        assert_eq!(error.place.line, 2, "{error}");
        assert!(read("a: [1, 2").is_err());
        assert!(read(&"x".repeat(MOST_BYTES + 1)).is_err());
    }

    #[test]
    fn merge_keys_count() {
        let tree = read("base: &b {x: one}\nuse:\n  <<: *b\n  y: 2\n").unwrap();
        assert_eq!(tree.get("use").unwrap().get("x").unwrap().scalar().as_deref(), Some("one"));
    }

    proptest! {
        #[test]
        fn what_is_quoted_is_read_back(text in any::<String>()) {
            let tree = read(&format!("k: {}\n", quoted(&text))).unwrap();
            prop_assert_eq!(&tree.get("k").unwrap().value, &Value::Text(text));
        }
    }
}
