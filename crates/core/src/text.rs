//! Foreign text made safe to show: control characters become visible, long text is cut.

/// Replaces control characters (and bidirectional overrides) by visible marks and cuts the text
/// after `most` characters, ending in `…` when something was left out.
///
/// ```
/// use gubernum_core::text::shown;
/// assert_eq!(shown("frost-api", 20), "frost-api");
/// assert!(shown("a very long name", 6).ends_with('…'));
/// assert!(!shown("red \u{1b}[31m", 40).contains('\u{1b}'));
/// ```
pub fn shown(text: &str, most: usize) -> String {
    let mut out = String::with_capacity(text.len().min(most * 4));
    for (i, c) in text.chars().enumerate() {
        if i >= most {
            out.push('…');
            break;
        }
        match c {
            '\n' | '\r' | '\t' => out.push(' '),
            '\u{0}'..='\u{1f}' => out.push(char::from_u32(0x2400 + c as u32).unwrap_or('�')),
            '\u{7f}' => out.push('␡'),
            '\u{80}'..='\u{9f}' | '\u{202a}'..='\u{202e}' | '\u{2066}'..='\u{2069}' => out.push('�'),
            _ => out.push(c),
        }
    }
    out
}

/// Shortens full ids (64 hex digits) to their first twelve, as engines name objects in messages for programs.
///
/// ```
/// use gubernum_core::text::short_ids;
/// let id = "3f".repeat(32);
/// assert_eq!(short_ids(&format!("container {id} is paused")), "container 3f3f3f3f3f3f is paused");
/// assert_eq!(short_ids("port 9100 is in use"), "port 9100 is in use");
/// ```
pub fn short_ids(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    for part in text.split_inclusive(|c: char| !c.is_ascii_hexdigit()) {
        let digits = part.trim_end_matches(|c: char| !c.is_ascii_hexdigit());
        let short = if digits.len() == 64 { &digits[..12] } else { digits };
        out.push_str(short);
        out.push_str(&part[digits.len()..]);
    }
    out
}

/// Takes a line apart into words: blanks part them, quotes and `\` hold them together. `None` for an open
/// quote.
pub fn words(line: &str) -> Option<Vec<String>> {
    let (mut out, mut word, mut quote, mut begun) = (Vec::new(), String::new(), None, false);
    let mut chars = line.chars();
    while let Some(c) = chars.next() {
        match (quote, c) {
            (Some('\''), '\'') | (Some('"'), '"') => quote = None,
            (Some('"'), '\\') => match chars.next()? {
                escaped @ ('"' | '\\' | '$' | '`') => word.push(escaped),
                other => word.extend(['\\', other]),
            },
            (Some(_), c) => word.push(c),
            (None, '\'' | '"') => (quote, begun) = (Some(c), true),
            (None, '\\') => {
                word.push(chars.next()?);
                begun = true;
            }
            (None, c) if c.is_whitespace() => {
                if begun {
                    out.push(std::mem::take(&mut word));
                    begun = false;
                }
            }
            (None, c) => {
                word.push(c);
                begun = true;
            }
        }
    }
    if begun {
        out.push(word);
    }
    quote.is_none().then_some(out)
}

/// The one of the known words that a mistyped one most likely means; `None` when none is close.
///
/// ```
/// use gubernum_core::text::nearest;
/// assert_eq!(nearest("enviroment", &["environment", "entrypoint"]), Some("environment"));
/// assert_eq!(nearest("kitchen", &["environment", "entrypoint"]), None);
/// ```
pub fn nearest<'a>(word: &str, known: &[&'a str]) -> Option<&'a str> {
    let scored = known.iter().map(|k| (strsim::jaro_winkler(k, word), *k));
    let best = scored.max_by(|a, b| a.0.total_cmp(&b.0))?;
    (best.0 > 0.8).then_some(best.1)
}

#[cfg(test)]
mod tests {
    use super::shown;
    use proptest::prelude::*;

    #[test]
    fn cuts_and_marks() {
        assert_eq!(shown("abc", 2), "ab…");
        assert_eq!(shown("a\u{1b}[0m\nb", 20), "a␛[0m b");
        assert_eq!(shown("x\u{202e}y", 20), "x�y");
    }

    proptest! {
        #[test]
        fn never_a_control_character_and_never_too_long(text in any::<String>(), most in 0usize..64) {
            let out = shown(&text, most);
            prop_assert!(!out.chars().any(char::is_control));
            prop_assert!(out.chars().count() <= most + 1);
        }
    }
}
