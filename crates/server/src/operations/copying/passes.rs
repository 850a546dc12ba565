//! Reads archives of volumes: each file is hashed as it passes, and in a second pass only changed files are sent on.

use std::io;

use futures_util::StreamExt;
use gubernum_core::moving::manifest::Content;
use gubernum_core::moving::{Entry, EntryKind, Manifest};
use tokio::io::{AsyncRead, AsyncReadExt, AsyncWrite};
use tokio_tar::{Archive, Builder, EntryType, Header};

/// How much is read at once.
const PIECE: usize = 64 * 1024;
/// A file up to this size is held until it is known whether it changed.
const SMALL: u64 = 1024 * 1024;
/// The most bytes of extended attributes of one file.
const MOST_ATTRIBUTES: usize = 1024 * 1024;
const ATTRIBUTE: &str = "SCHILY.xattr.";

/// What a second pass is held against.
#[derive(Clone, Copy)]
pub(super) struct Rest<'a> {
    pub(super) before: &'a Manifest,
    /// When the first pass began, in seconds since 1970.
    pub(super) began: i64,
}

/// The outcome of a second pass.
pub(super) enum Sent {
    /// With it the copy is the same.
    All(Manifest),
    /// It cannot be: files have gone, or changed without telling.
    NotEnough,
}

/// A file's extended attributes as they are in an archive.
type Attributes = Vec<(String, Vec<u8>)>;

async fn described<R: AsyncRead + Unpin>(entry: &mut tokio_tar::Entry<R>) -> io::Result<(Entry, Attributes)> {
    let mut attributes = Attributes::new();
    let mut bytes = 0;
    if let Some(extensions) = entry.pax_extensions().await? {
        for extension in extensions {
            let extension = extension?;
            let Ok(key) = extension.key() else { continue };
            if !key.starts_with(ATTRIBUTE) {
                continue;
            }
            bytes += key.len() + extension.value_bytes().len();
            if bytes > MOST_ATTRIBUTES {
                return Err(io::Error::other("a file has more than 1 MiB of extended attributes"));
            }
            attributes.push((key.to_owned(), extension.value_bytes().to_vec()));
        }
    }
    attributes.sort();
    let header = entry.header();
    let kind = match header.entry_type() {
        EntryType::Directory => EntryKind::Folder,
        EntryType::Symlink => EntryKind::Link,
        EntryType::Link => EntryKind::HardLink,
        EntryType::Fifo | EntryType::Char | EntryType::Block => EntryKind::Special,
        _ => EntryKind::File,
    };
    let is_link = matches!(kind, EntryKind::Link | EntryKind::HardLink);
    let mut extra = Vec::new();
    for (key, value) in &attributes {
        extra.extend_from_slice(&(key.len() as u64).to_le_bytes());
        extra.extend_from_slice(key.as_bytes());
        extra.extend_from_slice(&(value.len() as u64).to_le_bytes());
        extra.extend_from_slice(value);
    }
    let entry = Entry {
        path: entry.path_bytes()?.into_owned(),
        kind,
        mode: header.mode()?,
        user: header.uid()?,
        group: header.gid()?,
        modified: i64::try_from(header.mtime().unwrap_or(0)).unwrap_or(0),
        size: entry.effective_size(),
        link: if is_link {
            entry.link_name_bytes()?.map(|l| l.into_owned()).unwrap_or_default()
        } else {
            Vec::new()
        },
        attributes: extra,
    };
    Ok((entry, attributes))
}

/// Sums up an archive to its end.
pub(super) async fn sum_up(archive: impl AsyncRead + Send + Unpin) -> io::Result<Manifest> {
    let mut manifest = Manifest::default();
    let mut archive = Archive::new(archive);
    let mut entries = archive.entries()?;
    let mut piece = vec![0; PIECE];
    while let Some(entry) = entries.next().await {
        let mut entry = entry?;
        let (what, _) = described(&mut entry).await?;
        let mut content = Content::default();
        loop {
            let read = entry.read(&mut piece).await?;
            if read == 0 {
                break;
            }
            content.update(&piece[..read]);
        }
        manifest.add(&what, &content);
    }
    Ok(manifest)
}

