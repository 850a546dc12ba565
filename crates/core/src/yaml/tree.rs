//! The tree: values with their places, and reading them from the parser's events.
//!
//! Made from events and not through serde: that keeps numbers as they are written (`0440`, `1.20`), the places of keys, and
//! the tags that say how files are merged. What a plain scalar means is in [`super::scalars`].

use std::borrow::Cow;
use std::collections::HashMap;
use std::fmt;
use std::ops::Deref;

use saphyr_parser::{Event, Marker, Parser, ScalarStyle, ScanError, StrInput};

use super::scalars;

/// The longest text that is read, in bytes.
pub const MOST_BYTES: usize = 1024 * 1024;
/// The most values of a text, with those that its aliases repeat.
pub const MOST_NODES: usize = 100_000;
/// The most bytes of all values together, with those that aliases repeat.
pub const MOST_VALUE_BYTES: usize = 16 * 1024 * 1024;
/// How deep values may appear in each other.
pub const DEEPEST: usize = 64;
/// The most errors that are told of one text.
pub const MOST_ERRORS: usize = 50;

/// A place in a text; line and column from 1.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, PartialOrd, Ord, Hash)]
pub struct Place {
    /// Which of several texts, as their reader numbered them; 0 where there is one.
    pub file: u16,
    /// The line.
    pub line: u64,
    /// The column.
    pub column: u64,
}

impl Place {
    /// Where a text begins.
    pub const START: Self = Self { file: 0, line: 1, column: 1 };

    fn of(marker: &Marker, file: u16) -> Self {
        Self { file, line: marker.line() as u64, column: marker.col() as u64 + 1 }
    }
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

/// Everything that a text cannot be read for, in the order of its places; at least one.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct YamlErrors(pub Vec<YamlError>);

impl YamlErrors {
    /// The first one.
    pub fn first(&self) -> Option<&YamlError> {
        self.0.first()
    }
}

impl fmt::Display for YamlErrors {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        for (n, error) in self.0.iter().enumerate() {
            write!(f, "{}{error}", if n == 0 { "" } else { "; " })?;
        }
        Ok(())
    }
}

impl std::error::Error for YamlErrors {}

/// A key of a mapping and where it is.
#[derive(Debug, Clone)]
pub struct Key {
    /// The key.
    pub text: String,
    /// Where it begins.
    pub place: Place,
}

impl Key {
    /// What it says.
    pub fn as_str(&self) -> &str {
        &self.text
    }

    /// An error at this place.
    pub fn wrong(&self, sentence: impl Into<String>) -> YamlError {
        YamlError { place: self.place, sentence: sentence.into() }
    }
}

impl Deref for Key {
    type Target = str;

    fn deref(&self) -> &str {
        &self.text
    }
}

impl PartialEq for Key {
    /// By what they say, wherever they stand.
    fn eq(&self, other: &Self) -> bool {
        self.text == other.text
    }
}

impl fmt::Display for Key {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.text)
    }
}

/// A value.
#[derive(Debug, Clone, PartialEq)]
pub enum Value {
    /// Nothing.
    Null,
    /// True or false.
    Bool(bool),
    /// A number as it is written, e.g. `0440`, `1.20` or `0x1f`.
    Number(String),
    /// A text.
    Text(String),
    /// A list.
    List(Vec<Node>),
    /// Keys with values, in their order; each key once.
    Map(Vec<(Key, Node)>),
}

/// How a value takes the place of another one when files are merged (Compose Specification, "Merge").
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum MergeTag {
    /// `!reset`: nothing is there any more.
    Reset,
    /// `!override`: this alone, nothing of what was there.
    Override,
}

/// A value and where it is.
#[derive(Debug, Clone)]
pub struct Node {
    /// The value.
    pub value: Value,
    /// Where it begins.
    pub place: Place,
    /// What its tag says about merging.
    pub tag: Option<MergeTag>,
}

impl PartialEq for Node {
    /// By what they say, wherever they stand.
    fn eq(&self, other: &Self) -> bool {
        self.value == other.value && self.tag == other.tag
    }
}

impl Node {
    /// A value at a place.
    pub fn new(value: Value, place: Place) -> Self {
        Self { value, place, tag: None }
    }

    /// An error at this place.
    pub fn wrong(&self, sentence: impl Into<String>) -> YamlError {
        YamlError { place: self.place, sentence: sentence.into() }
    }

