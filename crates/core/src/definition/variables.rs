//! Pasted environment variables: from files, shells, Compose files and mails. What is clear is taken; anything else
//! is reported with its line, and nothing is dropped in silence. Whole Compose files are read in `compose`.
//!
//! What is clear is taken, what is not is told with its line; nothing is dropped in silence. Reading whole Compose text
//! is in `compose`.

use std::collections::BTreeMap;

use super::EnvironmentEntry;
use crate::text::shown;

/// The most lines over which one quoted value may go.
const MOST_LINES: usize = 200;

/// A line that could not be taken.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LeftLine {
    /// Its number, from 1.
    pub line: usize,
    /// Why, and what to write instead.
    pub sentence: String,
    /// The line counts all the same; this is only to know.
    pub counts: bool,
}

/// What the lines say.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct ReadVariables {
    /// The variables, in order; of one that is set twice the last value.
    pub variables: Vec<EnvironmentEntry>,
    /// What was dropped, or only partly used.
    pub left: Vec<LeftLine>,
}

/// Reads lines of the forms `A=b`, `export A=b`, `A: b`, `- A=b`, with or without quotes, comments and empty lines.
///
/// ```
/// use gubernum_core::definition::variables::read;
/// let found = read("export LANG=en_GB\n- \"TZ=Europe/London\"\nWORKERS: 4\n");
/// let all: Vec<_> = found.variables.iter().map(|v| format!("{}={}", v.name, v.value)).collect();
/// assert_eq!(all, ["LANG=en_GB", "TZ=Europe/London", "WORKERS=4"]);
/// assert!(found.left.is_empty());
/// ```
pub fn read(text: &str) -> ReadVariables {
    let lines: Vec<&str> = text.trim_start_matches('\u{feff}').lines().collect();
    let mut found = ReadVariables::default();
    let mut seen: BTreeMap<String, usize> = BTreeMap::new();
    let mut n = 0;
    while n < lines.len() {
        let at = n + 1;
        let (line, more) = joined(&lines[n..]);
        n += more;
        match one(&line) {
            Ok(None) => {}
            Ok(Some((name, value))) => {
                let entry = EnvironmentEntry { name: name.clone(), value, hidden: false };
                match seen.get(&name) {
                    Some(k) => {
                        let sentence = format!("duplicate '{}'; this value is used", shown(&name, 80));
                        found.left.push(LeftLine { line: at, sentence, counts: true });
                        found.variables[*k] = entry;
                    }
                    None => {
                        seen.insert(name, found.variables.len());
                        found.variables.push(entry);
                    }
                }
            }
            Err(sentence) => found.left.push(LeftLine { line: at, sentence, counts: false }),
        }
    }
    found
}

/// A line with those after it that belong to its quoted value, and how many lines these are.
fn joined(lines: &[&str]) -> (String, usize) {
    let first = lines[0].to_owned();
    if !first.trim_start().starts_with('#') && open_quote(&first) {
        let mut whole = first.clone();
        for (k, line) in lines.iter().enumerate().skip(1).take(MOST_LINES) {
            whole.push('\n');
            whole.push_str(line);
            if !open_quote(&whole) {
                return (whole, k + 1);
            }
        }
    }
    (first, 1)
}

/// Whether a quoted value begins after the name and does not end.
fn open_quote(text: &str) -> bool {
    let plain = bare(text);
    let Some(at) = plain.find(['=', ':']) else { return false };
    let value = plain[at + 1..].trim_start();
    matches!(value.chars().next(), Some(q @ ('"' | '\'')) if closing(value, q).is_none())
}

/// Without what is in front of the name: list dashes, `export` and the like.
fn bare(text: &str) -> &str {
    let mut rest = text.trim();
    if let Some(item) = rest.strip_prefix('-').filter(|r| r.starts_with([' ', '\t', '"', '\''])) {
        rest = item.trim_start();
    }
    for word in ["export", "declare -x", "ENV"] {
        if let Some(after) = rest.strip_prefix(word).filter(|r| r.starts_with([' ', '\t'])) {
            rest = after.trim_start();
        }
    }
    rest
}

