//! A packed run of rows.
//!
//! Form, all numbers little-endian:
//!
//! ```text
//! byte    version, 1
//! varint  rows, at least 1
//! byte    columns
//! varint  seconds since 1970 of the first row, zigzag
//! then a string of bits, most significant first:
//!   times   for each further row, the difference between its step and the step before (the first
//!           step is compared with `step`), Rice-coded with k = 0
//!   columns for each column: 4 bits of k (15 for "all the same"), 16 bits of the first code, and
//!           unless all are the same, for each further row the difference to the code before, Rice-coded
//! varint  step: the usual seconds between two rows (precedes the bits)
//! 4 bytes CRC-32 of everything before
//! ```
//!
//! Rice coding of a number n (differences are zigzagged first: 0, -1, 1, -2, …): n >> k ones, a zero, the
//! low k bits. From [`ESCAPE`] ones on, 32 plain bits stand instead. The k that gives the fewest bits is
//! chosen for each column. Rows must be in the order of time.

use super::code::Code;

/// The number of ones that announce a plain number.
const ESCAPE: u32 = 20;
/// The k that says that all codes of a column are the same.
const SAME: u64 = 15;
/// The largest k that is tried.
const LARGEST_K: u32 = 10;
const VERSION: u8 = 1;
/// More rows than any chunk of ours has: a damaged count asks for no more memory.
const MOST_ROWS: u64 = 100_000;
const MOST_COLUMNS: u8 = 64;

/// Rows of codes with their times in seconds.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Chunk {
    /// How many codes a row has.
    pub columns: usize,
    /// Seconds since 1970 of each row, growing.
    pub times: Vec<i64>,
    /// All rows one after another.
    pub codes: Vec<Code>,
}

/// A chunk that cannot be read: its bytes were changed or cut.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[error("a chunk of the history is damaged")]
pub struct DamagedChunk;

impl Chunk {
    /// An empty one.
    pub fn new(columns: usize) -> Self {
        Self { columns, times: Vec::new(), codes: Vec::new() }
    }

    /// Adds a row. One that is not later than the last is left out.
    pub fn push(&mut self, time: i64, row: &[Code]) {
        if row.len() == self.columns && self.times.last().is_none_or(|&last| last < time) {
            self.times.push(time);
            self.codes.extend_from_slice(row);
        }
    }

    /// Cuts off the rows from a time on, to be written again.
    pub fn cut_from(&mut self, time: i64) {
        let rows = self.times.partition_point(|&t| t < time);
        self.times.truncate(rows);
        self.codes.truncate(rows * self.columns);
    }

    /// The rows with their times.
    pub fn rows(&self) -> impl Iterator<Item = (i64, &[Code])> {
        self.times.iter().copied().zip(self.codes.chunks_exact(self.columns.max(1)))
    }

    /// Packs it; `step` is the usual number of seconds between two rows. An empty one gives no bytes.
    ///
    /// ```
    /// use gubernum_core::history::{Chunk, Code};
    /// let mut chunk = Chunk::new(1);
    /// chunk.push(1_790_000_000, &[Code::new(7)]);
    /// chunk.push(1_790_000_010, &[Code::new(7)]);
    /// assert_eq!(Chunk::decode(&chunk.encode(10)).unwrap(), chunk);
    /// ```
    pub fn encode(&self, step: u32) -> Vec<u8> {
        let Some(&first) = self.times.first() else { return Vec::new() };
        let mut out = vec![VERSION];
        varint(&mut out, self.times.len() as u64);
        out.push(u8::try_from(self.columns).unwrap_or(MOST_COLUMNS));
        varint(&mut out, zigzag(first));
        varint(&mut out, u64::from(step));
        let mut bits = BitWriter { out, free: 0 };
        let mut before = i64::from(step);
        for pair in self.times.windows(2) {
            let step = pair[1] - pair[0];
            bits.rice(zigzag(step - before), 0);
            before = step;
        }
        for column in 0..self.columns {
            let codes = || self.codes[column..].iter().step_by(self.columns).map(|c| i64::from(c.0));
            let first = codes().next().unwrap_or(0);
            let differences = || codes().zip(codes().skip(1)).map(|(a, b)| zigzag(b - a));
            if differences().all(|d| d == 0) {
                bits.write(SAME, 4);
                bits.write(first.unsigned_abs(), 16);
                continue;
            }
            let k = (0..=LARGEST_K).min_by_key(|&k| differences().map(|d| cost(d, k)).sum::<u64>());
            let k = k.unwrap_or(0);
            bits.write(u64::from(k), 4);
            bits.write(first.unsigned_abs(), 16);
            differences().for_each(|d| bits.rice(d, k));
        }
        let mut out = bits.out;
        let sum = crc32fast::hash(&out);
        out.extend_from_slice(&sum.to_le_bytes());
        out
    }

