//! Writes kept lines: gathered into blocks, in segments of bounded size and time.

use std::fs::{File, OpenOptions};
use std::io::{self, Seek, SeekFrom, Write};
use std::os::unix::fs::OpenOptionsExt;
use std::path::{Path, PathBuf};

use gubernum_core::logs::LogLine;
use gubernum_core::logs::block::Block;
use gubernum_core::logs::index::Query;

use super::record::{FIRST_RECORD, ID_BYTES, MAGIC, pack};
use super::{Last, Reader, Segment};

/// A block is written when its texts reach this. Smaller ones pack less well, larger ones are unpacked for one line.
pub const BLOCK_TEXT: usize = 64 * 1024;
/// A segment ends when it reaches this many bytes, or has been open for a day of its lines' time.
const SEGMENT_BYTES: u64 = 16 * 1024 * 1024;
pub(super) const SEGMENT_NANOS: i64 = 86_400_000_000_000;
/// Small blocks of a finished segment are put together when they are smaller than this on average.
const SMALL_BLOCK: u64 = 6 * 1024;

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

    /// Resumes the last of these segments when it is of the same container.
    pub(super) fn open(folder: PathBuf, id: &str, mut segments: Vec<Segment>) -> io::Result<Self> {
        let mut writer = Self { folder, id: id.to_owned(), file: None, block: Block::default(), last: None };
        if let Some(newest) = segments.pop() {
            writer.resume(&newest)?;
        }
        // After a rollback the container has lines in an earlier segment: they are not copied again.
        if writer.file.is_none() {
            writer.last = segments.iter().rev().find_map(|segment| last_of(segment, id));
        }
        Ok(writer)
    }

    fn resume(&mut self, segment: &Segment) -> io::Result<()> {
        let mut reader = Reader::open(&segment.path)?;
        if reader.id() != self.id {
            return Ok(());
        }
        let mut blocks = 0;
        let mut whole = FIRST_RECORD;
        let mut newest: Option<Last> = None;
        while let Some(block) = reader.next(i64::MIN, i64::MAX) {
            // A damaged block in the middle stays; one at the end is cut off below.
            let Ok(block) = block else { continue };
            blocks += 1;
            whole = reader.position();
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
                head.resize(usize::try_from(FIRST_RECORD).unwrap_or(0), 0);
                file.write_all(&head)?;
                return Ok(Open { file, path, bytes: FIRST_RECORD, first: name, blocks: 0 });
            }
        }
    }
}

/// The last line of a segment, if it is of this container.
fn last_of(segment: &Segment, id: &str) -> Option<Last> {
    let mut reader = Reader::open(&segment.path).ok()?;
    if reader.id() != id {
        return None;
    }
    reader.candidates((i64::MAX, i64::MIN), &Query::Anything);
    reader.last_line()
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
        out.write_all(reader.head())?;
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
