//! Blocks of kept log lines: the texts one after another, then their times and streams.
//!
//! Texts are together so that a pattern is looked for in all of them at once. Form, little-endian:
//!
//! ```text
//! u32      bytes of the texts
//! texts    each line followed by a line feed
//! metas    for each line: varint of the zigzag difference to the time before in nanoseconds, doubled,
//!          plus 1 when a time is there; then a byte: 0 output, 1 error, 2 terminal, plus 4 when it goes on
//! ```
//!
//! Compressing and checking is the store's work.

use jiff::Timestamp;

use super::{LogLine, Stream};

/// A block that cannot be read.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[error("a block of kept log lines is damaged")]
pub struct DamagedBlock;

/// What is kept of a line besides its text.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Meta {
    /// Its time in nanoseconds since 1970.
    pub nanos: Option<i64>,
    /// The output stream.
    pub stream: Stream,
    /// It goes on in the next line.
    pub continued: bool,
}

impl Meta {
    /// The line of this text.
    pub fn line(&self, text: &[u8]) -> LogLine {
        let time = self.nanos.and_then(|n| Timestamp::from_nanosecond(i128::from(n)).ok());
        LogLine { stream: self.stream, time, bytes: text.to_vec(), continued: self.continued }
    }
}

/// Unpacked lines.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Block {
    /// All texts, each followed by a line feed.
    pub text: Vec<u8>,
    /// Where each begins.
    pub starts: Vec<u32>,
    /// The rest of each.
    pub metas: Vec<Meta>,
}

/// A time in nanoseconds.
pub fn nanos(time: Timestamp) -> i64 {
    i64::try_from(time.as_nanosecond()).unwrap_or(i64::MAX)
}

impl Block {
    /// Adds a line.
    pub fn push(&mut self, line: &LogLine) {
        self.starts.push(u32::try_from(self.text.len()).unwrap_or(u32::MAX));
        // No line has a line feed in it; if one had, it would become two here.
        self.text.extend(line.bytes.iter().map(|&b| if b == b'\n' { b' ' } else { b }));
        self.text.push(b'\n');
        let nanos = line.time.map(nanos);
        self.metas.push(Meta { nanos, stream: line.stream, continued: line.continued });
    }

    /// Whether it has no line.
    pub fn is_empty(&self) -> bool {
        self.metas.is_empty()
    }

    /// The text of a line.
    pub fn text_of(&self, n: usize) -> &[u8] {
        let from = self.starts.get(n).map_or(self.text.len(), |&s| s as usize);
        let to = self.starts.get(n + 1).map_or(self.text.len(), |&s| s as usize);
        self.text.get(from..to.saturating_sub(1)).unwrap_or_default()
    }

    /// A line.
    pub fn line(&self, n: usize) -> Option<LogLine> {
        Some(self.metas.get(n)?.line(self.text_of(n)))
    }

    /// The first and the last time.
    pub fn span(&self) -> Option<(i64, i64)> {
        let times = || self.metas.iter().filter_map(|m| m.nanos);
        Some((times().min()?, times().max()?))
    }

    /// Packs it.
    pub fn encode(&self) -> Vec<u8> {
        let mut out = Vec::with_capacity(self.text.len() + self.metas.len() * 6 + 4);
        out.extend_from_slice(&u32::try_from(self.text.len()).unwrap_or(u32::MAX).to_le_bytes());
        out.extend_from_slice(&self.text);
        let mut before = 0i64;
        for meta in &self.metas {
            match meta.nanos {
                Some(nanos) => {
                    let difference = nanos.wrapping_sub(before);
                    let zigzag = ((difference << 1) ^ (difference >> 63)) as u64;
                    varint(&mut out, u128::from(zigzag) << 1 | 1);
                    before = nanos;
                }
                None => out.push(0),
            }
            let stream = match meta.stream {
                Stream::Stdout => 0,
                Stream::Stderr => 1,
                Stream::Terminal => 2,
            };
            out.push(stream | u8::from(meta.continued) << 2);
        }
        out
    }

    /// Unpacks it.
    ///
    /// # Errors
    /// When the bytes are not a block's.
    pub fn decode(bytes: &[u8]) -> Result<Self, DamagedBlock> {
        let encoded = EncodedBlock::read(bytes)?;
        let text = encoded.text.to_vec();
        let mut starts = Vec::new();
        let mut start = 0;
        for end in memchr::memchr_iter(b'\n', &text) {
            starts.push(start);
            start = u32::try_from(end + 1).map_err(|_| DamagedBlock)?;
        }
        let mut rest = encoded.metas;
        let metas = metas(&mut rest, starts.len())?;
        if rest.is_empty() { Ok(Self { text, starts, metas }) } else { Err(DamagedBlock) }
    }
}

