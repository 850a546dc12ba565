//! From a regular expression to the keys that every matching line must have.
//!
//! A pattern is written out as texts with gaps, as many as there are alternatives; where there would be too many, or
//! where nothing certain can be said, stands a gap. A text with gaps needs the words that are whole in it, the pairs of
//! such words, and parts of the words that are not.
//!
//! Patterns mean characters, texts are bytes: `\d` also means digits of other scripts, and a word may end at a letter of
//! another script where bytes go on. So each pattern is written out twice: for lines of ASCII alone, and, for blocks
//! that have other bytes, with a gap for whatever could mean one.

use regex_syntax::hir::{Class, Hir, HirKind, Look};

use super::{Key, Query, keys};

/// The most texts of one pattern, and the longest.
const MOST_TEXTS: usize = 512;
const LONGEST_TEXT: usize = 256;
/// A class of more characters is a gap.
const MOST_OF_CLASS: usize = 16;
/// The most times that a repetition is written out.
const MOST_TIMES: u32 = 16;

/// A piece of a text.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
enum Piece {
    /// This byte, with letters made small.
    Byte(u8),
    /// Some byte that is in no word.
    Separator,
    /// Between a word and none, or at the end of a line: words do not go on over this place.
    Edge,
    /// Anything, also nothing.
    Gap,
}

type Text = Vec<Piece>;

/// What a block must have for a line of it to match all of these patterns. `ignore_case`: small and capital letters are
/// the same. A pattern that cannot be read asks for nothing.
pub fn queries<'a>(patterns: impl IntoIterator<Item = &'a str>, ignore_case: bool) -> Query {
    let of_pattern = |pattern: &str| {
        let mut parser = regex_syntax::ParserBuilder::new();
        parser.utf8(false).case_insensitive(ignore_case).multi_line(true);
        let Ok(hir) = parser.build().parse(pattern) else { return Query::Anything };
        let ascii = of_texts(&texts(&hir, true));
        let other = of_texts(&texts(&hir, false));
        if ascii == other {
            return ascii;
        }
        Query::Any(vec![ascii, Query::All(vec![Query::Has(keys::not_ascii()), other])])
    };
    Query::All(patterns.into_iter().map(of_pattern).filter(Query::is_useful).collect())
}

fn of_texts(texts: &[Text]) -> Query {
    let mut all: Vec<Vec<Key>> = texts.iter().map(|text| needed(text)).collect();
    all.sort();
    all.dedup();
    let all: Vec<&[Key]> = all.iter().map(Vec::as_slice).collect();
    any_of(&all)
}

/// One of these lists of keys, in order: what several begin with is asked once.
fn any_of(lists: &[&[Key]]) -> Query {
    if lists.is_empty() || lists.iter().any(|keys| keys.is_empty()) {
        return Query::Anything;
    }
    let groups = lists.chunk_by(|a, b| a[0] == b[0]).map(|group| {
        let rest: Vec<&[Key]> = group.iter().map(|keys| &keys[1..]).collect();
        match any_of(&rest) {
            Query::Anything => Query::Has(group[0][0]),
            rest => Query::All(vec![Query::Has(group[0][0]), rest]),
        }
    });
    let mut groups: Vec<Query> = groups.collect();
    if groups.len() == 1 { groups.remove(0) } else { Query::Any(groups) }
}

/// A run of word bytes in a text.
struct Run {
    word: Vec<u8>,
    is_whole: bool,
    /// Separators, and nothing else, are between the run before and this one.
    is_next: bool,
}

/// The keys of a text. What rules the most out is first: pairs, then whole words, then parts.
fn needed(text: &[Piece]) -> Vec<Key> {
    let runs = runs(text);
    let mut needed = Vec::new();
    for two in runs.windows(2).filter(|two| two[1].is_next) {
        let ends = keys::tail(&two[0].word, two[0].is_whole).zip(keys::head(&two[1].word, two[1].is_whole));
        needed.extend(ends.and_then(|(tail, head)| keys::pair(tail, head)));
    }
    needed.extend(runs.iter().filter(|run| run.is_whole).map(|run| keys::word(&run.word)));
    for run in &runs {
        keys::parts(&run.word, |key| needed.push(key));
    }
    needed
}

fn runs(text: &[Piece]) -> Vec<Run> {
    let mut runs: Vec<Run> = Vec::new();
    let mut at = 0;
    // Whether a word that begins here cannot have begun before, and whether only separators came since the last.
    let (mut bounded, mut adjacent) = (false, false);
    while at < text.len() {
        match text[at] {
            Piece::Byte(byte) if keys::is_word(byte) => {
                let mut word = Vec::new();
                while let Some(Piece::Byte(byte)) = text.get(at)
                    && keys::is_word(*byte)
                {
                    word.push(*byte);
                    at += 1;
                }
                let ends = match text.get(at) {
                    Some(Piece::Byte(_) | Piece::Separator | Piece::Edge) => true,
                    Some(Piece::Gap) | None => false,
                };
                runs.push(Run { word, is_whole: bounded && ends, is_next: adjacent });
                (bounded, adjacent) = (false, true);
            }
            Piece::Byte(_) | Piece::Separator => {
                bounded = true;
                at += 1;
            }
            Piece::Edge => {
                bounded = true;
                at += 1;
            }
            Piece::Gap => {
                (bounded, adjacent) = (false, false);
                at += 1;
            }
        }
    }
    runs
}

