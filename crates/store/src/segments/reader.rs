//! Reads kept lines, block by block; blocks that a search's filter rules out are skipped unread.

use std::fs::File;
use std::io;
use std::os::unix::fs::FileExt;
use std::path::{Path, PathBuf};

use gubernum_core::logs::block::Block;
use gubernum_core::logs::index::Query;

use super::Last;
use super::record::{BLOCK_MARK, FILTER_MARK, FIRST_RECORD, MAGIC, MOST_BODY, RECORD_HEAD, RecordHead};

/// No block is larger when unpacked.
const MOST_UNPACKED: u64 = 256 * 1024 * 1024;

/// A block that could not be read.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("a part of the kept lines in {path} is damaged and was skipped")]
pub struct DamagedSegment {
    /// The file.
    pub path: PathBuf,
}

/// Where a block is in its segment, and the times of its lines.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct BlockPlace {
    /// Its first record.
    at: u64,
    /// The first, in nanoseconds since 1970.
    pub first: i64,
    /// The last.
    pub last: i64,
}

/// A block as stored on disk. Decompressing it takes most of the time, and any thread can do it.
#[derive(Debug)]
pub struct PackedBlock {
    head: RecordHead,
    body: Vec<u8>,
    path: PathBuf,
}

/// Unpacks blocks, one after another, into room that it keeps.
#[derive(Default)]
pub struct Unpacker {
    decompressor: Option<zstd::bulk::Decompressor<'static>>,
    room: Vec<u8>,
}

/// The blocks of a segment that a search must look at.
#[derive(Debug, Default)]
pub struct Candidates {
    /// In their order.
    pub places: Vec<BlockPlace>,
    /// The newest time of all blocks, in nanoseconds since 1970.
    pub reached: Option<i64>,
    /// What follows cannot be read.
    pub is_damaged: bool,
}

impl PackedBlock {
    /// The time of its last line, in nanoseconds since 1970.
    pub fn last(&self) -> i64 {
        self.head.last
    }

    /// What is said when it cannot be read.
    pub fn damaged(&self) -> DamagedSegment {
        DamagedSegment { path: self.path.clone() }
    }

    /// The encoded lines, as [`Block::decode`] and `EncodedBlock` take them.
    ///
    /// # Errors
    /// When it is damaged.
    pub fn unpack<'a>(&self, unpacker: &'a mut Unpacker) -> Result<&'a [u8], DamagedSegment> {
        let damaged = || self.damaged();
        if !self.head.is_whole(&self.body) {
            return Err(damaged());
        }
        let size = zstd::zstd_safe::get_frame_content_size(&self.body).ok().flatten();
        let size = size.filter(|size| *size <= MOST_UNPACKED).ok_or_else(damaged)?;
        let size = usize::try_from(size).map_err(|_| damaged())?;
        let Unpacker { decompressor, room } = unpacker;
        let decompressor = match decompressor {
            Some(decompressor) => decompressor,
            none => none.insert(zstd::bulk::Decompressor::new().map_err(|_| damaged())?),
        };
        if room.len() < size {
            room.resize(size, 0);
        }
        let written = decompressor.decompress_to_buffer(&self.body, &mut room[..size]);
        written.map(|written| &room[..written]).map_err(|_| damaged())
    }

    /// Its lines.
    ///
    /// # Errors
    /// When it is damaged.
    pub fn block(&self, unpacker: &mut Unpacker) -> Result<Block, DamagedSegment> {
        Block::decode(self.unpack(unpacker)?).map_err(|_| self.damaged())
    }
}

/// Reads one segment, block by block.
pub struct Reader {
    file: File,
    path: PathBuf,
    head: Vec<u8>,
    at: u64,
    length: u64,
    /// The blocks with the newest lines of those that were come by.
    newest: Vec<BlockPlace>,
    unpacker: Unpacker,
}

/// A block and its filter as they follow each other.
struct Found {
    /// The block's own head.
    head: u64,
    /// The filter's head, and where its body is.
    filter: Option<(RecordHead, u64)>,
    first: i64,
    last: i64,
    /// Where the next block begins.
    end: u64,
}

impl Reader {
    /// Opens a segment.
    ///
    /// # Errors
    /// When it cannot be read or is none.
    pub fn open(path: &Path) -> io::Result<Self> {
        let file = File::open(path)?;
        let length = file.metadata()?.len();
        let mut head = vec![0; usize::try_from(FIRST_RECORD).unwrap_or(0)];
        file.read_exact_at(&mut head, 0)?;
        if !head.starts_with(MAGIC) {
            return Err(io::Error::new(io::ErrorKind::InvalidData, "it is not a segment of kept lines"));
        }
        let (newest, unpacker) = (Vec::new(), Unpacker::default());
        Ok(Self { file, path: path.to_owned(), head, at: FIRST_RECORD, length, newest, unpacker })
    }

    /// The container's id.
    pub fn id(&self) -> &str {
        let id = &self.head[MAGIC.len()..];
        let end = id.iter().position(|&b| b == 0).unwrap_or(id.len());
        std::str::from_utf8(&id[..end]).unwrap_or_default()
    }

    /// What is before the first block.
    pub(super) fn head(&self) -> &[u8] {
        &self.head
    }

    /// Where the next block begins.
    pub(super) fn position(&self) -> u64 {
        self.at
    }

    /// What is said when something in it cannot be read.
    pub fn damaged(&self) -> DamagedSegment {
        DamagedSegment { path: self.path.clone() }
    }