    /// The value of a key.
    pub fn get(&self, key: &str) -> Option<&Self> {
        self.entries().iter().find(|(k, _)| **k == *key).map(|(_, n)| n)
    }

    /// The keys and values of a mapping; none of anything else.
    pub fn entries(&self) -> &[(Key, Self)] {
        match &self.value {
            Value::Map(entries) => entries,
            _ => &[],
        }
    }

    /// How many values it is, with those in it.
    pub fn count(&self) -> usize {
        match &self.value {
            Value::List(items) => items.iter().map(Self::count).sum::<usize>() + 1,
            Value::Map(entries) => entries.iter().map(|(_, node)| node.count()).sum::<usize>() + 1,
            _ => 1,
        }
    }

    /// What kind of value it is, in words.
    pub fn kind(&self) -> &'static str {
        match self.value {
            Value::Null => "nothing",
            Value::Bool(_) => "true or false",
            Value::Number(_) => "a number",
            Value::Text(_) => "a string",
            Value::List(_) => "a list",
            Value::Map(_) => "a mapping",
        }
    }

    /// A text, a number or a truth value as a text.
    pub fn scalar(&self) -> Option<Cow<'_, str>> {
        match &self.value {
            Value::Text(t) | Value::Number(t) => Some(Cow::Borrowed(t)),
            Value::Bool(b) => Some(Cow::Borrowed(if *b { "true" } else { "false" })),
            _ => None,
        }
    }
}

/// Reads a text.
///
/// # Errors
/// The first error.
pub fn read(text: &str) -> Result<Node, YamlError> {
    read_numbered(text, 0).map_err(|mut errors| errors.swap_remove(0))
}

/// Reads a text whose places carry this number.
///
/// # Errors
/// Every error that could be found, at least one and at most [`MOST_ERRORS`], in the order of their places.
pub fn read_numbered(text: &str, file: u16) -> Result<Node, Vec<YamlError>> {
    let start = Place { file, ..Place::START };
    if text.len() > MOST_BYTES {
        let sentence = format!("the text has {} bytes; the limit is {MOST_BYTES}", text.len());
        return Err(vec![YamlError { place: start, sentence }]);
    }
    let text = text.trim_start_matches('\u{feff}');
    let mut builder = Builder {
        parser: Parser::new_from_str(text),
        text,
        file,
        end: end_of(text, file),
        nodes: 0,
        bytes: 0,
        anchors: HashMap::new(),
        errors: Vec::new(),
    };
    let tree = builder.document();
    let mut errors = builder.errors;
    match tree {
        Ok(tree) if errors.is_empty() => return Ok(tree),
        Ok(_) => {}
        Err(error) => errors.push(error),
    }
    errors.sort_by_key(|e| e.place);
    errors.truncate(MOST_ERRORS);
    Err(errors)
}

/// Where a text ends; a bare carriage return ends a line too.
fn end_of(text: &str, file: u16) -> Place {
    let ended = text.replace("\r\n", "\n");
    let (mut line, mut last) = (0, "");
    for text in ended.split(['\n', '\r']) {
        (line, last) = (line + 1, text);
    }
    Place { file, line, column: last.chars().count() as u64 + 1 }
}

/// A part of the text that has a name, with what it counts for each time it is repeated.
struct Anchored {
    node: Node,
    nodes: usize,
    bytes: usize,
}

struct Builder<'a> {
    parser: Parser<'a, StrInput<'a>>,
    text: &'a str,
    file: u16,
    /// Where the text ends.
    end: Place,
    nodes: usize,
    bytes: usize,
    anchors: HashMap<usize, Anchored>,
    /// Errors after which the rest can still be read.
    errors: Vec<YamlError>,
}

type Found<'a> = (Event<'a>, Place);

