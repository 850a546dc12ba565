//! The schema of Compose files: every attribute of the specification, its type, how it is merged, and whether it is
//! supported.
//!
//! One table for all uses: checking a text and bringing it into its long form ([`super::canonical`]), merging files
//! ([`super::merge`]), and the page of the documentation that says what is carried out. Not here: what a checked text means
//! ([`super::model`]).

mod deploy;
mod parts;
mod resources;
mod service;
pub mod table;

use super::short;
use crate::yaml::{Node, YamlError};

pub use resources::FILE;
pub use service::SERVICE;

/// What comes of an attribute here.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Effect {
    /// It is carried out.
    Supported,
    /// It is taken and changes nothing, for this reason.
    None(&'static str),
    /// A text that has it is refused, for this reason.
    Refused(&'static str),
}

/// What a value may be.
#[derive(Clone, Copy)]
pub enum Shape {
    /// A text.
    Text,
    /// A text; a number is taken as it is written.
    TextOrNumber,
    /// A whole number.
    Whole,
    /// A number.
    Decimal,
    /// True or false.
    Truth,
    /// Bytes: a number, or with a unit as `64m`.
    Bytes,
    /// Bytes with a unit, as `64m`.
    Size,
    /// A duration, as `1m30s`.
    Span,
    /// A duration, or a number of microseconds.
    Microseconds,
    /// Rights of a file, octal as `0440`.
    FileMode,
    /// One of these words.
    OneOf(&'static [&'static str]),
    /// A list of texts. Of two files, both lists; a text that is in both is there once.
    Texts,
    /// The same, where numbers may appear among the texts.
    TextsOrNumbers,
    /// A text or a list of texts; as [`Shape::Texts`] in its long form.
    TextOrTexts,
    /// A command line or a list of words. Of two files, the later one.
    Command,
    /// Names with texts: a mapping, or a list of `NAME=value`.
    Pairs,
    /// Names, each with more about it: a mapping, or a list of names.
    Names(&'static Record),
    /// A list of values of one kind. Of two files, both lists.
    List(&'static Shape),
    /// A list of records that may be written short. Of two files, both lists; of two entries with one key, one that has the
    /// fields of both.
    Entries(&'static Entries),
    /// A record that may be written short.
    Short(fn(&Node) -> Result<Node, YamlError>, &'static Record),
    /// Keys that the text chooses, with values of one kind.
    Map(&'static Shape),
    /// Fields that are known.
    Record(&'static Record),
    /// Whatever is there.
    Anything,
}

/// A list of records that may be written short.
pub struct Entries {
    /// What is written short, in its long form: one entry or, as ranges of ports are, several.
    pub long: fn(&Node) -> Result<Vec<Node>, YamlError>,
    /// The long form.
    pub record: &'static Record,
    /// What makes two entries of two files the same one.
    pub key: fn(&Node) -> String,
}

/// A record.
pub struct Record {
    /// What it is, in words: `a service`.
    pub what: &'static str,
    /// Its fields.
    pub fields: &'static [Field],
}

impl Record {
    /// A field by name.
    pub fn field(&self, name: &str) -> Option<&'static Field> {
        self.fields.iter().find(|f| f.name == name)
    }
}

/// A field of a record.
pub struct Field {
    /// Its name.
    pub name: &'static str,
    /// What its value may be.
    pub shape: Shape,
    /// What comes of it.
    pub effect: Effect,
}

/// A field that is carried out.
const fn field(name: &'static str, shape: Shape) -> Field {
    Field { name, shape, effect: Effect::Supported }
}

/// A field that changes nothing here.
const fn without_effect(name: &'static str, shape: Shape, why: &'static str) -> Field {
    Field { name, shape, effect: Effect::None(why) }
}

/// A field that is refused.
const fn refused(name: &'static str, why: &'static str) -> Field {
    Field { name, shape: Shape::Anything, effect: Effect::Refused(why) }
}

/// For attributes of containers of another system.
const WINDOWS: &str = "it is for Windows containers";