/// All texts that a pattern means. `ascii`: in lines that have no other bytes.
fn texts(hir: &Hir, ascii: bool) -> Vec<Text> {
    let gap = || vec![vec![Piece::Gap]];
    match hir.kind() {
        HirKind::Empty => vec![Vec::new()],
        HirKind::Literal(literal) => {
            vec![literal.0.iter().map(|b| Piece::Byte(b.to_ascii_lowercase())).collect()]
        }
        HirKind::Class(class) => of_class(class, ascii),
        HirKind::Look(look) => vec![of_look(*look, ascii)],
        HirKind::Repetition(repetition) => {
            let inner = texts(&repetition.sub, ascii);
            let times = repetition.min.min(MOST_TIMES);
            let mut all = vec![Vec::new()];
            for _ in 0..times {
                all = joined(all, &inner);
            }
            if repetition.max == Some(repetition.min) && times == repetition.min {
                return all;
            }
            // Separators that go on are separators.
            let separates = times > 0 && inner.iter().all(|t| t.iter().all(is_separator));
            if separates { all } else { joined(all, &gap()) }
        }
        HirKind::Capture(capture) => texts(&capture.sub, ascii),
        HirKind::Concat(parts) => {
            let mut all = vec![Vec::new()];
            for part in parts {
                all = joined(all, &texts(part, ascii));
            }
            all
        }
        HirKind::Alternation(parts) => {
            let mut all: Vec<Text> = parts.iter().flat_map(|part| texts(part, ascii)).collect();
            all.sort();
            all.dedup();
            if all.len() > MOST_TEXTS { gap() } else { all }
        }
    }
}

fn is_separator(piece: &Piece) -> bool {
    match piece {
        Piece::Byte(byte) => !keys::is_word(*byte),
        Piece::Separator => true,
        Piece::Edge | Piece::Gap => false,
    }
}

/// Each of these followed by each of those; by a gap where that would be too many or too long.
fn joined(left: Vec<Text>, right: &[Text]) -> Vec<Text> {
    let longest = |texts: &[Text]| texts.iter().map(Vec::len).max().unwrap_or(0);
    let fits = left.len() * right.len() <= MOST_TEXTS && longest(&left) + longest(right) <= LONGEST_TEXT;
    let gap = [vec![Piece::Gap]];
    let right = if fits { right } else { &gap[..] };
    let mut all: Vec<Text> =
        left.iter().flat_map(|l| right.iter().map(move |r| l.iter().chain(r).copied().collect())).collect();
    all.sort();
    all.dedup();
    all
}

fn of_class(class: &Class, ascii: bool) -> Vec<Text> {
    let gap = vec![vec![Piece::Gap]];
    let (ranges, is_ascii): (Vec<(u8, u8)>, bool) = match class {
        Class::Unicode(class) => {
            let low = class.iter().filter(|r| r.start() < '\u{80}');
            let low = low.map(|r| (r.start() as u8, (r.end() as u32).min(0x7f) as u8)).collect();
            (low, class.iter().all(|r| r.end() < '\u{80}'))
        }
        Class::Bytes(class) => {
            let low = class.iter().filter(|r| r.start() < 0x80);
            (low.map(|r| (r.start(), r.end().min(0x7f))).collect(), class.iter().all(|r| r.end() < 0x80))
        }
    };
    if !ascii && !is_ascii {
        return gap;
    }
    let mut bytes: Vec<u8> =
        ranges.iter().flat_map(|&(from, to)| from..=to).map(|b| b.to_ascii_lowercase()).collect();
    bytes.sort_unstable();
    bytes.dedup();
    if !bytes.is_empty() && bytes.iter().all(|b| !keys::is_word(*b)) {
        return vec![vec![Piece::Separator]];
    }
    // One that separates besides many others would only be one more alternative.
    if bytes.is_empty() || bytes.len() > MOST_OF_CLASS {
        return gap;
    }
    bytes.into_iter().map(|b| vec![Piece::Byte(b)]).collect()
}

fn of_look(look: Look, ascii: bool) -> Text {
    match look {
        Look::Start | Look::End | Look::StartLF | Look::EndLF => vec![Piece::Edge],
        // A carriage return is no end of a line here, and no part of a word either.
        Look::StartCRLF | Look::EndCRLF => vec![Piece::Edge],
        Look::WordAscii | Look::WordUnicode | Look::WordStartAscii | Look::WordEndAscii if ascii => {
            vec![Piece::Edge]
        }
        Look::WordStartUnicode | Look::WordEndUnicode if ascii => vec![Piece::Edge],
        // `\B` and the halves of edges say nothing of where words end.
        _ => vec![Piece::Gap],
    }
}
