//! Log filters: patterns that must or must not match, and a minimum level.
//!
//! Patterns are regular expressions of an engine whose time grows with the text only, so that no pattern
//! can run for ever; how much memory one may take is limited.

use memchr::{memchr, memchr_iter, memrchr};
use regex::bytes::{Regex, RegexBuilder, RegexSet, RegexSetBuilder};

use super::LogLine;
use super::index::{Query, queries};
use super::level::{Level, level};

/// The longest pattern, in bytes.
pub const LONGEST_PATTERN: usize = 1000;
/// The most patterns of one filter.
pub const MOST_PATTERNS: usize = 10;
/// The most memory of one compiled pattern, in bytes.
const SIZE_LIMIT: usize = 4 * 1024 * 1024;

/// A pattern that was refused.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum PatternError {
    /// It does not compile.
    #[error(
        "the pattern '{pattern}' cannot be read: {why} (at character {at}); put a backslash before special characters"
    )]
    Syntax {
        /// The pattern.
        pattern: String,
        /// Counted from 1.
        at: usize,
        /// Why.
        why: String,
    },
    /// It would take too much memory.
    #[error("the pattern '{0}' is too complex; use smaller repetitions")]
    TooLarge(String),
    /// It is too long.
    #[error("a pattern has {0} bytes; the limit is {LONGEST_PATTERN}")]
    TooLong(usize),
    /// There are too many.
    #[error("{0} patterns; the limit is {MOST_PATTERNS}")]
    TooMany(usize),
}

/// What is wanted, as people write it.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct LineCriteria {
    /// Patterns that must all be found.
    pub with: Vec<String>,
    /// Patterns of which none may be found.
    pub without: Vec<String>,
    /// Treat patterns as plain text.
    pub plain: bool,
    /// Ignore case.
    pub ignore_case: bool,
    /// The minimum level of a line; lines without a level do not reach it.
    pub least: Option<Level>,
}

/// A compiled wish.
#[derive(Debug, Clone)]
pub struct Filter {
    with: Vec<Regex>,
    without: Option<RegexSet>,
    least: Option<Level>,
    /// The first pattern, to be looked for in whole blocks of lines at once.
    scan: Option<Regex>,
    /// What a block's index must have.
    query: Query,
}

impl Filter {
    /// Compiles a wish.
    ///
    /// # Errors
    /// The place and the reason of a pattern that cannot be read.
    ///
    /// ```
    /// use gubernum_core::logs::filter::{Filter, LineCriteria};
    /// let wish = LineCriteria { with: vec!["lot 47\\d+".into()], without: vec!["taken".into()], ..LineCriteria::default() };
    /// let filter = Filter::new(&wish).unwrap();
    /// assert!(filter.takes(b"lot 4711 refused"));
    /// assert!(!filter.takes(b"lot 4711 taken"));
    /// ```
    pub fn new(wish: &LineCriteria) -> Result<Self, PatternError> {
        let count = wish.with.len() + wish.without.len();
        if count > MOST_PATTERNS {
            return Err(PatternError::TooMany(count));
        }
        let text = |pattern: &String| {
            if pattern.len() > LONGEST_PATTERN {
                return Err(PatternError::TooLong(pattern.len()));
            }
            if wish.plain {
                return Ok(regex::escape(pattern));
            }
            check(pattern).map(|()| pattern.clone())
        };
        let with = wish.with.iter().filter(|p| !p.is_empty()).map(text).collect::<Result<Vec<_>, _>>()?;
        let without =
            wish.without.iter().filter(|p| !p.is_empty()).map(text).collect::<Result<Vec<_>, _>>()?;
        let compile = |pattern: &String, lines: bool| {
            RegexBuilder::new(pattern)
                .case_insensitive(wish.ignore_case)
                .multi_line(lines)
                .size_limit(SIZE_LIMIT)
                .build()
                .map_err(|e| refused(pattern, &e))
        };
        let scan = with.first().filter(|p| spans_one_line(p)).map(|p| compile(p, true)).transpose()?;
        let without = match without.as_slice() {
            [] => None,
            all => Some(
                RegexSetBuilder::new(all)
                    .case_insensitive(wish.ignore_case)
                    .size_limit(SIZE_LIMIT)
                    .build()
                    .map_err(|e| refused(&all.join("|"), &e))?,
            ),
        };
        let query = queries(with.iter().map(String::as_str), wish.ignore_case);
        let with = with.iter().map(|p| compile(p, false)).collect::<Result<_, _>>()?;
        Ok(Self { with, without, least: wish.least, scan, query })
    }