    /// Unpacks it.
    ///
    /// # Errors
    /// When the bytes are not what [`Chunk::encode`] gave.
    pub fn decode(bytes: &[u8]) -> Result<Self, DamagedChunk> {
        let (body, sum) = bytes.split_last_chunk::<4>().ok_or(DamagedChunk)?;
        if crc32fast::hash(body) != u32::from_le_bytes(*sum) {
            return Err(DamagedChunk);
        }
        let mut rest = body;
        if take(&mut rest)? != VERSION {
            return Err(DamagedChunk);
        }
        let rows = unvarint(&mut rest)?;
        let columns = take(&mut rest)?;
        if rows == 0 || rows > MOST_ROWS || columns > MOST_COLUMNS {
            return Err(DamagedChunk);
        }
        let (rows, columns) = (usize::try_from(rows).map_err(|_| DamagedChunk)?, usize::from(columns));
        let mut time = unzigzag(unvarint(&mut rest)?);
        let mut step = i64::try_from(unvarint(&mut rest)?).map_err(|_| DamagedChunk)?;
        let mut bits = BitReader { bytes: rest, at: 0 };
        let mut times = Vec::with_capacity(rows);
        times.push(time);
        for _ in 1..rows {
            step = step.checked_add(unzigzag(bits.rice(0)?)).ok_or(DamagedChunk)?;
            time = time.checked_add(step).ok_or(DamagedChunk)?;
            times.push(time);
        }
        let mut codes = vec![Code::UNKNOWN; rows * columns];
        for column in 0..columns {
            let k = bits.read(4)?;
            let mut code = i64::try_from(bits.read(16)?).map_err(|_| DamagedChunk)?;
            for row in 0..rows {
                if row > 0 && k != SAME {
                    let k = u32::try_from(k).map_err(|_| DamagedChunk)?;
                    code = code.checked_add(unzigzag(bits.rice(k)?)).ok_or(DamagedChunk)?;
                }
                codes[row * columns + column] = Code(u16::try_from(code).map_err(|_| DamagedChunk)?);
            }
        }
        Ok(Self { columns, times, codes })
    }
}

fn zigzag(n: i64) -> u64 {
    ((n << 1) ^ (n >> 63)) as u64
}

fn unzigzag(n: u64) -> i64 {
    (n >> 1) as i64 ^ -((n & 1) as i64)
}

fn varint(out: &mut Vec<u8>, mut n: u64) {
    while n >= 0x80 {
        out.push((n & 0x7f) as u8 | 0x80);
        n >>= 7;
    }
    out.push(n as u8);
}

fn take(rest: &mut &[u8]) -> Result<u8, DamagedChunk> {
    let (&first, after) = rest.split_first().ok_or(DamagedChunk)?;
    *rest = after;
    Ok(first)
}

fn unvarint(rest: &mut &[u8]) -> Result<u64, DamagedChunk> {
    let mut n = 0;
    for shift in (0..64).step_by(7) {
        let byte = take(rest)?;
        n |= u64::from(byte & 0x7f) << shift;
        if byte < 0x80 {
            return Ok(n);
        }
    }
    Err(DamagedChunk)
}

/// The bits that a number takes with this k.
fn cost(n: u64, k: u32) -> u64 {
    let ones = n >> k;
    if ones >= u64::from(ESCAPE) { u64::from(ESCAPE) + 32 } else { ones + 1 + u64::from(k) }
}

struct BitWriter {
    out: Vec<u8>,
    /// Bits of the last byte that are still free.
    free: u32,
}

impl BitWriter {
    fn write(&mut self, value: u64, count: u32) {
        for place in (0..count).rev() {
            if self.free == 0 {
                self.out.push(0);
                self.free = 8;
            }
            self.free -= 1;
            if let Some(last) = self.out.last_mut() {
                *last |= (((value >> place) & 1) as u8) << self.free;
            }
        }
    }

