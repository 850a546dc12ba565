//! Checks a Compose file against the specification's attributes and converts it to its long form, in which each
//! attribute is written in one way.
//!
//! All errors are gathered with their places. What an attribute may be is in [`super::schema`]; short forms are taken
//! apart by [`super::short`].

use super::load::MOST_VALUES;
use super::schema::{Effect, Record, Shape};
use crate::definition::MOST_ENTRIES;
use crate::definition::units::{bytes, millis};
use crate::text::{nearest, shown, words};
use crate::yaml::{Key, MOST_ERRORS, MergeTag, Node, Place, Value, YamlError};

/// The most names of one mapping that the text chooses.
const MOST_KEYS: usize = 5000;
/// How keys begin that are ours.
const OWN_KEYS: &str = "x-gubernum-";

/// An attribute that is taken and changes nothing.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct WithoutEffect {
    /// Where it is.
    pub place: Place,
    /// Where in the text's order: `services.frost-api.attach`.
    pub attribute: String,
    /// Why it changes nothing here.
    pub why: &'static str,
}

/// What checking found.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Findings {
    /// Errors.
    pub errors: Vec<YamlError>,
    /// What is taken and changes nothing.
    pub without_effect: Vec<WithoutEffect>,
    /// Entries of lists so far.
    entries: usize,
}

impl Findings {
    /// Adds an error.
    pub(super) fn tell(&mut self, error: YamlError) {
        if self.errors.len() < MOST_ERRORS {
            self.errors.push(error);
        }
    }

    /// The long form of a value of this shape. `path` names it for what is reported. Where there is an error the value stays as
    /// it is: the errors say so.
    pub fn canonical(&mut self, node: Node, shape: &Shape, path: &str) -> Node {
        // What is reset is nothing, whatever is there.
        if node.tag == Some(MergeTag::Reset) {
            return Node { value: Value::Null, ..node };
        }
        let tag = node.tag;
        let long = match shape {
            Shape::Texts => self.texts(node, path, false, false),
            Shape::TextsOrNumbers => self.texts(node, path, false, true),
            Shape::TextOrTexts => self.texts(node, path, true, false),
            Shape::Command => self.command(node, path),
            Shape::Pairs => self.pairs(node, path),
            Shape::Names(record) => self.names(node, record, path),
            Shape::List(inner) => self.list(node, path, |this, item| {
                let path = format!("{path}[]");
                vec![this.canonical(item, inner, &path)]
            }),
            Shape::Entries(entries) => self.list(node, path, |this, item| match (entries.long)(&item) {
                Ok(long) => {
                    let path = format!("{path}[]");
                    long.into_iter().map(|entry| this.record(entry, entries.record, &path)).collect()
                }
                Err(error) => {
                    this.tell(error);
                    Vec::new()
                }
            }),
            Shape::Short(long, record) => match node.value {
                Value::Null => node,
                _ => match long(&node) {
                    Ok(long) => self.record(long, record, path),
                    Err(error) => {
                        self.tell(error);
                        node
                    }
                },
            },
            Shape::Map(inner) => self.map(node, inner, path),
            Shape::Record(record) => self.record(node, record, path),
            Shape::Anything => node,
            _ => {
                self.scalar(&node, shape, path);
                node
            }
        };
        Node { tag, ..long }
    }

    fn is_not(&mut self, node: &Node, path: &str, what: &str) {
        self.tell(node.wrong(format!("'{}' must be {what}, not {}", last(path), node.kind())));
    }

