//! The level of a log line, read from the shapes in which programs commonly write it.
//!
//! JSON (`"level":"warn"`, `"severity":"ERROR"`, numbers as some libraries write them), logfmt
//! (`level=error`), and plain text with the word near its beginning (`[WARN]`, `ERROR:`, `E1123 …`). A
//! line that says nothing has no level: guessing from words such as "failed" would be wrong too often.

use serde::{Deserialize, Serialize};

/// Log level.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "lowercase")]
#[derive(strum::IntoStaticStr)]
#[strum(serialize_all = "lowercase")]
pub enum Level {
    /// The finest detail.
    Trace,
    /// For who looks for a fault.
    Debug,
    /// Everyday business.
    Info,
    /// Something may go wrong.
    Warning,
    /// Something went wrong.
    Error,
    /// The program cannot go on.
    Fatal,
}

impl Level {
    /// The word of the API.
    pub fn word(self) -> &'static str {
        self.into()
    }

    /// Reads any of the words that programs use.
    pub fn from_word(word: &str) -> Option<Self> {
        let mut lower = [0u8; 12];
        let bytes = word.as_bytes();
        let lower = lower.get_mut(..bytes.len())?;
        for (to, from) in lower.iter_mut().zip(bytes) {
            *to = from.to_ascii_lowercase();
        }
        Some(match &*lower {
            b"trace" | b"trc" | b"finest" | b"verbose" => Self::Trace,
            b"debug" | b"dbg" | b"debg" | b"fine" => Self::Debug,
            b"info" | b"inf" | b"information" | b"notice" | b"log" => Self::Info,
            b"warn" | b"warning" | b"wrn" => Self::Warning,
            b"error" | b"err" | b"eror" | b"severe" => Self::Error,
            b"fatal" | b"panic" | b"critical" | b"crit" | b"alert" | b"emerg" | b"emergency" | b"ftl" => {
                Self::Fatal
            }
            _ => return None,
        })
    }

    fn from_number(number: u32) -> Option<Self> {
        Some(match number {
            10 => Self::Trace,
            20 => Self::Debug,
            30 => Self::Info,
            40 => Self::Warning,
            50 => Self::Error,
            60 => Self::Fatal,
            _ => return None,
        })
    }
}

/// Names of the field that holds the level.
const FIELDS: [&[u8]; 4] = [b"level", b"severity", b"lvl", b"loglevel"];
/// A level is near the beginning of a line or not at all.
const NEAR: usize = 400;
/// In plain text it is nearer.
const NEARER: usize = 64;

/// The level of a line, if it tells one.
///
/// ```
/// use gubernum_core::logs::level::{Level, level};
/// assert_eq!(level(br#"{"level":"error","msg":"no lot"}"#), Some(Level::Error));
/// assert_eq!(level(b"level=warn lot=4711"), Some(Level::Warning));
/// assert_eq!(level(b"lot 4711 taken"), None);
/// ```
pub fn level(line: &[u8]) -> Option<Level> {
    let start = &line[..line.len().min(NEAR)];
    let trimmed = start.trim_ascii_start();
    if trimmed.first() == Some(&b'{') {
        return FIELDS.iter().find_map(|field| json_field(trimmed, field));
    }
    FIELDS
        .iter()
        .find_map(|field| logfmt_field(start, field))
        .or_else(|| plain(&start[..start.len().min(NEARER)]))
}

fn positions<'a>(text: &'a [u8], needle: &'a [u8]) -> impl Iterator<Item = usize> + 'a {
    memchr::memmem::find_iter(text, needle)
}

fn json_field(text: &[u8], field: &[u8]) -> Option<Level> {
    positions(text, field).find_map(|at| {
        let quoted = at > 0 && text[at - 1] == b'"' && text.get(at + field.len()) == Some(&b'"');
        if !quoted {
            return None;
        }
        let rest = text[at + field.len() + 1..].trim_ascii_start().strip_prefix(b":")?.trim_ascii_start();
        match rest.strip_prefix(b"\"") {
            Some(word) => {
                let end = memchr::memchr(b'"', word)?;
                Level::from_word(std::str::from_utf8(&word[..end]).ok()?)
            }
            None => {
                let digits: Vec<u8> = rest.iter().copied().take(3).take_while(u8::is_ascii_digit).collect();
                Level::from_number(std::str::from_utf8(&digits).ok()?.parse().ok()?)
            }
        }
    })
}

