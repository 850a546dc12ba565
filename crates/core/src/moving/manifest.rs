//! The contents of a volume as digests: enough to tell what changed between two passes of a copy, and whether a copy
//! is the same.
//!
//! Each file is one entry: how it is told (owner, times), and what it is (kind, mode, content). The second is what a copy is
//! held against; engines do not all tell owners, so those are not part of it. Nothing here reads an archive.

use std::collections::HashMap;

/// The most entries that are remembered; of a volume with more only the sum is known, and all of it is sent again.
pub const MOST_ENTRIES: usize = 1_000_000;
/// A file written within this many seconds of a pass may have changed unnoticed after it was read: times are told in
/// whole seconds.
const SAME_MOMENT: i64 = 2;

/// A digest: the first half of a BLAKE3.
type Digest = [u8; 16];

/// What a file is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum EntryKind {
    /// With content.
    File,
    /// A folder.
    Folder,
    /// A symbolic link.
    Link,
    /// A second name of a file that came before.
    HardLink,
    /// A pipe or a device.
    Special,
}

/// One file of a volume, without its content.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Entry {
    /// Its path in the volume.
    pub path: Vec<u8>,
    /// Whether it was added, removed or is context.
    pub kind: EntryKind,
    /// Permissions.
    pub mode: u32,
    /// The number of its user.
    pub user: u64,
    /// The number of its group.
    pub group: u64,
    /// When it was last written, in seconds since 1970.
    pub modified: i64,
    /// Bytes of its content.
    pub size: u64,
    /// Where it leads, or the file that it is another name of.
    pub link: Vec<u8>,
    /// Its extended attributes, in any form that is always the same.
    pub attributes: Vec<u8>,
}

/// What is known of one file.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
struct Known {
    told: Digest,
    content: Digest,
    modified: i64,
    is_folder: bool,
}

/// What is in a volume.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Manifest {
    entries: HashMap<Digest, Known>,
    /// All contents with their paths, added up: the order in which engines tell files does not matter.
    sum: u128,
    /// How many files it has, folders and links among them.
    pub files: u64,
    /// Bytes of their contents.
    pub bytes: u64,
    hard_links: bool,
    too_many: bool,
}

/// The digest of content, fed piece by piece.
#[derive(Default)]
pub struct Content(blake3::Hasher);

impl Content {
    /// Takes the next bytes.
    pub fn update(&mut self, bytes: &[u8]) {
        self.0.update(bytes);
    }

    fn digest(&self) -> Digest {
        half(&self.0.finalize())
    }
}

fn half(hash: &blake3::Hash) -> Digest {
    let mut digest = [0; 16];
    digest.copy_from_slice(&hash.as_bytes()[..16]);
    digest
}

fn digest(parts: &[&[u8]]) -> Digest {
    let mut hasher = blake3::Hasher::new();
    for part in parts {
        hasher.update(&(part.len() as u64).to_le_bytes());
        hasher.update(part);
    }
    half(&hasher.finalize())
}

/// A path without the `./` that some tell and others do not.
fn bare(path: &[u8]) -> &[u8] {
    let mut path = path;
    while let Some(rest) = path.strip_prefix(b"./").or_else(|| path.strip_prefix(b"/")) {
        path = rest;
    }
    path.strip_suffix(b"/").unwrap_or(path)
}

fn told(entry: &Entry) -> Digest {
    digest(&[
        &[entry.kind as u8],
        &entry.mode.to_le_bytes(),
        &entry.user.to_le_bytes(),
        &entry.group.to_le_bytes(),
        &entry.modified.to_le_bytes(),
        &entry.size.to_le_bytes(),
        &entry.link,
        &entry.attributes,
    ])
}

impl Manifest {
    /// Adds a file with the digest of its content.
    pub fn add(&mut self, entry: &Entry, content: &Content) {
        let path = digest(&[bare(&entry.path)]);
        let linked = digest(&[bare(&entry.link)]);
        let what = match entry.kind {
            // A second name is as good as a file of its own: which of the two an engine tells first is its choice.
            EntryKind::HardLink => {
                self.hard_links = true;
                self.entries.get(&linked).map_or([0; 16], |first| first.content)
            }
            EntryKind::Link => digest(&[b"link", &entry.link]),
            // Folders of two engines need not have the same size.
            EntryKind::Folder => digest(&[b"folder", &(entry.mode & 0o7777).to_le_bytes()]),
            EntryKind::Special => digest(&[b"special", &(entry.mode & 0o7777).to_le_bytes()]),
            EntryKind::File => digest(&[b"file", &(entry.mode & 0o7777).to_le_bytes(), &content.digest()]),
        };
        let at_path = u128::from_le_bytes(digest(&[&path, &what]));
        // The top folder is reported by some engines only.
        let is_top = matches!(bare(&entry.path), b"" | b".");
        if !is_top {
            self.sum = self.sum.wrapping_add(at_path);
            self.files += 1;
            self.bytes += if entry.kind == EntryKind::File { entry.size } else { 0 };
        }
        if self.entries.len() >= MOST_ENTRIES {
            self.too_many = true;
            return;
        }
        let is_folder = entry.kind == EntryKind::Folder;
        let known = Known { told: told(entry), content: what, modified: entry.modified, is_folder };
        self.entries.insert(path, known);
    }

    /// Whether a copy holds the same: names, kinds, permissions and contents.
    pub fn is_same(&self, copy: &Self) -> bool {
        (self.sum, self.files, self.bytes) == (copy.sum, copy.files, copy.bytes)
    }

    /// Whether a second pass can send less than everything. Hard links are lost when one of the names is rewritten.
    pub fn allows_less(&self) -> bool {
        !self.hard_links && !self.too_many
    }

    /// Whether all that is told of a file is as it was.
    pub fn is_told(&self, entry: &Entry) -> bool {
        self.entries.get(&digest(&[bare(&entry.path)])).is_some_and(|known| known.told == told(entry))
    }

    /// Whether a file need not be sent again, from what is told of it alone. `began` is when the first pass began, in seconds
    /// since 1970. What is told may be the same and the content another: whoever skips it compares afterwards
    /// ([`Self::is_content`]).
    pub fn is_known(&self, entry: &Entry, began: i64) -> bool {
        let known = self.entries.get(&digest(&[bare(&entry.path)]));
        known.is_some_and(|k| k.told == told(entry) && k.modified < began - SAME_MOMENT)
    }

    /// Whether a file has the content that it had.
    pub fn is_content(&self, entry: &Entry, content: &Content) -> bool {
        let known = self.entries.get(&digest(&[bare(&entry.path)]));
        let mut now = Self::default();
        now.add(entry, content);
        let now = now.entries.into_values().next();
        known.zip(now.as_ref()).is_some_and(|(before, now)| before.content == now.content)
    }

    /// Whether something that was there is gone in `now`, or a folder has become something else: a copy cannot be made to match by
    /// sending more.
    pub fn has_lost(&self, now: &Self) -> bool {
        let gone = |(path, known): (&Digest, &Known)| {
            now.entries.get(path).is_none_or(|there| there.is_folder != known.is_folder)
        };
        self.entries.iter().any(gone)
    }

    /// The sum in hexadecimal, as it is shown to people.
    pub fn checksum(&self) -> String {
        format!("{:032x}", self.sum)
    }
}

#[cfg(test)]
#[path = "manifest_tests.rs"]
mod tests;