    fn head_at(&self, at: u64) -> Option<RecordHead> {
        let mut head = [0u8; RECORD_HEAD];
        if at + RECORD_HEAD as u64 > self.length || self.file.read_exact_at(&mut head, at).is_err() {
            return None;
        }
        Some(RecordHead::read(&head))
    }

    /// The block that begins at a place; `None` at the end, which is also where a block was cut by a crash.
    fn found_at(&self, at: u64) -> Option<Result<Found, DamagedSegment>> {
        const HEAD: u64 = RECORD_HEAD as u64;
        let record = self.head_at(at)?;
        let (first, last) = (record.first, record.last);
        if record.body > MOST_BODY {
            return Some(Err(self.damaged()));
        }
        let found = match record.mark {
            BLOCK_MARK => {
                Found { head: at, filter: None, first, last, end: at + HEAD + u64::from(record.body) }
            }
            FILTER_MARK if record.more <= MOST_BODY => {
                let head = at + HEAD + u64::from(record.body);
                let end = head + HEAD + u64::from(record.more);
                Found { head, filter: Some((record, at + HEAD)), first, last, end }
            }
            // Where the next block begins is not known any more.
            _ => return Some(Err(self.damaged())),
        };
        (found.end <= self.length).then_some(Ok(found))
    }

    /// Whether a block may have what is asked for.
    fn may_match(&self, found: &Found, query: &Query) -> bool {
        let Some((head, at)) = found.filter.filter(|_| query.is_useful()) else { return true };
        let mut filter = vec![0; head.body as usize];
        if self.file.read_exact_at(&mut filter, at).is_err() || !head.is_whole(&filter) {
            return true;
        }
        query.may_match(&filter)
    }

    fn packed(&self, found: &Found) -> Result<PackedBlock, DamagedSegment> {
        let head = self.head_at(found.head).filter(|head| head.mark == BLOCK_MARK);
        let head = head.ok_or_else(|| self.damaged())?;
        let start = found.head + RECORD_HEAD as u64;
        if start + u64::from(head.body) != found.end {
            return Err(self.damaged());
        }
        let mut body = vec![0; head.body as usize];
        self.file.read_exact_at(&mut body, start).map_err(|_| self.damaged())?;
        Ok(PackedBlock { head, body, path: self.path.clone() })
    }

    /// Where all blocks are, from the beginning to the first that cannot be read.
    pub fn places(&self) -> Vec<BlockPlace> {
        let mut places = Vec::new();
        let mut at = FIRST_RECORD;
        while let Some(Ok(found)) = self.found_at(at) {
            places.push(BlockPlace { at, first: found.first, last: found.last });
            at = found.end;
        }
        places
    }

    /// The block at one of [`Reader::places`], if it may have what is asked for; `None` when it has not, or is damaged.
    pub fn block_at(&mut self, place: &BlockPlace, query: &Query) -> Option<Block> {
        let found = self.found_at(place.at)?.ok()?;
        if !self.may_match(&found, query) {
            return None;
        }
        self.packed(&found).ok()?.block(&mut self.unpacker).ok()
    }

    /// Whether the block at a place may have what is asked for.
    pub fn may_have(&self, place: &BlockPlace, query: &Query) -> bool {
        self.found_at(place.at).and_then(Result::ok).is_none_or(|found| self.may_match(&found, query))
    }

    /// The block at an offset, still compressed.
    ///
    /// # Errors
    /// When it cannot be read.
    pub fn packed_at(&self, place: &BlockPlace) -> Result<PackedBlock, DamagedSegment> {
        let found = self.found_at(place.at).ok_or_else(|| self.damaged())??;
        self.packed(&found)
    }

    /// The blocks that may have lines from `from` to `to` and what is asked for. None is unpacked for that.
    pub fn candidates(&mut self, (from, to): (i64, i64), query: &Query) -> Candidates {
        let mut candidates = Candidates::default();
        while let Some(found) = self.found_at(self.at) {
            let Ok(found) = found else {
                candidates.is_damaged = true;
                self.at = self.length;
                break;
            };
            let place = self.pass(&found);
            if found.last >= from && found.first <= to && self.may_match(&found, query) {
                candidates.places.push(place);
            }
        }
        candidates.reached = self.newest.first().map(|place| place.last);
        candidates
    }

    /// Goes on to the next block.
    fn pass(&mut self, found: &Found) -> BlockPlace {
        let place = BlockPlace { at: self.at, first: found.first, last: found.last };
        let newest = self.newest.first().map_or(i64::MIN, |place| place.last);
        if found.last > newest {
            self.newest.clear();
        }
        if found.last >= newest {
            self.newest.push(place);
        }
        self.at = found.end;
        place
    }

    /// The last line of the blocks that were come by, also of those that were skipped.
    pub fn last_line(&mut self) -> Option<Last> {
        let mut last = None;
        for place in self.newest.clone() {
            if let Some(block) = self.block_at(&place, &Query::Anything) {
                block.metas.iter().filter_map(|m| m.nanos).for_each(|n| Last::count(&mut last, n));
            }
        }
        last
    }

    /// The next block that may have lines from `from` to `to`; others are skipped unread. `None` at the end, which is
    /// also where a block was cut by a crash.
    pub fn next(&mut self, from: i64, to: i64) -> Option<Result<Block, DamagedSegment>> {
        loop {
            let found = match self.found_at(self.at)? {
                Ok(found) => found,
                Err(damaged) => {
                    self.at = self.length;
                    return Some(Err(damaged));
                }
            };
            self.pass(&found);
            if found.last >= from && found.first <= to {
                let packed = self.packed(&found);
                return Some(packed.and_then(|packed| packed.block(&mut self.unpacker)));
            }
        }
    }
}