fn logfmt_field(text: &[u8], field: &[u8]) -> Option<Level> {
    positions(text, field).find_map(|at| {
        if at > 0 && !matches!(text[at - 1], b' ' | b'\t' | b',' | b'[') {
            return None;
        }
        let rest = text[at + field.len()..].strip_prefix(b"=")?;
        let rest = rest.strip_prefix(b"\"").unwrap_or(rest);
        let end = rest.iter().position(|b| !b.is_ascii_alphabetic()).unwrap_or(rest.len());
        Level::from_word(std::str::from_utf8(&rest[..end]).ok()?)
    })
}

fn plain(text: &[u8]) -> Option<Level> {
    if let Some(level) = letter_and_date(text) {
        return Some(level);
    }
    let mut at = 0;
    while at < text.len() {
        // A colour's own letter is not part of a word.
        if text[at..].starts_with(b"\x1b[") {
            at += 2 + text[at + 2..].iter().position(u8::is_ascii_alphabetic)? + 1;
            continue;
        }
        let ahead = text[at..].iter().position(|&b| b == 0x1b || b.is_ascii_alphabetic())?;
        if text[at + ahead] == 0x1b && ahead > 0 {
            at += ahead;
            continue;
        }
        let from = at + text[at..].iter().position(u8::is_ascii_alphabetic)?;
        let end =
            from + text[from..].iter().position(|b| !b.is_ascii_alphabetic()).unwrap_or(text.len() - from);
        let word = &text[from..end];
        let after = text.get(end);
        // The word alone, not a part of one and not a path or a name with digits.
        let alone = (from == 0
            || matches!(text[from - 1], b' ' | b'\t' | b'[' | b'(' | b'<' | b'|' | b':' | b'm'))
            && after.is_none_or(|b| matches!(b, b' ' | b'\t' | b']' | b')' | b'>' | b'|' | b':' | b'\x1b'));
        // In the middle of a line only what is written as a mark counts: capitals, or in brackets.
        let marked = word.iter().all(u8::is_ascii_uppercase)
            || (from > 0 && matches!(text[from - 1], b'[' | b'<' | b'('))
            || (from == 0 && after == Some(&b':'));
        if alone && marked && word.len() > 2 {
            // Some databases write LOG for everyday business.
            if let Some(level) = std::str::from_utf8(word).ok().and_then(Level::from_word) {
                return Some(level);
            }
        }
        at = end;
    }
    None
}

/// `E1123 05:30:00.1 …`: a letter and the month and day.
fn letter_and_date(text: &[u8]) -> Option<Level> {
    let (&letter, rest) = text.split_first()?;
    let date = rest.get(..4)?.iter().all(u8::is_ascii_digit) && rest.get(4) == Some(&b' ');
    match letter {
        b'I' if date => Some(Level::Info),
        b'W' if date => Some(Level::Warning),
        b'E' if date => Some(Level::Error),
        b'F' if date => Some(Level::Fatal),
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    #[rstest]
    #[case(r#"{"level":"warn","room":3}"#, Some(Level::Warning))]
    #[case(r#"{"time":"x","severity": "ERROR"}"#, Some(Level::Error))]
    #[case(r#"{"level":30,"msg":"a"}"#, Some(Level::Info))]
    #[case(r#"{"msg":"level is fine"}"#, None)]
    #[case(r#"level=error msg="no""#, Some(Level::Error))]
    #[case(r#"ts=1 lvl="dbug" level=info"#, Some(Level::Info))]
    #[case("INFO line 1 tray 4", Some(Level::Info))]
    #[case("2026-11-23 05:30:00 [warn] late", Some(Level::Warning))]
    #[case("2026-11-23T05:30:00Z ERROR frost: no", Some(Level::Error))]
    #[case("error: cannot open", Some(Level::Error))]
    #[case("LOG:  flushed 12 pages", Some(Level::Info))]
    #[case("FATAL:  password", Some(Level::Fatal))]
    #[case("E1123 05:30:00.123 no", Some(Level::Error))]
    #[case("\u{1b}[31mERROR\u{1b}[0m no", Some(Level::Error))]
    #[case("there was no error in the orchard", None)]
    #[case("GET /errors 200", None)]
    #[case("INFORMAL talk", None)]
    #[case("", None)]
    fn shapes(#[case] line: &str, #[case] expected: Option<Level>) {
        assert_eq!(level(line.as_bytes()), expected);
    }

    proptest! {
        #[test]
        fn any_bytes_are_taken(bytes in proptest::collection::vec(any::<u8>(), 0..600)) {
            let _ = level(&bytes);
        }
    }
}
