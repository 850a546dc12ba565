//! Kept log lines: segments on disk, one folder for each container's name on each host.
//!
//! A segment is a file that only grows. It begins with `GUBLOG1` and a line feed and the container's id in 64 bytes, then
//! come records:
//!
//! ```text
//! u32  mark: 0x4b4c4247 of a block, 0x494c4247 of the filter of the block that follows it
//! u32  bytes of the body
//! u32  of a block: lines; of a filter: bytes of the block's body
//! i64  first time of the block      i64  last time      nanoseconds since 1970
//! u32  CRC-32 of the body after the three fields before this one
//! …    of a block: its lines (gubernum_core::logs::block), zstd; of a filter: gubernum_core::logs::index
//! ```
//!
//! Blocks of the first releases, and very small ones, have no filter. A block that was cut by a crash is cut off when the
//! segment is opened to be written; one that is damaged is skipped by readers, and they say so; a damaged filter only
//! rules nothing out. Lines that were not written yet are read from the engine again: [`Writer::last`] says from where on.
//!
//! Writing is in `writer`, reading in `reader`, the records in `record`.

mod reader;
mod record;
mod writer;

use std::io;
use std::os::unix::fs::DirBuilderExt;
use std::path::{Path, PathBuf};

pub use reader::{BlockPlace, Candidates, DamagedSegment, PackedBlock, Reader, Unpacker};
pub use writer::{BLOCK_TEXT, Writer};

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
    pub fn list(&self, host: &str, name: &str) -> Vec<Segment> {
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
        self.list(host, name).iter().map(|s| s.bytes).sum()
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

    /// Opens a container's lines to be written on; resumes the last segment when it is of the same
    /// container.
    ///
    /// # Errors
    /// When the file system refuses.
    pub fn write(&self, host: &str, name: &str, id: &str) -> io::Result<Writer> {
        let folder = self.folder(host, name);
        std::fs::DirBuilder::new().recursive(true).mode(0o700).create(&folder)?;
        Writer::open(folder, id, self.list(host, name))
    }
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
    /// Counts a line of this time; one that is earlier than the last is skipped.
    pub fn count(last: &mut Option<Self>, nanos: i64) {
        match last {
            Some(l) if l.nanos == nanos => l.count += 1,
            Some(l) if l.nanos > nanos => {}
            _ => *last = Some(Self { nanos, count: 1 }),
        }
    }
}

#[cfg(test)]
mod tests;
