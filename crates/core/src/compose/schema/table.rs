//! The attributes as a page of the documentation: which are carried out, which change nothing here, which are refused.

use std::fmt::Write as _;

use serde::Serialize;

use super::{Effect, FILE, Record, Shape};

/// One attribute of the specification.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Attribute {
    /// Where it stands, with `*` for a name that the text chooses and `[]` for each entry of a list.
    pub path: String,
    /// What its value may be, in words.
    pub value: String,
    /// What comes of it.
    pub effect: Effect,
}

/// Every attribute, in the order of a file.
pub fn attributes() -> Vec<Attribute> {
    let mut all = Vec::new();
    record(&FILE, "", &mut all);
    all
}

fn record(of: &'static Record, path: &str, all: &mut Vec<Attribute>) {
    for field in of.fields {
        // `external` of older files has a name of its own; that form is told with the newer one.
        if of.what == "'external'" {
            continue;
        }
        let path = if path.is_empty() { field.name.to_owned() } else { format!("{path}.{}", field.name) };
        all.push(Attribute { path: path.clone(), value: words(&field.shape), effect: field.effect });
        if field.effect == Effect::CarriedOut {
            inner(&field.shape, &path, all);
        }
    }
}

fn inner(shape: &'static Shape, path: &str, all: &mut Vec<Attribute>) {
    match shape {
        Shape::Record(of) | Shape::Short(_, of) => record(of, path, all),
        Shape::Names(of) => record(of, &format!("{path}.*"), all),
        Shape::Map(of) => inner(of, &format!("{path}.*"), all),
        Shape::List(of) => inner(of, &format!("{path}[]"), all),
        Shape::Entries(entries) => record(entries.record, &format!("{path}[]"), all),
        _ => {}
    }
}

/// What a value may be, in words.
fn words(shape: &Shape) -> String {
    let words = match shape {
        Shape::Text => "a text",
        Shape::TextOrNumber => "a text or a number",
        Shape::Whole => "a whole number",
        Shape::Decimal => "a number",
        Shape::Truth => "'true' or 'false'",
        Shape::Bytes | Shape::Size => "a size, such as '64m'",
        Shape::Span => "a length of time, such as '1m30s'",
        Shape::Microseconds => "a length of time, or microseconds",
        Shape::FileMode => "rights of a file, such as '0440'",
        Shape::OneOf(words) => return format!("one of '{}'", words.join("', '")),
        Shape::Texts | Shape::TextsOrNumbers => "a list of texts",
        Shape::TextOrTexts => "a text or a list of texts",
        Shape::Command => "a command line, or a list of words",
        Shape::Pairs => "names with values: a mapping, or a list of 'NAME=value'",
        Shape::Names(_) => "a list of names, or a mapping with more about each",
        Shape::List(_) | Shape::Entries(_) => "a list",
        Shape::Short(..) => "a mapping, or its short form",
        Shape::Map(_) => "a mapping of names",
        Shape::Record(_) => "a mapping",
        Shape::Anything => "anything",
    };
    words.to_owned()
}

/// One attribute for programs: its place, what its value may be, what comes of it and why.
#[derive(Serialize)]
struct Listed {
    path: String,
    value: String,
    effect: &'static str,
    #[serde(skip_serializing_if = "Option::is_none")]
    why: Option<&'static str>,
}

/// All attributes as JSON, for the console's editor.
///
/// # Errors
/// Never in practice; a text is always JSON.
pub fn json() -> Result<String, serde_json::Error> {
    let listed = attributes().into_iter().map(|a| {
        let (effect, why) = match a.effect {
            Effect::CarriedOut => ("read", None),
            Effect::None(why) => ("none", Some(why)),
            Effect::Refused(why) => ("refused", Some(why)),
        };
        Listed { path: a.path, value: a.value, effect, why }
    });
    Ok(serde_json::to_string_pretty(&listed.collect::<Vec<_>>())? + "\n")
}

/// The page, in Markdown.
pub fn page() -> String {
    let mut page = String::from(
        "# What comes of each attribute of a Compose file\n\n\
         Written by `cargo run --bin compose-attributes`; a test holds it to the code. What is refused is refused with its line and with\n\
         what to do; what changes nothing is taken, and said whenever a file is read. `*` stands for a name that the file chooses, `[]` for\n\
         each entry of a list. Keys that begin with `x-` are yours, but for those that begin with `x-gubernum-`, which are ours.\n",
    );
    let all = attributes();
    let mut table = |title: &str, note: &str, has: &dyn Fn(&Effect) -> Option<&'static str>| {
        let _ = write!(page, "\n## {title}\n\n{note}\n\n| attribute | why |\n|---|---|\n");
        for attribute in &all {
            if let Some(why) = has(&attribute.effect) {
                let _ = writeln!(page, "| `{}` | {why} |", attribute.path);
            }
        }
    };
    table("Refused", "A file that has one of these is not deployed.", &|effect| match effect {
        Effect::Refused(why) => Some(why),
        _ => None,
    });
    table("Without effect", "These are taken and change nothing.", &|effect| match effect {
        Effect::None(why) => Some(why),
        _ => None,
    });
    let carried = all.iter().filter(|a| a.effect == Effect::CarriedOut);
    let _ = write!(page, "\n## Read\n\nThese count.\n\n");
    for attribute in carried {
        let _ = writeln!(page, "- `{}`", attribute.path);
    }
    page
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_page_of_the_documentation_is_this_one() {
        let kept = include_str!("../../../../../docs/compose-attributes.md");
        assert!(
            kept == page(),
            "docs/compose-attributes.md is old: run 'cargo run --bin compose-attributes'"
        );
    }

    #[test]
    fn what_the_editor_knows_is_this_too() {
        let kept = include_str!("../../../../../console/src/features/stacks/attributes.json");
        assert!(
            kept == json().unwrap(),
            "console/src/features/stacks/attributes.json is old: run 'cargo run --bin compose-attributes'"
        );
    }

    #[test]
    fn each_attribute_stands_there_once() {
        let all = attributes();
        let paths: std::collections::BTreeSet<&str> = all.iter().map(|a| a.path.as_str()).collect();
        assert_eq!(paths.len(), all.len());
        assert!(paths.contains("services.*.deploy.resources.limits.memory"), "{paths:?}");
        assert!(paths.contains("services.*.ports[].target"), "{paths:?}");
    }
}