    fn scalar(&mut self, node: &Node, shape: &Shape, path: &str) {
        if node.value == Value::Null {
            return;
        }
        let is_text = matches!(node.value, Value::Text(_));
        let (is, what): (fn(&str) -> bool, &str) = match shape {
            Shape::Whole => (is_whole, "a whole number"),
            Shape::Decimal => (|t| t.trim().parse::<f64>().is_ok_and(f64::is_finite), "a number"),
            Shape::Truth => (|t| truth(t).is_some(), "'true' or 'false'"),
            Shape::Bytes | Shape::Size => {
                (|t| t.trim() == "-1" || bytes(t).is_some(), "a size such as '512m' or '2g'")
            }
            Shape::Span => (|t| millis(t).is_some(), "a duration such as '30s' or '1m30s'"),
            Shape::Microseconds => {
                (|t| micros(t).is_some(), "a number of microseconds, or a duration such as '50ms'")
            }
            Shape::FileMode => (|t| mode(t).is_some(), "a file mode such as '0440'"),
            Shape::OneOf(words) => {
                let Value::Text(text) = &node.value else { return self.is_not(node, path, "a string") };
                if !words.contains(&text.as_str()) {
                    let sentence = format!(
                        "'{}' must be one of {}, not '{}'",
                        last(path),
                        words.join(", "),
                        shown(text, 60)
                    );
                    self.tell(node.wrong(sentence));
                }
                return;
            }
            Shape::TextOrNumber if is_text || matches!(node.value, Value::Number(_)) => return,
            _ if is_text => return,
            _ => return self.tell(unquoted(node, last(path))),
        };
        match node.scalar() {
            None => self.is_not(node, path, what),
            Some(text) if !is(&text) => {
                let sentence = format!("'{}' must be {what}, not '{}'", last(path), shown(&text, 60));
                self.tell(node.wrong(sentence));
            }
            // The specification has them as texts: a number alone says nothing of its unit.
            Some(text) if matches!(shape, Shape::Span | Shape::Size) && !is_text => {
                let sentence = format!("'{}' must be {what}; '{}' has no unit", last(path), shown(&text, 60));
                self.tell(node.wrong(sentence));
            }
            Some(_) => {}
        }
    }

    fn list(&mut self, node: Node, path: &str, mut long: impl FnMut(&mut Self, Node) -> Vec<Node>) -> Node {
        let items = match node.value {
            Value::List(items) => items,
            Value::Null => Vec::new(),
            // `env_file: FILE` and the like: one entry stands for a list of one.
            _ if matches!(last(path), "env_file" | "gpus") => {
                vec![Node::new(node.value.clone(), node.place)]
            }
            _ => {
                self.is_not(&node, path, "a list");
                return node;
            }
        };
        let mut all = Vec::with_capacity(items.len());
        for item in items {
            let place = item.place;
            let more = long(self, item);
            // A range of ports is many entries.
            self.entries = self.entries.saturating_add(more.len());
            all.extend(more);
            if all.len() > MOST_ENTRIES {
                self.tell(too_many(place, path));
                break;
            }
            if self.entries > MOST_VALUES {
                let sentence =
                    format!("the lists of all services have more than {MOST_VALUES} entries in total");
                self.tell(YamlError { place, sentence });
                break;
            }
        }
        Node { value: Value::List(all), ..node }
    }

    fn texts(&mut self, node: Node, path: &str, takes_one: bool, takes_numbers: bool) -> Node {
        let items = match node.value {
            Value::List(items) => items,
            Value::Null => Vec::new(),
            Value::Text(_) if takes_one => vec![Node::new(node.value.clone(), node.place)],
            _ => {
                self.is_not(&node, path, if takes_one { "a string or a list" } else { "a list" });
                return node;
            }
        };
        if let Some(first) = items.get(MOST_ENTRIES) {
            self.tell(too_many(first.place, path));
            return Node { value: Value::List(Vec::new()), ..node };
        }
        for item in &items {
            match item.value {
                Value::Text(_) => {}
                Value::Number(_) if takes_numbers => {}
                _ => self.tell(unquoted(item, last(path))),
            }
        }
        Node { value: Value::List(items), ..node }
    }

    /// Words stay a list; a line is taken apart as a shell does. Nothing stays nothing: it clears what the image says.
    fn command(&mut self, node: Node, path: &str) -> Node {
        match &node.value {
            Value::Null => node,
            Value::List(_) => self.texts(node, path, false, false),
            Value::Text(line) => {
                let line = line.clone();
                // The command of a health check is not taken apart: a shell in the container does it.
                let is_test = last(path) == "test";
                let words = if is_test { Some(vec!["CMD-SHELL".to_owned(), line]) } else { words(&line) };
                let Some(words) = words else {
                    self.tell(node.wrong(format!("'{}' has a quote that is not closed", last(path))));
                    return node;
                };
                let words = words.into_iter().map(|w| Node::new(Value::Text(w), node.place)).collect();
                Node { value: Value::List(words), ..node }
            }
            _ => {
                self.is_not(&node, path, "a string or a list of strings");
                node
            }
        }
    }

