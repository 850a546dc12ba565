//! Kept log lines: segments on disk, one folder for each container's name on each host.
//!
//! A segment is a file that only grows. It begins with [`MAGIC`] and the container's id, then come blocks:
//!
//! ```text
//! u32  mark of a block, 0x4b4c4247
//! u32  bytes packed        u32  lines
//! i64  first time          i64  last time      nanoseconds since 1970
//! u32  CRC-32 of the packed bytes and the three fields before them
//! …    the block of lines (gubernum_core::logs::block), zstd
//! ```
//!
//! A block that was cut by a crash is cut off when the segment is opened to be written; one that is
//! damaged is skipped by readers, and they say so. Lines that were not written yet are read from the
//! engine again: [`Writer::last`] says from where on.

use std::fs::{File, OpenOptions};
use std::io::{self, Read, Seek, SeekFrom, Write};
use std::os::unix::fs::{DirBuilderExt, OpenOptionsExt};
use std::path::{Path, PathBuf};

use gubernum_core::logs::LogLine;
use gubernum_core::logs::block::Block;

const MAGIC: &[u8; 8] = b"GUBLOG1\n";
/// The container's id, filled with zeros.
const ID_BYTES: usize = 64;
const HEAD: u64 = (MAGIC.len() + ID_BYTES) as u64;
const MARK: u32 = 0x4b4c_4247;
const BLOCK_HEAD: usize = 4 + 4 + 4 + 8 + 8 + 4;
/// A block is written when its texts reach this.
pub const BLOCK_TEXT: usize = 256 * 1024;
/// No block is larger when packed: a damaged length asks for no more memory.
const MOST_PACKED: u32 = 64 * 1024 * 1024;
/// A segment ends when it reaches this many bytes, or has been open for a day of its lines' time.
const SEGMENT_BYTES: u64 = 16 * 1024 * 1024;
const SEGMENT_NANOS: i64 = 86_400_000_000_000;
/// Texts compress about as well from here on, and faster.
const ZSTD_LEVEL: i32 = 3;
/// Small blocks of a finished segment are put together when they are smaller than this on average.
const SMALL_BLOCK: u64 = 24 * 1024;

/// One segment.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Segment {
    /// Its file.
    pub path: PathBuf,
    /// The time of its first line, which its name tells.
    pub first: i64,
    /// Its bytes.
    pub bytes: u64,
    /// Where it ends at the latest: when its file was last written, in nanoseconds since 1970.
    pub written: i64,
}

/// The folder of all kept lines.
#[derive(Debug, Clone)]
pub struct Segments {
    root: PathBuf,
}

impl Segments {
    /// In this folder, which is made when the first line is kept.
    pub fn new(root: &Path) -> Self {
        Self { root: root.to_owned() }
    }

    /// The folder of one container's name. Names have no separators in them; what else a file system
    /// might not like is written out.
    fn folder(&self, host: &str, name: &str) -> PathBuf {
        self.root.join(file_name(host)).join(file_name(name))
    }

    /// All containers of which lines are kept, as host and name.
    pub fn containers(&self) -> Vec<(String, String)> {
        let mut all = Vec::new();
        for host in folders(&self.root) {
            for name in folders(&self.root.join(&host)) {
                if let (Some(host), Some(name)) = (plain_name(&host), plain_name(&name)) {
                    all.push((host, name));
                }
            }
        }
        all.sort();
        all
    }

    /// The segments of a container's name, oldest first.
    pub fn of(&self, host: &str, name: &str) -> Vec<Segment> {
        let mut all: Vec<Segment> = std::fs::read_dir(self.folder(host, name))
            .into_iter()
            .flatten()
            .filter_map(|entry| {
                let path = entry.ok()?.path();
                let first = path.file_name()?.to_str()?.strip_suffix(".log")?.parse().ok()?;
                let data = path.metadata().ok()?;
                let written = data.modified().ok()?.duration_since(std::time::UNIX_EPOCH).ok()?;
                let written = i64::try_from(written.as_nanos()).unwrap_or(i64::MAX);
                Some(Segment { path, first, bytes: data.len(), written })
            })
            .collect();
        all.sort_by_key(|s| s.first);
        all
    }

    /// Bytes of all segments of a container's name.
    pub fn bytes(&self, host: &str, name: &str) -> u64 {
        self.of(host, name).iter().map(|s| s.bytes).sum()
    }

    /// Lets a segment go; its folder too when it was the last.
    ///
    /// # Errors
    /// When the file system refuses.
    pub fn remove(&self, segment: &Segment) -> io::Result<()> {
        std::fs::remove_file(&segment.path)?;
        if let Some(folder) = segment.path.parent()
            && std::fs::remove_dir(folder).is_ok()
            && let Some(host) = folder.parent()
        {
            let _ = std::fs::remove_dir(host);
        }
        Ok(())
    }

