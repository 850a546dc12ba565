//! Env files: `.env` and those that `env_file` names, as the Compose Specification defines them (chapter "Env_file
//! format").
//!
//! Strict, other than what people paste into a field ([`crate::definition::variables`]): a file is written for several
//! programs, and a line that only one of them understands is reported instead of guessed at.

use std::collections::BTreeMap;

use super::template::{Template, Unset};
use crate::text::shown;
use crate::yaml::{MOST_VALUE_BYTES, Place, YamlError};

/// The longest file, in bytes.
pub const MOST_BYTES: usize = 1024 * 1024;
/// The most variables of a file.
pub const MOST_VARIABLES: usize = 10_000;

/// A line of a file.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FileVariable {
    /// Its name.
    pub name: String,
    /// Its value; `None` where only the name is there: its value is what surrounds the stack says.
    pub value: Option<String>,
    /// Where its name stands.
    pub place: Place,
}

/// Reads a file. `outer` gives the values of variables that are set before the file is read; they and what stands further up
/// may be used in values.
///
/// # Errors
/// Every line that cannot be read, with its place.
///
/// ```
/// use gubernum_core::compose::dotenv;
/// let all = dotenv::read("HOST=packhouse\nURL=\"http://$HOST:8080\" # inside\n", 0, &|_| None).unwrap();
/// assert_eq!(all[1].value.as_deref(), Some("http://packhouse:8080"));
/// ```
pub fn read(
    text: &str,
    file: u16,
    outer: &impl Fn(&str) -> Option<String>,
) -> Result<Vec<FileVariable>, Vec<YamlError>> {
    if text.len() > MOST_BYTES {
        let sentence = format!("the file has {} bytes; the limit is {MOST_BYTES}", text.len());
        return Err(vec![YamlError { place: Place { file, ..Place::START }, sentence }]);
    }
    let mut reader = Reader {
        text: text.trim_start_matches('\u{feff}'),
        at: 0,
        file,
        outer,
        known: BTreeMap::new(),
        all: Vec::new(),
        errors: Vec::new(),
        bytes: 0,
    };
    while !reader.rest().is_empty() {
        if let Err(error) = reader.line() {
            reader.errors.push(error);
            reader.skip_line();
        }
        if reader.all.len() > MOST_VARIABLES || reader.errors.len() >= crate::yaml::MOST_ERRORS {
            break;
        }
    }
    if reader.all.len() > MOST_VARIABLES {
        let sentence = format!("the file has more than {MOST_VARIABLES} variables");
        reader.errors.push(YamlError { place: reader.place(reader.at), sentence });
    }
    if reader.errors.is_empty() { Ok(reader.all) } else { Err(reader.errors) }
}

/// Reads a file whose lines are `NAME=value` as they stand: no quotes, no comments, no variables.
pub(super) fn read_raw(text: &str, file: u16) -> Vec<FileVariable> {
    let lines = text.trim_start_matches('\u{feff}').lines().enumerate();
    let variable = |(n, line): (usize, &str)| {
        let (name, value) = line.split_once('=').map_or((line, None), |(name, value)| (name, Some(value)));
        let place = Place { file, line: n as u64 + 1, column: 1 };
        let name = name.trim().to_owned();
        (!name.is_empty()).then(|| FileVariable { name, value: value.map(str::to_owned), place })
    };
    lines.filter_map(variable).take(MOST_VARIABLES).collect()
}

struct Reader<'a, F> {
    text: &'a str,
    at: usize,
    file: u16,
    outer: &'a F,
    known: BTreeMap<String, String>,
    all: Vec<FileVariable>,
    errors: Vec<YamlError>,
    /// Bytes of all values so far.
    bytes: usize,
}

