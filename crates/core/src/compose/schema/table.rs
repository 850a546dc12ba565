//! The attributes as a page of the documentation: which are carried out, which change nothing here, which are refused.

use std::fmt::Write as _;

use super::{Effect, FILE, Record, Shape};

/// One attribute of the specification.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Attribute {
    /// Where it stands, with `*` for a name that the text chooses and `[]` for each entry of a list.
    pub path: String,
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
        if of.what == "`external`" {
            continue;
        }
        let path = if path.is_empty() { field.name.to_owned() } else { format!("{path}.{}", field.name) };
        all.push(Attribute { path: path.clone(), effect: field.effect });
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
            "docs/compose-attributes.md is old: run `cargo run --bin compose-attributes`"
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