    /// Opens a container's lines to be written on; goes on with the last segment when it is of the same
    /// container.
    ///
    /// # Errors
    /// When the file system refuses.
    pub fn write(&self, host: &str, name: &str, id: &str) -> io::Result<Writer> {
        let folder = self.folder(host, name);
        std::fs::DirBuilder::new().recursive(true).mode(0o700).create(&folder)?;
        let mut writer =
            Writer { folder, id: id.to_owned(), file: None, block: Block::default(), last: None };
        let mut all = self.of(host, name);
        if let Some(newest) = all.pop() {
            writer.go_on(&newest)?;
        }
        // After a rollback the container has lines in an earlier segment: they are not copied again.
        if writer.file.is_none() {
            writer.last = all.iter().rev().find_map(|segment| last_of(segment, id));
        }
        Ok(writer)
    }
}

/// The last line of a segment, if it is of this container.
fn last_of(segment: &Segment, id: &str) -> Option<Last> {
    let mut reader = Reader::open(&segment.path).ok()?;
    if reader.id() != id {
        return None;
    }
    let mut last = None;
    let places = reader.places();
    let newest = places.iter().map(|p| p.last).max()?;
    for place in places.iter().filter(|p| p.last == newest) {
        if let Some(block) = reader.block_at(place) {
            block.metas.iter().filter_map(|m| m.nanos).for_each(|n| Last::count(&mut last, n));
        }
    }
    last
}

fn folders(path: &Path) -> Vec<String> {
    let entries = std::fs::read_dir(path).into_iter().flatten().flatten();
    entries.filter(|e| e.path().is_dir()).filter_map(|e| e.file_name().into_string().ok()).collect()
}

/// A leading dot or a percent sign is written as `%2E` and `%25`.
fn file_name(name: &str) -> String {
    let name = name.replace('%', "%25").replace('/', "%2F");
    match name.strip_prefix('.') {
        Some(rest) => format!("%2E{rest}"),
        None => name,
    }
}

fn plain_name(file: &str) -> Option<String> {
    (!file.starts_with('.')).then(|| file.replace("%2E", ".").replace("%2F", "/").replace("%25", "%"))
}

/// The last line that is kept: its time, and how many lines of that very time there are.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Last {
    /// Nanoseconds since 1970.
    pub nanos: i64,
    /// Lines of that time.
    pub count: u32,
}

impl Last {
    /// Counts a line of this time; one that is earlier than the last is passed over.
    pub fn count(last: &mut Option<Self>, nanos: i64) {
        match last {
            Some(l) if l.nanos == nanos => l.count += 1,
            Some(l) if l.nanos > nanos => {}
            _ => *last = Some(Self { nanos, count: 1 }),
        }
    }
}

/// Writes one container's lines.
pub struct Writer {
    folder: PathBuf,
    id: String,
    file: Option<Open>,
    block: Block,
    last: Option<Last>,
}

struct Open {
    file: File,
    path: PathBuf,
    bytes: u64,
    first: i64,
    blocks: u64,
}

impl Writer {
    /// The last line that is on disk, of this very container.
    pub fn last(&self) -> Option<Last> {
        self.last
    }

    fn go_on(&mut self, segment: &Segment) -> io::Result<()> {
        let mut reader = Reader::open(&segment.path)?;
        if reader.id() != self.id {
            return Ok(());
        }
        let mut blocks = 0;
        let mut whole = HEAD;
        let mut newest: Option<Last> = None;
        while let Some(block) = reader.next(i64::MIN, i64::MAX) {
            // A damaged block in the middle stays; one at the end is cut off below.
            let Ok(block) = block else { continue };
            blocks += 1;
            whole = reader.at;
            block.metas.iter().filter_map(|m| m.nanos).for_each(|nanos| Last::count(&mut newest, nanos));
        }
        let file = OpenOptions::new().read(true).write(true).open(&segment.path)?;
        file.set_len(whole)?;
        let mut file = file;
        file.seek(SeekFrom::End(0))?;
        self.last = newest;
        let first = segment.first;
        self.file = Some(Open { file, path: segment.path.clone(), bytes: whole, first, blocks });
        Ok(())
    }

    /// Takes a line. It is on disk after [`Writer::flush`], which comes by itself when enough has gathered.
    ///
    /// # Errors
    /// When the file system refuses; the lines that wait are kept for another try.
    pub fn push(&mut self, line: &LogLine) -> io::Result<()> {
        self.block.push(line);
        if self.block.text.len() >= BLOCK_TEXT { self.flush() } else { Ok(()) }
    }

    /// Whether lines wait to be written.
    pub fn is_waiting(&self) -> bool {
        !self.block.is_empty()
    }

