//! Prints every sentence that a person can read, from the sources, with sample values: refusals, reasons, previews,
//! outcomes.
//!
//! A colleague reads them from top to bottom before a release. Whether one is reached is for the tests; whether a phrase came
//! back is for `phrases.rs`.

use std::collections::BTreeSet;
use std::fs;
use std::io;
use std::path::{Path, PathBuf};

use crate::run::say;

const PARTS: &[&str] = &["core", "server", "api", "engine", "store", "client", "cli"];
/// Texts with these are for a database, not for people.
const QUERIES: &[&str] = &["SELECT ", "INSERT ", "UPDATE ", "DELETE FROM", "CREATE ", "ALTER ", "PRAGMA"];

/// What stands for a value, by a part of the name of what is filled in; the first that fits.
const SAMPLES: &[(&str, &str)] = &[
    ("host", "packhouse"),
    ("stack", "frostwatch"),
    ("service", "api"),
    ("image", "frostwatch/api:3.4.1"),
    ("volume", "frostwatch_readings"),
    ("network", "frostwatch_default"),
    ("registry", "registry.tarnvalley.example"),
    ("address", "192.0.2.7"),
    ("port", "9100"),
    ("member", "jory"),
    ("role", "operator"),
    ("second", "30"),
    ("byte", "2.0 GiB"),
    ("size", "2.0 GiB"),
    ("limit", "2.0 GiB"),
    ("code", "2"),
    ("path", "/data/readings"),
    ("error", "connection refused"),
    ("source", "connection refused"),
    ("why", "connection refused"),
    ("count", "3"),
    ("number", "3"),
    ("len()", "3"),
    ("most", "100"),
    ("MOST", "100"),
    ("LONGEST", "100"),
    ("name", "frost-api"),
];

/// Writes the sentences of these parts of the sources, each with its file.
///
/// # Errors
/// When a source cannot be read.
pub(crate) fn print(root: &Path, parts: &[String]) -> io::Result<()> {
    let parts: Vec<&str> =
        if parts.is_empty() { PARTS.to_vec() } else { parts.iter().map(String::as_str).collect() };
    for part in parts {
        let mut files = Vec::new();
        sources(&root.join("crates").join(part).join("src"), &mut files)?;
        files.sort();
        for path in files {
            let found = sentences(&fs::read_to_string(&path)?);
            if !found.is_empty() {
                say(&format!("\n{}", path.strip_prefix(root).unwrap_or(&path).display()));
                found.iter().for_each(|sentence| say(&format!("  {sentence}")));
            }
        }
    }
    Ok(())
}

fn sources(folder: &Path, into: &mut Vec<PathBuf>) -> io::Result<()> {
    for entry in fs::read_dir(folder)? {
        let path = entry?.path();
        let name = path.file_name().unwrap_or_default().to_string_lossy().into_owned();
        if path.is_dir() {
            sources(&path, into)?;
        } else if name.ends_with(".rs") && !name.ends_with("tests.rs") {
            into.push(path);
        }
    }
    Ok(())
}

/// The texts of a source that read like sentences, each once, in order.
fn sentences(source: &str) -> Vec<String> {
    let source = source.split("#[cfg(test)]").next().unwrap_or_default();
    let code: String =
        source.lines().filter(|l| !l.trim_start().starts_with("//")).map(|l| format!("{l}\n")).collect();
    let mut seen = BTreeSet::new();
    texts(&code)
        .into_iter()
        .filter(|text| text.split_whitespace().count() >= 3 && !QUERIES.iter().any(|q| text.contains(q)))
        .filter(|text| seen.insert(text.clone()))
        .map(|text| filled(&text))
        .collect()
}

/// What is between quotation marks in code.
fn texts(code: &str) -> Vec<String> {
    let (mut all, mut text, mut is_open) = (Vec::new(), String::new(), false);
    let mut chars = code.chars().peekable();
    let mut before = ' ';
    while let Some(c) = chars.next() {
        match c {
            '\\' if is_open => match chars.next() {
                // A line that goes on: neither its end nor what is before the next word is part of the text.
                Some('\n') => while chars.next_if(|c| c.is_whitespace()).is_some() {},
                Some('n') => text.push(' '),
                Some(escaped) => text.push(escaped),
                None => {}
            },
            // A quotation mark as a character, '"', opens nothing.
            '"' if !is_open && before == '\'' && chars.peek() == Some(&'\'') => {}
            '"' => {
                if is_open {
                    all.push(std::mem::take(&mut text));
                }
                is_open = !is_open;
            }
            c if is_open => text.push(c),
            _ => {}
        }
        before = c;
    }
    all
}

/// A text with sample values where values are filled in; doubled braces stand for themselves.
fn filled(text: &str) -> String {
    let mut out = String::new();
    let mut chars = text.chars().peekable();
    while let Some(c) = chars.next() {
        match c {
            '{' | '}' if chars.next_if_eq(&c).is_some() => out.push(c),
            '{' => {
                let value: String = chars.by_ref().take_while(|c| *c != '}').collect();
                let name = value.split(':').next().unwrap_or_default();
                let sample = SAMPLES.iter().find(|(part, _)| name.contains(part));
                out.push_str(sample.map_or("frost-api", |(_, sample)| sample));
            }
            c => out.push(c),
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn sentences_are_printed_with_sample_values_and_code_is_not() {
        let source = r#"
//! "not this comment either"
fn f() { let query = "SELECT a FROM b c"; let mark = '"';
    let text = format!("port {port} on '{}' is in use; \
                        wait {seconds:.1} s", x);
    let word = "one word";
}
#[cfg(test)]
mod tests { const A: &str = "this is of a test"; }
"#;
        assert_eq!(sentences(source), ["port 9100 on 'frost-api' is in use; wait 30 s"]);
    }

    #[test]
    fn braces_that_are_meant_stay() {
        assert_eq!(filled("write {{\"a\": {count}}}"), "write {\"a\": 3}");
    }
}