impl<'a> Builder<'a> {
    fn next(&mut self) -> Result<Found<'a>, YamlError> {
        match self.parser.next_event() {
            Some(Ok((event, span))) => Ok((event, self.inside(&span.start))),
            Some(Err(error)) => Err(self.told(&error)),
            None => Ok((Event::StreamEnd, Place { file: self.file, ..Place::START })),
        }
    }

    /// A place inside of the text: the parser puts what is missing at the end onto a line that is not there.
    fn inside(&self, marker: &Marker) -> Place {
        let place = Place::of(marker, self.file);
        if place.line > self.end.line { self.end } else { place }
    }

    /// The parser's error, and what it most often comes from.
    fn told(&self, error: &ScanError) -> YamlError {
        let place = self.inside(error.marker());
        let line = |number: u64| self.text.lines().nth(usize::try_from(number).ok()?.checked_sub(1)?);
        let begins_with_tab = |number: u64| {
            line(number).is_some_and(|l| l.trim_start_matches(' ').starts_with('\t') && !l.trim().is_empty())
        };
        let tab = [place.line, place.line.saturating_sub(1), place.line + 1]
            .into_iter()
            .find(|n| begins_with_tab(*n));
        if let Some(number) = tab {
            let column = line(number).map_or(1, |l| l.find('\t').unwrap_or(0) as u64 + 1);
            let sentence = "this line is indented with a tab; use spaces".to_owned();
            return YamlError { place: Place { line: number, column, ..place }, sentence };
        }
        let sentence = crate::text::shown(error.info(), 300);
        YamlError { place, sentence: format!("invalid YAML: {sentence}") }
    }

    /// What is said of a text that ends inside of brackets, at the place where they open.
    fn unclosed(&self, place: Place, error: YamlError) -> YamlError {
        let at = |place: Place| {
            let line = self.text.lines().nth(usize::try_from(place.line).ok()?.checked_sub(1)?)?;
            let column = usize::try_from(place.column).ok()?.checked_sub(1)?;
            Some(line.chars().skip(column).collect::<String>())
        };
        let ends_there = at(error.place).is_none_or(|rest| rest.trim().is_empty())
            && self
                .text
                .lines()
                .skip(usize::try_from(error.place.line).unwrap_or(0))
                .all(|l| l.trim().is_empty());
        let (open, close) = match at(place).and_then(|rest| rest.chars().next()) {
            Some('[') if ends_there => ('[', ']'),
            Some('{') if ends_there => ('{', '}'),
            _ => return error,
        };
        YamlError { place, sentence: format!("invalid YAML: '{open}' is not closed; add '{close}'") }
    }

    /// The one document of the text.
    fn document(&mut self) -> Result<Node, YamlError> {
        let mut tree = None;
        loop {
            let (event, place) = self.next()?;
            match event {
                Event::StreamEnd => break,
                Event::StreamStart | Event::DocumentStart(_) | Event::DocumentEnd | Event::Nothing => {}
                _ if tree.is_some() => {
                    let sentence = "a second document starts here; move it to its own file".to_owned();
                    return Err(YamlError { place, sentence });
                }
                event => tree = Some(self.node((event, place), 0)?),
            }
        }
        Ok(tree.unwrap_or_else(|| Node::new(Value::Null, Place { file: self.file, ..Place::START })))
    }

    fn count(&mut self, place: Place, nodes: usize, bytes: usize) -> Result<(), YamlError> {
        self.nodes += nodes;
        self.bytes += bytes;
        let wrong = |sentence: String| Err(YamlError { place, sentence });
        if self.nodes > MOST_NODES {
            return wrong(format!("the text has more than {MOST_NODES} values, aliases included"));
        }
        if self.bytes > MOST_VALUE_BYTES {
            return wrong(format!(
                "the values of the text exceed {MOST_VALUE_BYTES} bytes, aliases included"
            ));
        }
        Ok(())
    }

    fn node(&mut self, (event, place): Found<'a>, depth: usize) -> Result<Node, YamlError> {
        if depth > DEEPEST {
            let sentence = format!("values are nested more than {DEEPEST} deep");
            return Err(YamlError { place, sentence });
        }
        let before = (self.nodes, self.bytes);
        let (node, anchor) = match event {
            Event::Alias(id) => return self.repeated(id, place),
            Event::Scalar(text, style, anchor, tag) => {
                self.count(place, 1, text.len())?;
                let (value, tag) = scalars::value(text, style == ScalarStyle::Plain, tag.as_deref())
                    .map_err(|sentence| YamlError { place, sentence })?;
                (Node { value, place, tag }, anchor)
            }
            Event::SequenceStart(anchor, tag) => {
                self.count(place, 1, 0)?;
                let mut items = Vec::new();
                loop {
                    match self.next().map_err(|e| self.unclosed(place, e))? {
                        (Event::SequenceEnd, _) => break,
                        found => items.push(self.node(found, depth + 1)?),
                    }
                }
                let tag = scalars::merge_tag(tag.as_deref(), "seq")
                    .map_err(|sentence| YamlError { place, sentence })?;
                (Node { value: Value::List(items), place, tag }, anchor)
            }
            Event::MappingStart(anchor, tag) => {
                self.count(place, 1, 0)?;
                let entries = self.entries(place, depth)?;
                let tag = scalars::merge_tag(tag.as_deref(), "map")
                    .map_err(|sentence| YamlError { place, sentence })?;
                (Node { value: Value::Map(entries), place, tag }, anchor)
            }
            _ => {
                return Err(YamlError { place, sentence: "invalid YAML: a value is missing".to_owned() });
            }
        };
        if anchor > 0 {
            let (nodes, bytes) = (self.nodes - before.0, self.bytes - before.1);
            self.anchors.insert(anchor, Anchored { node: node.clone(), nodes, bytes });
        }
        Ok(node)
    }

    /// What an alias stands for. It keeps the places of what it repeats: an error in there is mended there.
    fn repeated(&mut self, id: usize, place: Place) -> Result<Node, YamlError> {
        let Some(anchored) = self.anchors.get(&id) else {
            let sentence = "this alias refers to a value that contains it".to_owned();
            return Err(YamlError { place, sentence });
        };
        let (nodes, bytes) = (anchored.nodes, anchored.bytes);
        self.count(place, nodes, bytes)?;
        Ok(self.anchors[&id].node.clone())
    }

    /// The rest of a mapping, merge keys put in.
    fn entries(&mut self, begin: Place, depth: usize) -> Result<Vec<(Key, Node)>, YamlError> {
        let mut entries: Vec<(Key, Node)> = Vec::new();
        let mut places: HashMap<String, Place> = HashMap::new();
        let mut merged: Vec<Node> = Vec::new();
        loop {
            let (text, place, is_merge) = match self.next().map_err(|e| self.unclosed(begin, e))? {
                (Event::MappingEnd, _) => break,
                (Event::Scalar(text, style, _, _), place) => {
                    let is_merge = style == ScalarStyle::Plain && text == "<<";
                    (text.into_owned(), place, is_merge)
                }
                (Event::Alias(id), place) => match self.repeated(id, place)?.scalar() {
                    Some(text) => (text.into_owned(), place, false),
                    None => return Err(no_key(place)),
                },
                (_, place) => return Err(no_key(place)),
            };
            self.count(place, 0, text.len())?;
            let found = self.next().map_err(|e| self.unclosed(begin, e))?;
            let node = self.node(found, depth + 1)?;
            if is_merge {
                merged.push(node);
                continue;
            }
            if let Some(first) = places.get(&text) {
                let sentence = format!(
                    "duplicate key '{}', first on line {}",
                    crate::text::shown(&text, 80),
                    first.line
                );
                if self.errors.len() < MOST_ERRORS {
                    self.errors.push(YamlError { place, sentence });
                }
                continue;
            }
            places.insert(text.clone(), place);
            entries.push((Key { text, place }, node));
        }
        for node in merged {
            self.merge(&mut entries, &mut places, node)?;
        }
        Ok(entries)
    }

    /// Puts what a merge key brings behind a mapping's own keys, which count more.
    fn merge(
        &mut self,
        entries: &mut Vec<(Key, Node)>,
        places: &mut HashMap<String, Place>,
        node: Node,
    ) -> Result<(), YamlError> {
        match node.value {
            Value::Map(all) => {
                for (key, node) in all {
                    if !places.contains_key(&key.text) {
                        places.insert(key.text.clone(), key.place);
                        entries.push((key, node));
                    }
                }
                Ok(())
            }
            Value::List(all) if all.iter().all(|n| matches!(n.value, Value::Map(_))) => {
                all.into_iter().try_for_each(|node| self.merge(entries, places, node))
            }
            _ => {
                Err(node.wrong(format!("'<<' must be a mapping or a list of mappings, not {}", node.kind())))
            }
        }
    }
}

fn no_key(place: Place) -> YamlError {
    YamlError { place, sentence: "a key must be a string or a number".to_owned() }
}

#[cfg(test)]
#[path = "tree_tests.rs"]
mod tests;