    /// Writes what waits.
    ///
    /// # Errors
    /// When the file system refuses; the lines that wait are kept for another try.
    pub fn flush(&mut self) -> io::Result<()> {
        if self.block.is_empty() {
            return Ok(());
        }
        let before = self.last.map_or(0, |l| l.nanos);
        let (first, last) = self.block.span().unwrap_or((before, before));
        let full =
            self.file.as_ref().is_some_and(|f| f.bytes >= SEGMENT_BYTES || last - f.first >= SEGMENT_NANOS);
        if full && let Some(done) = self.file.take() {
            finish(&done);
        }
        if self.file.is_none() {
            self.file = Some(begin(&self.folder, &self.id, first)?);
        }
        let Some(open) = &mut self.file else { return Ok(()) };
        let packed = pack(&self.block, first, last)?;
        if let Err(e) = open.file.write_all(&packed) {
            // Half a block is none.
            let _ = open.file.set_len(open.bytes);
            let _ = open.file.seek(SeekFrom::Start(open.bytes));
            return Err(e);
        }
        open.bytes += packed.len() as u64;
        open.blocks += 1;
        for nanos in self.block.metas.iter().filter_map(|m| m.nanos) {
            Last::count(&mut self.last, nanos);
        }
        self.block = Block::default();
        Ok(())
    }
}

impl Drop for Writer {
    fn drop(&mut self) {
        // What cannot be written now is read from the engine again.
        let _ = self.flush();
    }
}

fn begin(folder: &Path, id: &str, first: i64) -> io::Result<Open> {
    let mut name = first;
    loop {
        let path = folder.join(format!("{name:019}.log"));
        let opened = OpenOptions::new().read(true).write(true).create_new(true).mode(0o600).open(&path);
        match opened {
            Err(e) if e.kind() == io::ErrorKind::AlreadyExists => name += 1,
            Err(e) => return Err(e),
            Ok(mut file) => {
                let mut head = MAGIC.to_vec();
                head.extend(id.bytes().take(ID_BYTES));
                head.resize(usize::try_from(HEAD).unwrap_or(0), 0);
                file.write_all(&head)?;
                return Ok(Open { file, path, bytes: HEAD, first: name, blocks: 0 });
            }
        }
    }
}

fn pack(block: &Block, first: i64, last: i64) -> io::Result<Vec<u8>> {
    let packed = zstd::bulk::compress(&block.encode(), ZSTD_LEVEL)?;
    let mut out = Vec::with_capacity(packed.len() + BLOCK_HEAD);
    out.extend_from_slice(&MARK.to_le_bytes());
    out.extend_from_slice(&u32::try_from(packed.len()).unwrap_or(u32::MAX).to_le_bytes());
    let fields = out.len();
    out.extend_from_slice(&u32::try_from(block.metas.len()).unwrap_or(u32::MAX).to_le_bytes());
    out.extend_from_slice(&first.to_le_bytes());
    out.extend_from_slice(&last.to_le_bytes());
    let mut sum = crc32fast::Hasher::new();
    sum.update(&out[fields..]);
    sum.update(&packed);
    out.extend_from_slice(&sum.finalize().to_le_bytes());
    out.extend_from_slice(&packed);
    Ok(out)
}

/// Puts the small blocks of a finished segment together, in a new file that takes the old one's place.
/// When that fails the segment stays as it is.
fn finish(done: &Open) {
    if done.blocks < 2 || done.bytes / done.blocks >= SMALL_BLOCK {
        return;
    }
    let aside = done.path.with_extension("new");
    let rewrite = || -> io::Result<()> {
        let mut reader = Reader::open(&done.path)?;
        let mut out = OpenOptions::new().write(true).create(true).truncate(true).mode(0o600).open(&aside)?;
        out.write_all(&reader.head)?;
        let mut joined = Block::default();
        let mut put = |block: &mut Block| -> io::Result<()> {
            let (first, last) = block.span().unwrap_or((done.first, done.first));
            out.write_all(&pack(block, first, last)?)?;
            *block = Block::default();
            Ok(())
        };
        while let Some(block) = reader.next(i64::MIN, i64::MAX) {
            let block = block.map_err(|_| io::Error::other("damaged"))?;
            (0..block.metas.len()).filter_map(|n| block.line(n)).for_each(|l| joined.push(&l));
            if joined.text.len() >= BLOCK_TEXT {
                put(&mut joined)?;
            }
        }
        if !joined.is_empty() {
            put(&mut joined)?;
        }
        out.sync_all()?;
        std::fs::rename(&aside, &done.path)
    };
    if rewrite().is_err() {
        let _ = std::fs::remove_file(&aside);
    }
}

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
    at: u64,
    /// The first, in nanoseconds since 1970.
    pub first: i64,
    /// The last.
    pub last: i64,
}

