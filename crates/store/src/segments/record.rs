//! The records of a segment as bytes.

use std::io;

use gubernum_core::logs::block::Block;
use gubernum_core::logs::index::filter_of;

pub(super) const MAGIC: &[u8; 8] = b"GUBLOG1\n";
/// The container's id, filled with zeros.
pub(super) const ID_BYTES: usize = 64;
/// Where the first record begins.
pub(super) const FIRST_RECORD: u64 = (MAGIC.len() + ID_BYTES) as u64;
pub(super) const BLOCK_MARK: u32 = 0x4b4c_4247;
pub(super) const FILTER_MARK: u32 = 0x494c_4247;
pub(super) const RECORD_HEAD: usize = 4 + 4 + 4 + 8 + 8 + 4;
/// No body is larger: a damaged length asks for no more memory.
pub(super) const MOST_BODY: u32 = 64 * 1024 * 1024;
/// Texts compress about as well from here on, and faster.
const ZSTD_LEVEL: i32 = 3;
/// A smaller text is as soon unpacked as its filter is asked.
const LEAST_FILTERED: usize = 4 * 1024;

/// The fields before the body of a record.
#[derive(Debug, Clone, Copy)]
pub(super) struct RecordHead {
    pub(super) mark: u32,
    /// Bytes of the body.
    pub(super) body: u32,
    /// Of a filter: bytes of the block's body. Of a block: its lines.
    pub(super) more: u32,
    pub(super) first: i64,
    pub(super) last: i64,
    sum: u32,
}

impl RecordHead {
    pub(super) fn read(head: &[u8; RECORD_HEAD]) -> Self {
        let word = |at: usize| u32::from_le_bytes([head[at], head[at + 1], head[at + 2], head[at + 3]]);
        let long = |at: usize| {
            let mut bytes = [0; 8];
            bytes.copy_from_slice(&head[at..at + 8]);
            i64::from_le_bytes(bytes)
        };
        Self { mark: word(0), body: word(4), more: word(8), first: long(12), last: long(20), sum: word(28) }
    }

    fn fields(&self) -> [u8; 20] {
        let mut fields = [0; 20];
        fields[..4].copy_from_slice(&self.more.to_le_bytes());
        fields[4..12].copy_from_slice(&self.first.to_le_bytes());
        fields[12..].copy_from_slice(&self.last.to_le_bytes());
        fields
    }

    fn sum_with(&self, body: &[u8]) -> u32 {
        let mut sum = crc32fast::Hasher::new();
        sum.update(&self.fields());
        sum.update(body);
        sum.finalize()
    }

    /// Whether a body is the one that was written.
    pub(super) fn is_whole(&self, body: &[u8]) -> bool {
        self.sum_with(body) == self.sum
    }
}

fn write(mark: u32, more: usize, (first, last): (i64, i64), body: &[u8], out: &mut Vec<u8>) {
    let number = |n: usize| u32::try_from(n).unwrap_or(u32::MAX);
    let (length, more) = (number(body.len()), number(more));
    let mut head = RecordHead { mark, body: length, more, first, last, sum: 0 };
    head.sum = head.sum_with(body);
    out.extend_from_slice(&mark.to_le_bytes());
    out.extend_from_slice(&length.to_le_bytes());
    out.extend_from_slice(&head.fields());
    out.extend_from_slice(&head.sum.to_le_bytes());
    out.extend_from_slice(body);
}

/// A block with its filter as records, to be written at once.
pub(super) fn pack(block: &Block, first: i64, last: i64) -> io::Result<Vec<u8>> {
    let packed = zstd::bulk::compress(&block.encode(), ZSTD_LEVEL)?;
    let mut out = Vec::with_capacity(packed.len() + block.text.len() / 6 + 2 * RECORD_HEAD);
    if block.text.len() >= LEAST_FILTERED {
        let filter = filter_of(&block.text);
        write(FILTER_MARK, packed.len(), (first, last), &filter, &mut out);
    }
    write(BLOCK_MARK, block.metas.len(), (first, last), &packed, &mut out);
    Ok(out)
}