    fn rice(&mut self, n: u64, k: u32) {
        let ones = n >> k;
        if ones >= u64::from(ESCAPE) {
            self.write((1 << ESCAPE) - 1, ESCAPE);
            // Steps and differences of codes are far smaller; what is not is cut, and no row is lost.
            self.write(n.min(u64::from(u32::MAX)), 32);
            return;
        }
        let ones = u32::try_from(ones).unwrap_or(0);
        self.write(((1u64 << ones) - 1) << 1, ones + 1);
        self.write(n & ((1 << k) - 1), k);
    }
}

struct BitReader<'a> {
    bytes: &'a [u8],
    at: usize,
}

impl BitReader<'_> {
    fn bit(&mut self) -> Result<u64, DamagedChunk> {
        let byte = self.bytes.get(self.at / 8).ok_or(DamagedChunk)?;
        let bit = (byte >> (7 - self.at % 8)) & 1;
        self.at += 1;
        Ok(u64::from(bit))
    }

    fn read(&mut self, count: u32) -> Result<u64, DamagedChunk> {
        let mut value = 0;
        for _ in 0..count {
            value = value << 1 | self.bit()?;
        }
        Ok(value)
    }

    fn rice(&mut self, k: u32) -> Result<u64, DamagedChunk> {
        let mut ones = 0;
        while self.bit()? == 1 {
            ones += 1;
            if ones == ESCAPE {
                return self.read(32);
            }
        }
        Ok(u64::from(ones) << k | self.read(k)?)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn chunk(rows: &[(i64, Vec<u16>)]) -> Chunk {
        let mut chunk = Chunk::new(rows[0].1.len());
        for (time, row) in rows {
            chunk.push(*time, &row.iter().map(|&c| Code(c)).collect::<Vec<_>>());
        }
        chunk
    }

    #[test]
    fn what_rests_costs_next_to_nothing() {
        let rows: Vec<_> =
            (0..60).map(|i| (1_800_000_000 + i * 10, vec![300, 5, 0, 1, 1, 1, 1, 20])).collect();
        let bytes = chunk(&rows).encode(10);
        assert!(bytes.len() < 50, "{} bytes for 480 values", bytes.len());
    }

    #[test]
    fn an_empty_one_and_rows_out_of_order() {
        assert!(Chunk::new(3).encode(10).is_empty());
        let mut one = chunk(&[(100, vec![1])]);
        one.push(100, &[Code(9)]);
        one.push(90, &[Code(9)]);
        one.push(110, &[Code(9), Code(9)]);
        assert_eq!(one.times, [100]);
    }

    proptest! {
        #[test]
        fn what_goes_in_comes_out(
            start in -1_000_000_000i64..4_000_000_000,
            rows in proptest::collection::vec((1i64..100_000, proptest::collection::vec(any::<u16>(), 5)), 1..80),
            step in 1u32..4000,
        ) {
            let mut time = start;
            let rows: Vec<_> = rows.into_iter().map(|(gap, row)| { time += gap; (time, row) }).collect();
            let chunk = chunk(&rows);
            prop_assert_eq!(Chunk::decode(&chunk.encode(step)), Ok(chunk));
        }

        #[test]
        fn quiet_values_too(rows in proptest::collection::vec(300u16..306, 1..400)) {
            let rows: Vec<_> = rows.into_iter().enumerate().map(|(i, c)| (i as i64 * 10, vec![c, 7])).collect();
            let chunk = chunk(&rows);
            let bytes = chunk.encode(10);
            prop_assert!(bytes.len() <= 24 + rows.len(), "{} bytes for {} rows", bytes.len(), rows.len());
            prop_assert_eq!(Chunk::decode(&bytes), Ok(chunk));
        }

        #[test]
        fn any_change_of_a_byte_is_noticed(place in any::<proptest::sample::Index>(), by in 1u8..=255) {
            let rows: Vec<_> = (0..30).map(|i| (i * 10, vec![(i * 37 % 211) as u16])).collect();
            let mut bytes = chunk(&rows).encode(10);
            let place = place.index(bytes.len());
            bytes[place] ^= by;
            prop_assert_eq!(Chunk::decode(&bytes), Err(DamagedChunk));
        }

        #[test]
        fn any_bytes_are_read_or_refused(mut bytes in proptest::collection::vec(any::<u8>(), 0..200), sealed in any::<bool>()) {
            if sealed {
                let sum = crc32fast::hash(&bytes);
                bytes.extend_from_slice(&sum.to_le_bytes());
            }
            let _ = Chunk::decode(&bytes);
        }
    }
}