/// Writes on what changed since the first pass; the rest is only looked at.
pub(super) async fn send_changed(
    archive: impl AsyncRead + Send + Unpin,
    out: impl AsyncWrite + Send + Unpin + 'static,
    rest: Rest<'_>,
) -> io::Result<Sent> {
    let mut now = Manifest::default();
    let mut is_enough = true;
    let mut builder = Builder::new(out);
    let mut archive = Archive::new(archive);
    let mut entries = archive.entries()?;
    let mut piece = vec![0; PIECE];
    while let Some(entry) = entries.next().await {
        let mut entry = entry?;
        let (what, attributes) = described(&mut entry).await?;
        let mut content = Content::default();
        let header = header_of(&what, entry.header());
        if what.kind == EntryKind::File && what.size <= SMALL {
            let mut held = Vec::with_capacity(usize::try_from(what.size).unwrap_or(0));
            entry.read_to_end(&mut held).await?;
            content.update(&held);
            let is_same = rest.before.is_told(&what) && rest.before.is_content(&what, &content);
            if !is_same {
                write(&mut builder, header, &what, &attributes, held.as_slice()).await?;
            }
        } else if what.kind == EntryKind::File && rest.before.is_known(&what, rest.began) {
            // Sending it is what takes the time: it is skipped on what is told of it, and compared all the same.
            loop {
                let read = entry.read(&mut piece).await?;
                if read == 0 {
                    break;
                }
                content.update(&piece[..read]);
            }
            is_enough &= rest.before.is_content(&what, &content);
        } else if what.kind == EntryKind::File {
            write(
                &mut builder,
                header,
                &what,
                &attributes,
                HashingReader { entry: &mut entry, content: &mut content },
            )
            .await?;
        } else if !rest.before.is_told(&what) {
            write(&mut builder, header, &what, &attributes, tokio::io::empty()).await?;
        }
        now.add(&what, &content);
    }
    builder.finish().await?;
    Ok(if is_enough && now.allows_less() && !rest.before.has_lost(&now) {
        Sent::All(now)
    } else {
        Sent::NotEnough
    })
}

/// A file that is summed up while it is read.
struct HashingReader<'a, R> {
    entry: &'a mut R,
    content: &'a mut Content,
}

impl<R: AsyncRead + Unpin> AsyncRead for HashingReader<'_, R> {
    fn poll_read(
        mut self: std::pin::Pin<&mut Self>,
        cx: &mut std::task::Context<'_>,
        buffer: &mut tokio::io::ReadBuf<'_>,
    ) -> std::task::Poll<io::Result<()>> {
        let before = buffer.filled().len();
        let polled = std::pin::Pin::new(&mut *self.entry).poll_read(cx, buffer);
        self.content.update(&buffer.filled()[before..]);
        polled
    }
}

/// A header of our own: what extensions said of the name and the size is in the entry itself.
fn header_of(what: &Entry, old: &Header) -> Header {
    let mut header = Header::new_gnu();
    header.set_entry_type(old.entry_type());
    header.set_mode(what.mode);
    header.set_uid(what.user);
    header.set_gid(what.group);
    header.set_mtime(what.modified.unsigned_abs());
    header.set_size(if what.kind == EntryKind::File { what.size } else { 0 });
    if let (Ok(Some(major)), Ok(Some(minor))) = (old.device_major(), old.device_minor())
        && what.kind == EntryKind::Special
    {
        let _ = header.set_device_major(major).and_then(|()| header.set_device_minor(minor));
    }
    header
}

async fn write<W: AsyncWrite + Send + Unpin + 'static>(
    builder: &mut Builder<W>,
    mut header: Header,
    what: &Entry,
    attributes: &Attributes,
    data: impl AsyncRead + Unpin,
) -> io::Result<()> {
    if !attributes.is_empty() {
        let mut text = Vec::new();
        for (key, value) in attributes {
            text.extend(record(key, value));
        }
        extension(builder, EntryType::XHeader, "PaxHeader", &text).await?;
    }
    if !what.link.is_empty() {
        if what.link.len() > 99 {
            let mut link = what.link.clone();
            link.push(0);
            extension(builder, EntryType::GNULongLink, "././@LongLink", &link).await?;
        }
        let short: Vec<u8> = what.link.iter().copied().take(99).collect();
        header.set_link_name(path_of(&short)).ok();
    }
    builder.append_data(&mut header, path_of(&what.path), data).await
}

fn path_of(bytes: &[u8]) -> &std::path::Path {
    use std::os::unix::ffi::OsStrExt;
    std::path::Path::new(std::ffi::OsStr::from_bytes(bytes))
}

async fn extension<W: AsyncWrite + Send + Unpin + 'static>(
    builder: &mut Builder<W>,
    kind: EntryType,
    name: &str,
    content: &[u8],
) -> io::Result<()> {
    let mut header = if kind == EntryType::XHeader { Header::new_ustar() } else { Header::new_gnu() };
    header.set_entry_type(kind);
    header.set_mode(0o644);
    header.set_size(content.len() as u64);
    header.set_path(name)?;
    header.set_cksum();
    builder.append(&header, content).await
}

/// One record of an extended header (POSIX.1-2001, pax): its own length, a blank, `key=value` and a line's end. The length counts
/// its own digits.
fn record(key: &str, value: &[u8]) -> Vec<u8> {
    let rest = key.len() + value.len() + 3;
    let mut length = rest + 1;
    while rest + length.to_string().len() != length {
        length = rest + length.to_string().len();
    }
    let mut record = format!("{length} {key}=").into_bytes();
    record.extend_from_slice(value);
    record.push(b'\n');
    record
}

#[cfg(test)]
#[path = "passes_tests.rs"]
mod tests;