impl<'a, F: Fn(&str) -> Option<String>> Reader<'a, F> {
    fn rest(&self) -> &'a str {
        &self.text[self.at..]
    }

    fn place(&self, offset: usize) -> Place {
        let before = &self.text[..offset];
        let line = before.matches('\n').count() as u64 + 1;
        let column = before.rsplit('\n').next().unwrap_or_default().chars().count() as u64 + 1;
        Place { file: self.file, line, column }
    }

    fn wrong(&self, offset: usize, sentence: impl Into<String>) -> YamlError {
        YamlError { place: self.place(offset), sentence: sentence.into() }
    }

    fn skip_line(&mut self) {
        self.at += self.rest().find('\n').map_or(self.rest().len(), |n| n + 1);
    }

    fn skip_blanks(&mut self) {
        self.at += self.rest().len() - self.rest().trim_start_matches([' ', '\t']).len();
    }

    fn line(&mut self) -> Result<(), YamlError> {
        self.skip_blanks();
        if self.rest().starts_with(['\n', '\r', '#']) || self.rest().is_empty() {
            self.skip_line();
            return Ok(());
        }
        if let Some(after) = self.rest().strip_prefix("export").filter(|r| r.starts_with([' ', '\t'])) {
            self.at = self.text.len() - after.len();
            self.skip_blanks();
        }
        let begin = self.at;
        let line = self.rest().lines().next().unwrap_or_default();
        let end = line.find(['=', ':']).unwrap_or(line.find(" #").unwrap_or(line.len()));
        let name = line[..end].trim_end();
        if !is_name(name) {
            let sentence = format!(
                "'{}' is not a variable name; write 'NAME=value', and start comments with '#'",
                shown(name, 60)
            );
            return Err(self.wrong(begin, sentence));
        }
        self.at += end;
        let value = if self.rest().starts_with(['=', ':']) {
            self.at += 1;
            self.skip_blanks();
            Some(self.value(name)?)
        } else {
            None
        };
        self.end_of_line(name)?;
        if let Some(value) = &value {
            self.known.insert(name.to_owned(), value.clone());
        }
        self.all.push(FileVariable { name: name.to_owned(), value, place: self.place(begin) });
        Ok(())
    }

    /// Only a comment may appear behind a value.
    fn end_of_line(&mut self, name: &str) -> Result<(), YamlError> {
        self.skip_blanks();
        if self.rest().is_empty() || self.rest().starts_with(['\n', '\r', '#']) {
            self.skip_line();
            return Ok(());
        }
        let sentence = format!(
            "text after the closing quote of '{}'; move all of the value into the quotes",
            shown(name, 60)
        );
        Err(self.wrong(self.at, sentence))
    }

    fn value(&mut self, name: &str) -> Result<String, YamlError> {
        let begin = self.at;
        match self.rest().chars().next() {
            Some('\'') => self.quoted('\'', name),
            Some('"') => {
                let inside = self.quoted('"', name)?;
                self.filled(&inside, begin)
            }
            _ => {
                let line = self.rest().lines().next().unwrap_or_default();
                let end = [" #", "\t#"].iter().filter_map(|c| line.find(c)).min().unwrap_or(line.len());
                let value = if line.starts_with('#') { "" } else { line[..end].trim_end() };
                self.at += if line.starts_with('#') { 0 } else { end };
                self.filled(value, begin)
            }
        }
    }

    /// A value in quotes, which may go over several lines. In double quotes `\n`, `\r`, `\t` are what they are in a shell; in
    /// both the quote itself and the backslash may appear behind a backslash.
    fn quoted(&mut self, quote: char, name: &str) -> Result<String, YamlError> {
        let begin = self.at;
        let mut out = String::new();
        let mut rest = self.rest().char_indices().skip(1);
        while let Some((n, c)) = rest.next() {
            if c == quote {
                self.at += n + 1;
                return Ok(out);
            }
            if c != '\\' {
                out.push(c);
                continue;
            }
            match rest.next() {
                Some((_, e)) if e == quote => out.push(e),
                Some((_, 'n')) if quote == '"' => out.push('\n'),
                Some((_, 'r')) if quote == '"' => out.push('\r'),
                Some((_, 't')) if quote == '"' => out.push('\t'),
                Some((_, '\\')) if quote == '"' => out.push('\\'),
                // A dollar sign that begins no variable.
                Some((_, '$')) if quote == '"' => out.push_str("$$"),
                Some((_, other)) => out.extend(['\\', other]),
                None => {}
            }
        }
        Err(self.wrong(begin, format!("the quote of '{}' is not closed", shown(name, 60))))
    }

    fn filled(&mut self, text: &str, offset: usize) -> Result<String, YamlError> {
        let template = Template::read(text).map_err(|e| self.wrong(offset, e.sentence))?;
        let lookup = |name: &str| (self.outer)(name).or_else(|| self.known.get(name).cloned());
        let filled = template.fill(Unset::Empty, &lookup).map_err(|e| self.wrong(offset, e.to_string()))?;
        self.bytes = self.bytes.saturating_add(filled.len());
        if self.bytes > MOST_VALUE_BYTES {
            let sentence =
                format!("the values of the file exceed {MOST_VALUE_BYTES} bytes after substitution");
            return Err(self.wrong(offset, sentence));
        }
        Ok(filled)
    }
}

fn is_name(name: &str) -> bool {
    let mut all = name.chars();
    all.next().is_some_and(|c| c.is_ascii_alphabetic() || c == '_')
        && all.all(|c| c.is_ascii_alphanumeric() || matches!(c, '_' | '.' | '-'))
}

#[cfg(test)]
#[path = "dotenv_tests.rs"]
mod tests;