    /// A mapping whose values are texts or nothing.
    fn pairs(&mut self, node: Node, path: &str) -> Node {
        let mut entries: Vec<(Key, Node)> = Vec::new();
        let many = match &node.value {
            Value::Map(all) => all.get(MOST_KEYS).map(|(key, _)| key.place),
            Value::List(all) => all.get(MOST_KEYS).map(|item| item.place),
            _ => None,
        };
        if let Some(place) = many {
            let sentence = format!("'{}' has more than {MOST_KEYS} names", last(path));
            self.tell(YamlError { place, sentence });
            return Node { value: Value::Map(Vec::new()), ..node };
        }
        let of_hosts = last(path) == "extra_hosts";
        let separators: &[char] = if of_hosts { &['=', ':'] } else { &['='] };
        let mut put = |key: Key, value: Node| match entries.iter_mut().find(|(k, _)| *k == key) {
            // A name that is on several lines has all of their addresses.
            Some((_, known)) if of_hosts => also(known, value),
            Some(entry) => *entry = (key, value),
            None => entries.push((key, value)),
        };
        match node.value {
            Value::Null => {}
            Value::Map(all) => {
                for (key, value) in all {
                    // Several addresses of one name.
                    let is_list = of_hosts && matches!(value.value, Value::List(_));
                    if value.value != Value::Null && value.scalar().is_none() && !is_list {
                        let sentence = format!("'{key}' must be a string here, not {}", value.kind());
                        self.tell(value.wrong(sentence));
                    }
                    put(key, value);
                }
            }
            Value::List(all) => {
                for item in all {
                    let Value::Text(text) = &item.value else {
                        let sentence = format!(
                            "'{}' must be a mapping or a list of 'NAME=value', not {}",
                            last(path),
                            item.kind()
                        );
                        self.tell(item.wrong(sentence));
                        continue;
                    };
                    let text = text.clone();
                    let (name, value) = match text.split_once(separators) {
                        Some((name, value)) => (name.trim_end(), Value::Text(value.to_owned())),
                        None => (&text[..], Value::Null),
                    };
                    put(Key { text: name.to_owned(), place: item.place }, Node { value, ..item });
                }
            }
            _ => {
                self.is_not(&node, path, "a mapping or a list of 'NAME=value'");
                return node;
            }
        }
        Node { value: Value::Map(entries), ..node }
    }

    fn names(&mut self, node: Node, record: &'static Record, path: &str) -> Node {
        let node = match node.value {
            Value::List(items) => {
                let mut entries: Vec<(Key, Node)> = Vec::new();
                for item in items {
                    match item.scalar() {
                        Some(name) => {
                            let key = Key { text: name.into_owned(), place: item.place };
                            if !entries.iter().any(|(k, _)| *k == key) {
                                entries.push((key, Node { value: Value::Null, ..item }));
                            }
                        }
                        None => self.tell(item.wrong(format!(
                            "'{}' must be a list of names or a mapping, not {}",
                            last(path),
                            item.kind()
                        ))),
                    }
                }
                Node { value: Value::Map(entries), ..node }
            }
            _ => node,
        };
        self.map(node, &Shape::Record(record), path)
    }

    fn map(&mut self, node: Node, inner: &Shape, path: &str) -> Node {
        match node.value {
            Value::Null => Node { value: Value::Map(Vec::new()), ..node },
            Value::Map(entries) if entries.len() > MOST_KEYS => {
                let sentence = format!("'{}' has more than {MOST_KEYS} names", last(path));
                self.tell(entries[MOST_KEYS].0.wrong(sentence));
                Node { value: Value::Map(Vec::new()), ..node }
            }
            Value::Map(entries) => {
                let long = |(key, value): (Key, Node)| {
                    let value = self.canonical(value, inner, &format!("{path}.{key}"));
                    (key, value)
                };
                Node { value: Value::Map(entries.into_iter().map(long).collect()), ..node }
            }
            _ => {
                self.is_not(&node, path, "a mapping");
                node
            }
        }
    }