/// A block as it is encoded: its lines can be looked through before anything is taken apart.
#[derive(Debug, Clone, Copy)]
pub struct EncodedBlock<'a> {
    /// All texts, each followed by a line feed.
    pub text: &'a [u8],
    metas: &'a [u8],
}

impl<'a> EncodedBlock<'a> {
    /// Takes what [`Block::encode`] gave.
    ///
    /// # Errors
    /// When the bytes are not a block's.
    pub fn read(bytes: &'a [u8]) -> Result<Self, DamagedBlock> {
        let (length, rest) = bytes.split_first_chunk::<4>().ok_or(DamagedBlock)?;
        let (text, metas) =
            rest.split_at_checked(u32::from_le_bytes(*length) as usize).ok_or(DamagedBlock)?;
        if text.last().is_some_and(|&b| b != b'\n') {
            return Err(DamagedBlock);
        }
        Ok(Self { text, metas })
    }

    /// What is kept of its first lines besides their texts.
    ///
    /// # Errors
    /// When it has fewer lines.
    pub fn metas(&self, count: usize) -> Result<Vec<Meta>, DamagedBlock> {
        metas(&mut { self.metas }, count)
    }
}

fn metas(rest: &mut &[u8], count: usize) -> Result<Vec<Meta>, DamagedBlock> {
    // A line takes two bytes at least: a damaged count asks for no more memory.
    let mut metas = Vec::with_capacity(count.min(rest.len() / 2));
    let mut before = 0i64;
    for _ in 0..count {
        let time = unvarint(rest)?;
        let nanos = (time & 1 == 1).then(|| {
            let zigzag = (time >> 1) as u64;
            before = before.wrapping_add((zigzag >> 1) as i64 ^ -((zigzag & 1) as i64));
            before
        });
        let (&flags, after) = rest.split_first().ok_or(DamagedBlock)?;
        *rest = after;
        let stream = match flags & 3 {
            0 => Stream::Stdout,
            1 => Stream::Stderr,
            2 => Stream::Terminal,
            _ => return Err(DamagedBlock),
        };
        metas.push(Meta { nanos, stream, continued: flags & 4 != 0 });
    }
    Ok(metas)
}

fn varint(out: &mut Vec<u8>, mut n: u128) {
    while n >= 0x80 {
        out.push((n & 0x7f) as u8 | 0x80);
        n >>= 7;
    }
    out.push(n as u8);
}

fn unvarint(rest: &mut &[u8]) -> Result<u128, DamagedBlock> {
    let mut n = 0u128;
    for shift in (0..70).step_by(7) {
        let (&byte, after) = rest.split_first().ok_or(DamagedBlock)?;
        *rest = after;
        n |= u128::from(byte & 0x7f) << shift;
        if byte < 0x80 {
            return Ok(n);
        }
    }
    Err(DamagedBlock)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn lines() -> impl Strategy<Value = Vec<LogLine>> {
        let stream = prop::sample::select(vec![Stream::Stdout, Stream::Stderr, Stream::Terminal]);
        let time = proptest::option::of(-4_000_000_000_000_000_000i64..4_000_000_000_000_000_000);
        let bytes =
            proptest::collection::vec(any::<u8>().prop_filter("no line feed", |b| *b != b'\n'), 0..60);
        let line =
            (stream, time, bytes, any::<bool>()).prop_map(|(stream, nanos, bytes, continued)| LogLine {
                stream,
                time: nanos.map(|n| Timestamp::from_nanosecond(i128::from(n)).unwrap()),
                bytes,
                continued,
            });
        proptest::collection::vec(line, 0..40)
    }

    proptest! {
        #[test]
        fn what_goes_in_comes_out(lines in lines()) {
            let mut block = Block::default();
            lines.iter().for_each(|l| block.push(l));
            let back = Block::decode(&block.encode()).unwrap();
            let all: Vec<_> = (0..lines.len()).map(|n| back.line(n).unwrap()).collect();
            prop_assert_eq!(all, lines);
            prop_assert_eq!(back, block);
        }

        #[test]
        fn any_bytes_are_read_or_refused(bytes in proptest::collection::vec(any::<u8>(), 0..200)) {
            let _ = Block::decode(&bytes);
        }
    }
}
