//! The wording check: phrases that must not come back, wherever a person reads: sources, comments, documentation.
//!
//! The list is `xtask/phrases.txt`. Reads text, nothing else; it cannot tell good prose from bad, only what was mended once.

use std::fs;
use std::io;
use std::path::{Path, PathBuf};

const LIST: &str = include_str!("../phrases.txt");
/// Where people read, from the project's root.
const PLACES: &[&str] = &["crates", "console/src", "docs", "xtask/src", "README.md"];
const KINDS: &[&str] = &["rs", "svelte", "ts", "css", "md", "toml", "html"];
/// Made of other files, which are looked at themselves.
const GENERATED: &[&str] = &["console/src/lib/schema.d.ts"];

/// A phrase that must not come back, and what to say instead.
#[derive(Debug, Clone, Copy)]
struct Phrase<'a> {
    not: &'a str,
    but: &'a str,
}

fn list(text: &str) -> Vec<Phrase<'_>> {
    let lines = text.lines().filter(|line| !line.starts_with('#'));
    lines.filter_map(|line| line.split_once(" | ")).map(|(not, but)| Phrase { not, but }).collect()
}

/// A text as it is read: one line, without what marks comments, and where each of its lines begins.
fn as_read(text: &str) -> (String, Vec<usize>) {
    let (mut flat, mut starts) = (String::with_capacity(text.len()), Vec::new());
    for line in text.lines() {
        starts.push(flat.len());
        let line = line.trim_start().trim_start_matches(['/', '!', '#', '*', '>', '-']).trim();
        // Small letters may be longer than capitals; the starts are those of what is searched.
        flat.push_str(&line.to_lowercase());
        flat.push(' ');
    }
    (flat, starts)
}

/// The places of a text that say one of the phrases: the line's number, and the phrase.
fn places<'a>(text: &str, phrases: &[Phrase<'a>]) -> Vec<(usize, Phrase<'a>)> {
    let (flat, starts) = as_read(text);
    let is_part = |c: char| c.is_alphanumeric();
    let mut found = Vec::new();
    for phrase in phrases {
        for (at, _) in flat.match_indices(phrase.not) {
            let before = flat[..at].chars().next_back();
            let after = flat[at + phrase.not.len()..].chars().next();
            if !before.is_some_and(is_part) && !after.is_some_and(is_part) {
                found.push((starts.partition_point(|start| *start <= at), *phrase));
            }
        }
    }
    found.sort_by_key(|(line, _)| *line);
    found
}

fn files(path: &Path, into: &mut Vec<PathBuf>) -> io::Result<()> {
    if path.is_dir() {
        for entry in fs::read_dir(path)? {
            files(&entry?.path(), into)?;
        }
    } else if path.extension().and_then(|e| e.to_str()).is_some_and(|e| KINDS.contains(&e)) {
        into.push(path.to_owned());
    }
    Ok(())
}

/// One sentence for each place that says what must not come back.
///
/// # Errors
/// When a file cannot be read.
pub(crate) fn faults(root: &Path) -> io::Result<Vec<String>> {
    let phrases = list(LIST);
    let mut all = Vec::new();
    for place in PLACES {
        files(&root.join(place), &mut all)?;
    }
    all.sort();
    let mut found = Vec::new();
    for path in all {
        let shown = path.strip_prefix(root).unwrap_or(&path).display().to_string();
        if GENERATED.contains(&shown.as_str()) || shown == "xtask/src/phrases.rs" {
            continue;
        }
        let text = fs::read_to_string(&path)?;
        found.extend(
            places(&text, &phrases)
                .iter()
                .map(|(line, phrase)| format!("{shown}:{line}: '{}'; say: {}", phrase.not, phrase.but)),
        );
    }
    Ok(found)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_planted_phrase_is_found_with_its_line() {
        let text =
            "//! Fine.\n/// The container is taken\n/// away when it ends.\nlet text = \"Put it Away\";\n";
        let found: Vec<(usize, &str)> =
            places(text, &list(LIST)).iter().map(|(line, phrase)| (*line, phrase.not)).collect();
        assert_eq!(found, [(2, "taken away"), (4, "put it away")]);
    }

    #[test]
    fn a_phrase_within_other_words_is_not_one() {
        let phrases = [Phrase { not: "way out", but: "" }];
        assert!(places("a highway outside", &phrases).is_empty());
        assert_eq!(places("no way out.", &phrases).len(), 1);
    }

    #[test]
    fn every_line_of_the_list_is_a_phrase_with_what_to_say() {
        let lines = LIST.lines().filter(|line| !line.starts_with('#')).count();
        let phrases = list(LIST);
        assert_eq!(phrases.len(), lines);
        assert!(phrases.iter().all(|p| p.not == p.not.to_lowercase() && !p.but.is_empty()));
    }
}