    fn record(&mut self, node: Node, record: &'static Record, path: &str) -> Node {
        let entries = match node.value {
            Value::Null => return Node { value: Value::Map(Vec::new()), ..node },
            Value::Map(entries) => entries,
            _ => {
                let sentence = format!("{} must be a mapping, not {}", record.what, node.kind());
                self.tell(node.wrong(sentence));
                return node;
            }
        };
        let mut long = Vec::with_capacity(entries.len());
        for (key, value) in entries {
            // Our own keys are known like those of the specification.
            if key.starts_with("x-") && !key.starts_with(OWN_KEYS) {
                long.push((key, value));
                continue;
            }
            let Some(field) = record.field(&key) else {
                self.unknown(&key, record);
                continue;
            };
            let inner = if path.is_empty() { key.text.clone() } else { format!("{path}.{key}") };
            match field.effect {
                Effect::Supported => {}
                Effect::None(why) => {
                    if self.without_effect.len() < MOST_ERRORS {
                        self.without_effect.push(WithoutEffect {
                            place: key.place,
                            attribute: inner.clone(),
                            why,
                        });
                    }
                }
                Effect::Refused(why) => {
                    self.tell(key.wrong(format!("'{key}' is not supported: {why}; remove it")));
                    continue;
                }
            }
            let value = self.canonical(value, &field.shape, &inner);
            long.push((key, value));
        }
        Node { value: Value::Map(long), ..node }
    }

    fn unknown(&mut self, key: &Key, record: &Record) {
        let known: Vec<&str> = record.fields.iter().map(|f| f.name).collect();
        let sentence = match nearest(key, &known) {
            Some(near) => format!("{} has no '{}'; did you mean '{near}'?", record.what, shown(key, 60)),
            None => format!("{} has no '{}'; names of your own start with 'x-'", record.what, shown(key, 60)),
        };
        self.tell(key.wrong(sentence));
    }
}

fn too_many(place: Place, path: &str) -> YamlError {
    YamlError { place, sentence: format!("'{}' has more than {MOST_ENTRIES} entries", last(path)) }
}

/// What is said of a value that the specification has as a text.
fn unquoted(node: &Node, name: &str) -> YamlError {
    match node.scalar() {
        Some(text) => node.wrong(format!(
            "'{name}' must be a string, not {}; quote it: \"{}\"",
            node.kind(),
            shown(&text, 60)
        )),
        None => node.wrong(format!("'{name}' must be a string, not {}", node.kind())),
    }
}

/// Adds an address to those that a name has, each once.
fn also(known: &mut Node, value: Node) {
    if known.value == value.value {
        return;
    }
    if let Value::List(items) = &mut known.value {
        if !items.iter().any(|item| item.value == value.value) {
            items.push(value);
        }
    } else {
        let first = known.clone();
        known.value = Value::List(vec![first, value]);
    }
}

/// The last name of a path.
fn last(path: &str) -> &str {
    path.trim_end_matches("[]").rsplit('.').next().unwrap_or(path)
}

/// True or false as YAML 1.2 and, in texts that variables gave, older files have it.
pub(super) fn truth(text: &str) -> Option<bool> {
    match text.trim().to_ascii_lowercase().as_str() {
        "true" | "yes" | "on" | "y" | "1" => Some(true),
        "false" | "no" | "off" | "n" | "0" => Some(false),
        _ => None,
    }
}

/// Rights of a file: octal, with or without `0` or `0o` before.
pub(super) fn mode(text: &str) -> Option<u32> {
    let digits = text.trim().trim_start_matches("0o");
    let mode = u32::from_str_radix(digits, 8).ok()?;
    (mode <= 0o7777).then_some(mode)
}

/// A whole number, also as the other bases of YAML have it.
pub(super) fn whole(text: &str) -> Option<i64> {
    let text = text.trim();
    let based = |digits: &str, radix| i64::from_str_radix(digits, radix).ok();
    match (text.strip_prefix("0x"), text.strip_prefix("0o")) {
        (Some(digits), _) => based(digits, 16),
        (_, Some(digits)) => based(digits, 8),
        _ => text.parse().ok(),
    }
}

fn is_whole(text: &str) -> bool {
    whole(text).is_some()
}

/// Microseconds of a number alone, or of a duration; `-1` where there is no limit.
pub(super) fn micros(text: &str) -> Option<i64> {
    let text = text.trim();
    if text == "-1" {
        return Some(-1);
    }
    if let Ok(number) = text.parse::<f64>() {
        return (0.0..9e15).contains(&number).then_some(number.round() as i64);
    }
    let factor = text.strip_suffix("us").and_then(|n| n.parse::<f64>().ok());
    match factor {
        Some(number) => (0.0..9e15).contains(&number).then_some(number.round() as i64),
        None => i64::try_from(millis(text)?.checked_mul(1000)?).ok(),
    }
}

#[cfg(test)]
#[path = "canonical_tests.rs"]
mod tests;