    /// What the index of a block must have for any of its lines to fit.
    pub fn query(&self) -> &Query {
        &self.query
    }

    /// Whether every line fits.
    pub fn takes_all(&self) -> bool {
        self.with.is_empty() && self.without.is_none() && self.least.is_none()
    }

    /// Whether a line fits.
    pub fn takes(&self, line: &[u8]) -> bool {
        self.with.iter().all(|p| p.is_match(line))
            && self.without.as_ref().is_none_or(|p| !p.is_match(line))
            && self.least.is_none_or(|least| level(line).is_some_and(|found| found >= least))
    }

    /// Leaves the lines that fit.
    pub fn keep(&self, lines: &mut Vec<LogLine>) {
        if !self.takes_all() {
            lines.retain(|l| self.takes(&l.bytes));
        }
    }

    /// Finds the lines that fit in a text of lines, each ended by a line feed; calls `found` with the number and the bytes
    /// of each. Far faster than line by line when few fit.
    pub fn scan<'a>(&self, text: &'a [u8], mut found: impl FnMut(usize, &'a [u8])) {
        let Some(scan) = &self.scan else {
            let lines = text.strip_suffix(b"\n").map(|text| text.split(|&b| b == b'\n'));
            let fitting = lines.into_iter().flatten().enumerate().filter(|(_, line)| self.takes(line));
            return fitting.for_each(|(n, line)| found(n, line));
        };
        // Nothing but the one pattern is to be looked at.
        let is_simple = self.with.len() == 1 && self.without.is_none() && self.least.is_none();
        let (mut at, mut number) = (0, 0);
        while at < text.len() {
            let Some(hit) = scan.find_at(text, at) else { break };
            let start = memrchr(b'\n', &text[at..hit.start()]).map_or(at, |n| at + n + 1);
            let end = memchr(b'\n', &text[hit.start()..]).map_or(text.len(), |n| hit.start() + n);
            number += memchr_iter(b'\n', &text[at..start]).count();
            // A match that begins in one line may end in another: such a line is judged alone.
            if start < text.len() && ((is_simple && hit.end() <= end) || self.takes(&text[start..end])) {
                found(number, &text[start..end]);
            }
            at = end + 1;
            number += 1;
        }
    }

    /// Where the wanted patterns are in a text, as byte ranges in order.
    pub fn matches(&self, line: &[u8]) -> Vec<(usize, usize)> {
        let mut all: Vec<(usize, usize)> = self
            .with
            .iter()
            .flat_map(|p| p.find_iter(line).take(100).map(|m| (m.start(), m.end())))
            .filter(|(from, to)| from < to)
            .collect();
        all.sort_unstable();
        all.dedup_by(|next, before| {
            let meets = next.0 <= before.1;
            if meets {
                before.1 = before.1.max(next.1);
            }
            meets
        });
        all
    }
}

/// Anchors to the whole text would mean the whole block when one is scanned at once.
fn spans_one_line(pattern: &str) -> bool {
    !(pattern.contains("\\A") || pattern.contains("\\z") || pattern.contains("(?"))
}

fn check(pattern: &str) -> Result<(), PatternError> {
    let syntax = |at: usize, why: String| PatternError::Syntax {
        pattern: crate::text::shown(pattern, 80),
        at: pattern[..at.min(pattern.len())].chars().count() + 1,
        why,
    };
    let parsed = regex_syntax::ast::parse::Parser::new().parse(pattern);
    let ast = parsed.map_err(|e| syntax(e.span().start.offset, e.kind().to_string()))?;
    let mut translator = regex_syntax::hir::translate::TranslatorBuilder::new().utf8(false).build();
    translator.translate(pattern, &ast).map_err(|e| syntax(e.span().start.offset, e.kind().to_string()))?;
    Ok(())
}

