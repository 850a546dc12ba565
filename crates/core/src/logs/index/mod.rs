//! The index of kept log lines: a filter for each block that tells what its texts cannot contain, so that a search
//! skips blocks.
//!
//! [`keys`] takes a text apart into keys, [`pattern`] makes of a regular expression the [`Query`] of keys that every
//! matching line must have. A filter may say yes where the answer is no; it never says no where it is yes.
//!
//! # Keys
//!
//! A word is a run of the bytes `A-Z a-z 0-9 _` and of those from 0x80 on, its letters made small. Keys are 64-bit FNV-1a
//! hashes of a first byte that tells their kind, followed by what the key is of. Only kind 2 is made otherwise, of what
//! stands for each of two words that are neighbours in a line: the left one's last three bytes, the right one's first
//! two, where these are letters or `_`, else the whole word. With the hash `k` of the first byte alone, `e` is the FNV-1a
//! hash that begins with `k xor 1` for letters, with `k` for a whole word; the key is `((left e rotated left by 1)
//! xor right e) * prime`.
//!
//! | kind | of | so that this can be told |
//! |---|---|---|
//! | 1 | a word | `lot`, `4711` |
//! | 2 | two neighbouring words, for one of which only letters and `_` stand | `lot 4711` among many other numbers |
//! | 3 | three letters in a row in a word | a part of a word |
//! | 4 | six bytes in a row in a word, with a digit among them; kept where bits 56 and 57 of the key are zero | a part of an id |
//! | 5 | nothing | that some byte is from 0x80 on |
//!
//! # Form of a filter
//!
//! A Bloom filter of a whole number of bytes, eight bits for each different key, five of them set for each. With `n`
//! bits, `a` the low and `b` the high half of the mixed key (`b` made odd; a key is mixed as `m = (k xor k >> 32) *
//! 0x9e3779b97f4a7c15`, then `m xor m >> 29`), bit `i` is `((a + i * b) mod 2^32) * n >>
//! 32`, the lowest bit of the first byte being bit 0.

mod keys;
mod pattern;

pub use pattern::queries;

/// Bits for each key.
const BITS_PER_KEY: usize = 8;
/// Bits that are set for each key.
const PROBES: u32 = 5;
/// The largest filter, in bytes: more keys make it less sharp, not larger.
pub const MOST_FILTER_BYTES: usize = 64 * 1024;

/// A key of the index, mixed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Key(u64);

impl Key {
    /// FNV's last bytes stir too little.
    fn from_hash(hash: u64) -> Self {
        let mixed = (hash ^ (hash >> 32)).wrapping_mul(0x9e37_79b9_7f4a_7c15);
        Self(mixed ^ (mixed >> 29))
    }
}

/// The filter of a text of lines, each ended by a line feed.
///
/// ```
/// use gubernum_core::logs::filter::{Filter, LineCriteria};
/// use gubernum_core::logs::index::filter_of;
/// let index = filter_of(b"bid refused by lot 4711\nbid taken\n");
/// let wanted = |pattern: &str| {
///     let wish = LineCriteria { with: vec![pattern.to_owned()], ..LineCriteria::default() };
///     Filter::new(&wish).unwrap().query().may_match(&index)
/// };
/// assert!(wanted("refused by lot 47\\d\\d\\b"));
/// assert!(!wanted("refused by lot 48\\d\\d\\b"));
/// ```
pub fn filter_of(text: &[u8]) -> Vec<u8> {
    let all = keys::of_text(text);
    let bytes = (all.len() * BITS_PER_KEY).div_ceil(8).clamp(8, MOST_FILTER_BYTES);
    let mut filter = vec![0u8; bytes];
    for key in all {
        for bit in bits(key, bytes) {
            filter[bit / 8] |= 1 << (bit % 8);
        }
    }
    filter
}

/// The bits of a key in a filter of this many bytes.
#[inline]
fn bits(Key(mixed): Key, bytes: usize) -> impl Iterator<Item = usize> {
    let (a, b) = (mixed as u32, (mixed >> 32) as u32 | 1);
    let n = (bytes * 8) as u64;
    (0..PROBES).map(move |i| ((u64::from(a.wrapping_add(i.wrapping_mul(b))) * n) >> 32) as usize)
}

#[inline]
fn has(filter: &[u8], key: Key) -> bool {
    bits(key, filter.len()).all(|bit| filter[bit / 8] & (1 << (bit % 8)) != 0)
}

/// What a block must have to be worth a look.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Query {
    /// Nothing can be told.
    Anything,
    /// This key.
    Has(Key),
    /// All of these.
    All(Vec<Query>),
    /// One of these.
    Any(Vec<Query>),
}

impl Query {
    /// Whether a block with this filter may have what is asked for. An empty filter tells nothing.
    pub fn may_match(&self, filter: &[u8]) -> bool {
        if filter.is_empty() {
            return true;
        }
        match self {
            Self::Anything => true,
            Self::Has(key) => has(filter, *key),
            Self::All(parts) => parts.iter().all(|p| p.may_match(filter)),
            Self::Any(parts) => parts.iter().any(|p| p.may_match(filter)),
        }
    }

    /// Whether it can rule anything out.
    pub fn is_useful(&self) -> bool {
        match self {
            Self::Anything => false,
            Self::Has(_) => true,
            Self::All(parts) => parts.iter().any(Self::is_useful),
            Self::Any(parts) => parts.iter().all(Self::is_useful),
        }
    }
}

#[cfg(test)]
mod tests;