/// The place of the quote that closes the value, which begins with one.
fn closing(value: &str, quote: char) -> Option<usize> {
    let mut escaped = false;
    value.char_indices().skip(1).find_map(|(at, c)| {
        let closes = c == quote && !escaped;
        escaped = quote == '"' && c == '\\' && !escaped;
        closes.then_some(at)
    })
}

fn one(line: &str) -> Result<Option<(String, String)>, String> {
    let mut text = bare(line);
    if text.is_empty() || text.starts_with('#') || text == "environment:" {
        return Ok(None);
    }
    // A whole item of a list may appear in quotes.
    let whole;
    if let Some(quote @ ('"' | '\'')) = text.chars().next()
        && let Some(end) = closing(text, quote)
        && is_rest(&text[end + 1..])
    {
        whole = unquoted(&text[1..end], quote);
        text = &whole;
        return match text.split_once('=') {
            Some((name, value)) if is_name(name) => Ok(Some((name.to_owned(), value.to_owned()))),
            _ => Err(bad(line)),
        };
    }
    let cut = text.find(['=', ':']);
    let name = cut.map_or(text, |at| &text[..at]).trim();
    let name = name.trim_matches(['"', '\'']);
    if !is_name(name) {
        return Err(bad(line));
    }
    let (Some(at), yaml) = (cut, cut.is_some_and(|at| text[at..].starts_with(':'))) else {
        return Err(no_value(name));
    };
    let after = &text[at + 1..];
    if yaml && !after.is_empty() && !after.starts_with([' ', '\t']) {
        return Err(bad(line));
    }
    let value = after.trim();
    if let Some(quote @ ('"' | '\'')) = value.chars().next() {
        return match closing(value, quote) {
            Some(end) if is_rest(&value[end + 1..]) => {
                Ok(Some((name.to_owned(), unquoted(&value[1..end], quote))))
            }
            Some(_) => Err(format!("text after the closing quote of '{name}'; quote the whole value")),
            None => Err(format!("the quote of '{name}' is not closed")),
        };
    }
    // A comment ends a value only after a space, as the Compose Specification has it for such files.
    let value = match value.find(" #").or_else(|| value.find("\t#")) {
        Some(at) => value[..at].trim_end(),
        None if value.starts_with('#') => "",
        None => value,
    };
    if yaml && matches!(value, "" | "null" | "~") {
        return Err(no_value(name));
    }
    Ok(Some((name.to_owned(), value.to_owned())))
}

fn is_rest(text: &str) -> bool {
    let text = text.trim();
    text.is_empty() || text.starts_with('#')
}

fn is_name(name: &str) -> bool {
    let mut all = name.chars();
    all.next().is_some_and(|c| c.is_ascii_alphabetic() || c == '_')
        && all.all(|c| c.is_ascii_alphanumeric() || matches!(c, '_' | '.' | '-'))
}

fn unquoted(inside: &str, quote: char) -> String {
    if quote == '\'' {
        return inside.to_owned();
    }
    let mut out = String::with_capacity(inside.len());
    let mut all = inside.chars();
    while let Some(c) = all.next() {
        match (c, if c == '\\' { all.next() } else { None }) {
            ('\\', Some('n')) => out.push('\n'),
            ('\\', Some('r')) => out.push('\r'),
            ('\\', Some('t')) => out.push('\t'),
            ('\\', Some(c @ ('"' | '\\' | '$'))) => out.push(c),
            ('\\', Some(other)) => out.extend(['\\', other]),
            _ => out.push(c),
        }
    }
    out
}

fn no_value(name: &str) -> String {
    format!("'{name}' has no value here; write '{name}=value', or '{name}=' for an empty one")
}

fn bad(line: &str) -> String {
    format!("'{}' is not a variable with a value; write 'NAME=value'", shown(line.trim(), 60))
}

#[cfg(test)]
#[path = "variables_tests.rs"]
mod tests;