fn refused(pattern: &str, error: &regex::Error) -> PatternError {
    let shown = crate::text::shown(pattern, 80);
    match error {
        regex::Error::CompiledTooBig(_) => PatternError::TooLarge(shown),
        other => {
            PatternError::Syntax { pattern: shown, at: 1, why: crate::text::shown(&other.to_string(), 200) }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    fn filter(with: &[&str], without: &[&str]) -> Filter {
        let all = |p: &[&str]| p.iter().map(|p| (*p).to_owned()).collect();
        Filter::new(&LineCriteria { with: all(with), without: all(without), ..LineCriteria::default() })
            .unwrap()
    }

    #[test]
    fn patterns_are_found_or_kept_out() {
        let f = filter(&["timeout|refused", "mast"], &["M4"]);
        assert!(f.takes(b"mast M3: connection refused"));
        assert!(!f.takes(b"mast M4: connection refused"));
        assert!(!f.takes(b"door: connection refused"));
        assert_eq!(f.matches(b"mast M3: timeout"), [(0, 4), (9, 16)]);
        assert!(filter(&[], &[]).takes_all());
    }

    #[test]
    fn levels_count_from_the_least() {
        let f =
            Filter::new(&LineCriteria { least: Some(Level::Warning), ..LineCriteria::default() }).unwrap();
        assert!(f.takes(b"level=error x") && f.takes(b"[WARN] x"));
        assert!(!f.takes(b"level=info x") && !f.takes(b"no level at all"));
    }

    #[test]
    fn plain_text_and_ignored_case() {
        let wish = LineCriteria {
            with: vec!["a.b(".into()],
            plain: true,
            ignore_case: true,
            ..LineCriteria::default()
        };
        let f = Filter::new(&wish).unwrap();
        assert!(f.takes(b"xA.B(y") && !f.takes(b"axb("));
    }

    #[rstest]
    #[case("mast (M3", 6, "unclosed group")]
    #[case("a**{", 4, "")]
    #[case("[z-a]", 2, "invalid character class range")]
    #[case("ü\\q", 2, "unrecognized escape")]
    fn where_and_why_a_pattern_is_wrong(#[case] pattern: &str, #[case] place: usize, #[case] reason: &str) {
        let wish = LineCriteria { with: vec![pattern.into()], ..LineCriteria::default() };
        match Filter::new(&wish) {
            Err(PatternError::Syntax { at, why, .. }) => {
                assert_eq!(at, place, "{why}");
                assert!(why.contains(reason), "{why}");
            }
            other => panic!("{other:?}"),
        }
    }

    #[test]
    fn what_would_take_too_much_is_refused() {
        let refused = |p: String| Filter::new(&LineCriteria { with: vec![p], ..LineCriteria::default() });
        assert!(matches!(refused("(a{1000}){1000}".into()), Err(PatternError::TooLarge(_))));
        assert!(matches!(refused("x".repeat(2000)), Err(PatternError::TooLong(2000))));
        let many = LineCriteria { without: vec!["a".into(); 11], ..LineCriteria::default() };
        assert!(matches!(Filter::new(&many), Err(PatternError::TooMany(11))));
        // The classical pattern that takes other engines for ever.
        let f = filter(&["^(a+)+$"], &[]);
        assert!(!f.takes(&[vec![b'a'; 50_000], b"!".to_vec()].concat()));
    }

    proptest! {
        #[test]
        fn a_block_is_scanned_as_its_lines_are(
            lines in proptest::collection::vec("[abc \\t]{0,12}", 0..30),
            pattern in prop::sample::select(vec!["a", "^a", "c$", "a\\sb", "[^b]", "b.*c", "^$", "a|b", "\\bab", "x*"]),
            without in prop::sample::select(vec!["", "cc", "^b"]),
        ) {
            let f = filter(&[pattern], &[without]);
            let block: Vec<u8> = lines.iter().flat_map(|line| [line.as_bytes(), b"\n"].concat()).collect();
            let mut found = Vec::new();
            f.scan(&block, |n, line| found.push((n, line.to_vec())));
            let expected: Vec<_> = lines.iter().enumerate().filter(|(_, l)| f.takes(l.as_bytes())).map(|(n, l)| (n, l.clone().into_bytes())).collect();
            prop_assert_eq!(found, expected);
        }
    }
}