/// The fields before a block's packed bytes.
struct BlockHead {
    mark: u32,
    packed: u32,
    first: i64,
    last: i64,
    sum: u32,
}

impl BlockHead {
    fn read(head: &[u8; BLOCK_HEAD]) -> Self {
        let word = |at: usize| u32::from_le_bytes([head[at], head[at + 1], head[at + 2], head[at + 3]]);
        let long = |at: usize| {
            let mut bytes = [0; 8];
            bytes.copy_from_slice(&head[at..at + 8]);
            i64::from_le_bytes(bytes)
        };
        Self { mark: word(0), packed: word(4), first: long(12), last: long(20), sum: word(28) }
    }
}

/// Reads one segment, block by block.
pub struct Reader {
    file: io::BufReader<File>,
    path: PathBuf,
    head: Vec<u8>,
    at: u64,
    length: u64,
}

impl Reader {
    /// Opens a segment.
    ///
    /// # Errors
    /// When it cannot be read or is none.
    pub fn open(path: &Path) -> io::Result<Self> {
        let file = File::open(path)?;
        let length = file.metadata()?.len();
        let mut file = io::BufReader::with_capacity(256 * 1024, file);
        let mut head = vec![0; usize::try_from(HEAD).unwrap_or(0)];
        file.read_exact(&mut head)?;
        if !head.starts_with(MAGIC) {
            return Err(io::Error::new(io::ErrorKind::InvalidData, "it is not a segment of kept lines"));
        }
        Ok(Self { file, path: path.to_owned(), head, at: HEAD, length })
    }

    /// The container's id.
    pub fn id(&self) -> &str {
        let id = &self.head[MAGIC.len()..];
        let end = id.iter().position(|&b| b == 0).unwrap_or(id.len());
        std::str::from_utf8(&id[..end]).unwrap_or_default()
    }

    /// Where all blocks are, from the beginning to the first that cannot be read. The reader begins anew after this.
    pub fn places(&mut self) -> Vec<BlockPlace> {
        let mut places = Vec::new();
        let mut at = HEAD;
        while at + BLOCK_HEAD as u64 <= self.length {
            let mut head = [0u8; BLOCK_HEAD];
            if self.file.seek(SeekFrom::Start(at)).is_err() || self.file.read_exact(&mut head).is_err() {
                break;
            }
            let head = BlockHead::read(&head);
            let end = at + BLOCK_HEAD as u64 + u64::from(head.packed);
            if head.mark != MARK || head.packed > MOST_PACKED || end > self.length {
                break;
            }
            places.push(BlockPlace { at, first: head.first, last: head.last });
            at = end;
        }
        self.at = HEAD;
        let _ = self.file.seek(SeekFrom::Start(HEAD));
        places
    }

    /// The block at one of [`Reader::places`]; `None` when it is damaged.
    pub fn block_at(&mut self, place: &BlockPlace) -> Option<Block> {
        self.file.seek(SeekFrom::Start(place.at)).ok()?;
        self.at = place.at;
        self.next(i64::MIN, i64::MAX)?.ok()
    }

    /// The next block that may have lines from `from` to `to`; others are passed over unread. `None` at the
    /// end, which is also where a block was cut by a crash.
    pub fn next(&mut self, from: i64, to: i64) -> Option<Result<Block, DamagedSegment>> {
        loop {
            let mut head = [0u8; BLOCK_HEAD];
            if self.at + BLOCK_HEAD as u64 > self.length || self.file.read_exact(&mut head).is_err() {
                return None;
            }
            let BlockHead { mark, packed, first, last, sum: told } = BlockHead::read(&head);
            let end = self.at + BLOCK_HEAD as u64 + u64::from(packed);
            if mark != MARK || packed > MOST_PACKED {
                // Where the next block begins is not known any more.
                self.at = self.length;
                return Some(Err(DamagedSegment { path: self.path.clone() }));
            }
            if end > self.length {
                return None;
            }
            self.at = end;
            if last < from || first > to {
                if self.file.seek_relative(i64::from(packed)).is_err() {
                    return None;
                }
                continue;
            }
            let mut body = vec![0; packed as usize];
            if self.file.read_exact(&mut body).is_err() {
                return None;
            }
            let mut sum = crc32fast::Hasher::new();
            sum.update(&head[8..28]);
            sum.update(&body);
            let damaged = || DamagedSegment { path: self.path.clone() };
            if sum.finalize() != told {
                return Some(Err(damaged()));
            }
            let unpacked = zstd::stream::decode_all(&body[..]).map_err(|_| damaged());
            return Some(unpacked.and_then(|bytes| Block::decode(&bytes).map_err(|_| damaged())));
        }
    }
}

#[cfg(test)]
#[path = "segments_tests.rs"]
mod tests;
