//! Splits texts into index keys. The keys of a text and those that a pattern needs must be computed in the same way:
//! both are here.

use std::collections::HashSet;
use std::hash::{BuildHasherDefault, Hasher};

use super::Key;

const WORD: u8 = 1;
const PAIR: u8 = 2;
const LETTERS: u8 = 3;
const PART: u8 = 4;
const NOT_ASCII: u8 = 5;

/// The length of a part of a word with a digit in it.
pub(super) const PART_LENGTH: usize = 6;

pub(super) fn is_word(byte: u8) -> bool {
    byte.is_ascii_alphanumeric() || byte == b'_' || byte >= 0x80
}

/// The prime and the beginning of FNV-1a with 64 bits.
const PRIME: u64 = 0x0000_0100_0000_01b3;
const OFFSET: u64 = 0xcbf2_9ce4_8422_2325;

fn fnv(mut hash: u64, bytes: &[u8]) -> u64 {
    for &byte in bytes {
        hash ^= u64::from(byte.to_ascii_lowercase());
        hash = hash.wrapping_mul(PRIME);
    }
    hash
}

fn start(kind: u8) -> u64 {
    fnv(OFFSET, &[kind])
}

/// Some byte is from 0x80 on.
pub(super) fn not_ascii() -> Key {
    Key::from_hash(start(NOT_ASCII))
}

/// A whole word.
pub(super) fn word(word: &[u8]) -> Key {
    Key::from_hash(fnv(start(WORD), word))
}

/// How many letters stand for a word in a pair: of the left one the last, of the right one the first, which may be a unit
/// of two letters.
const TAIL_LETTERS: usize = 3;
const HEAD_LETTERS: usize = 2;

/// What stands for a word in a pair with its neighbour.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct End {
    key: u64,
    /// It is letters, so that the pair is kept whatever its other side is.
    is_plain: bool,
}

/// The end of a word that another follows; what is known of the word are its last bytes, or `is_whole`.
pub(super) fn tail(word: &[u8], is_whole: bool) -> Option<End> {
    end(word.len().checked_sub(TAIL_LETTERS).and_then(|at| word.get(at..)), word, is_whole)
}

/// The beginning of a word that follows another.
pub(super) fn head(word: &[u8], is_whole: bool) -> Option<End> {
    end(word.get(..HEAD_LETTERS), word, is_whole)
}

fn end(letters: Option<&[u8]>, word: &[u8], is_whole: bool) -> Option<End> {
    match letters {
        Some(letters) if is_plain(letters) => {
            Some(End { key: fnv(start(PAIR) ^ 1, letters), is_plain: true })
        }
        _ if is_whole => Some(End { key: fnv(start(PAIR), word), is_plain: is_plain(word) }),
        _ => None,
    }
}

/// Two neighbouring words, where that is kept.
pub(super) fn pair(tail: End, head: End) -> Option<Key> {
    let key = (tail.key.rotate_left(1) ^ head.key).wrapping_mul(PRIME);
    (tail.is_plain || head.is_plain).then_some(Key::from_hash(key))
}

/// Only letters and underscores.
fn is_plain(word: &[u8]) -> bool {
    word.iter().all(|b| b.is_ascii_alphabetic() || *b == b'_')
}

/// What tells a part of a word: calls `found` for each key.
pub(super) fn parts(part: &[u8], mut found: impl FnMut(Key)) {
    for window in part.windows(3) {
        if window.iter().all(u8::is_ascii_alphabetic) {
            found(Key::from_hash(fnv(start(LETTERS), window)));
        }
    }
    for window in part.windows(PART_LENGTH) {
        if window.iter().any(u8::is_ascii_digit) {
            let key = fnv(start(PART), window);
            if (key >> 56) & 3 == 0 {
                found(Key::from_hash(key));
            }
        }
    }
}

/// Keys are hashes already, and mixed.
#[derive(Default)]
struct IdentityHasher(u64);

impl Hasher for IdentityHasher {
    fn finish(&self) -> u64 {
        self.0
    }

    fn write(&mut self, bytes: &[u8]) {
        self.0 = fnv(self.0, bytes);
    }

    fn write_u64(&mut self, n: u64) {
        self.0 = n;
    }
}

/// All different keys of a text of lines.
pub(super) fn of_text(text: &[u8]) -> HashSet<Key, BuildHasherDefault<impl Hasher>> {
    let mut all: HashSet<Key, BuildHasherDefault<IdentityHasher>> = HashSet::default();
    if !text.is_ascii() {
        all.insert(not_ascii());
    }
    for line in text.split(|&b| b == b'\n') {
        let mut before: Option<End> = None;
        for run in line.split(|&b| !is_word(b)).filter(|run| !run.is_empty()) {
            // The parts of a word that was there before were too.
            if all.insert(word(run)) {
                parts(run, |key| {
                    all.insert(key);
                });
            }
            all.extend(before.zip(head(run, true)).and_then(|(tail, head)| pair(tail, head)));
            before = tail(run, true);
        }
    }
    all
}
