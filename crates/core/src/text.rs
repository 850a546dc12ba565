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
