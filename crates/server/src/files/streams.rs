//! File streams: single files are wrapped and unwrapped, folders are listed. Only the chunk in transit is in memory.
//! Uploaded archives are in `unpacking`.

use std::io;
use std::time::{Duration, Instant};

use bytes::Bytes;
use futures_util::{Stream, StreamExt};
use gubernum_api::files::{FileEntry, FileKind, Folder};
use gubernum_engine::archives::Upload;
use gubernum_engine::exec::ExecWish;
use gubernum_engine::{Engine, EngineError};
use hyper::body::Incoming;
use tokio::io::AsyncRead;
use tokio_tar::{Archive, EntryType};
use tokio_util::io::{ReaderStream, StreamReader};

use crate::files::FileError;
use crate::files::unpacking::names_of;

/// How far a folder is read to list it, where it can only be read as an archive.
const LIST_SECONDS: Duration = Duration::from_secs(15);
const LIST_BYTES: u64 = 4 << 30;
/// The most names of one folder.
const MOST_NAMES: usize = 20_000;
/// The longest path that is taken.
pub(crate) const LONGEST_PATH: usize = 4096;

/// A path inside a container or a volume: absolute, and with nothing in it that leads upwards.
pub(crate) fn checked_path(path: &str) -> Result<String, FileError> {
    let wrong = |text: &'static str| Err(FileError::Path(text));
    if !path.starts_with('/') {
        return wrong("the path begins with '/'");
    }
    if path.len() > LONGEST_PATH {
        return wrong("the path is longer than 4096 bytes");
    }
    if path.contains('\0') || path.split('/').any(|p| p == "..") {
        return wrong("the path must not contain '..'");
    }
    let parts: Vec<&str> = path.split('/').filter(|p| !p.is_empty() && *p != ".").collect();
    Ok(format!("/{}", parts.join("/")))
}

/// A path as the folder that it is in and its last part.
pub(crate) fn split(path: &str) -> Result<(String, String), FileError> {
    match path.rsplit_once('/') {
        Some((_, "")) | None => Err(FileError::Path("name a file or folder below '/'")),
        Some((folder, name)) => {
            Ok((if folder.is_empty() { "/".to_owned() } else { folder.to_owned() }, name.to_owned()))
        }
    }
}

/// An answer's body as something to read from.
pub(crate) fn reader(body: Incoming) -> impl AsyncRead + Send + Unpin {
    let pieces = http_body_util::BodyStream::new(body).filter_map(|frame| async move {
        match frame {
            Ok(frame) => frame.into_data().ok().map(Ok),
            Err(error) => Some(Err(io::Error::other(error))),
        }
    });
    StreamReader::new(Box::pin(pieces))
}

/// The body of an answer as pieces.
pub(crate) fn pieces(body: Incoming) -> impl Stream<Item = io::Result<Bytes>> + Send {
    ReaderStream::with_capacity(reader(body), 64 * 1024)
}

/// A stream of which the kind is not said.
pub(crate) struct Both(pub(crate) std::pin::Pin<Box<dyn Stream<Item = io::Result<Bytes>> + Send>>);

impl Stream for Both {
    type Item = io::Result<Bytes>;

    fn poll_next(
        mut self: std::pin::Pin<&mut Self>,
        cx: &mut std::task::Context<'_>,
    ) -> std::task::Poll<Option<Self::Item>> {
        self.0.as_mut().poll_next(cx)
    }
}

/// How a file is to be written.
pub(crate) struct NewFile {
    pub(crate) name: String,
    pub(crate) size: u64,
    pub(crate) mode: u32,
    pub(crate) user: u64,
    pub(crate) group: u64,
}

/// A file wrapped into an archive as it comes. Fewer or more bytes than were announced end it.
pub(crate) fn wrapped(
    file: &NewFile,
    now: jiff::Timestamp,
    body: impl Stream<Item = io::Result<Bytes>> + Send + 'static,
) -> Upload {
    let mut head = Vec::new();
    let mut header = tokio_tar::Header::new_gnu();
    if file.name.len() > 99 {
        header.set_entry_type(EntryType::GNULongName);
        header.set_size(file.name.len() as u64 + 1);
        let _ = header.set_path("././@LongLink");
        header.set_cksum();
        head.extend_from_slice(header.as_bytes());
        head.extend_from_slice(file.name.as_bytes());
        head.resize((head.len() + 1).next_multiple_of(512), 0);
        header = tokio_tar::Header::new_gnu();
    }
    let short: String = file.name.chars().take(24).collect();
    let _ = header.set_path(if file.name.len() > 99 { &short } else { &file.name });
    header.set_entry_type(EntryType::Regular);
    header.set_mode(file.mode);
    header.set_uid(file.user);
    header.set_gid(file.group);
    header.set_mtime(now.as_second().unsigned_abs());
    header.set_size(file.size);
    header.set_cksum();
    head.extend_from_slice(header.as_bytes());
    let filling = usize::try_from((512 - file.size % 512) % 512).unwrap_or(0);
    let expected = file.size;
    let mut seen = 0u64;
    let counted = body.map(move |piece| {
        let piece = piece?;
        seen += piece.len() as u64;
        if seen > expected {
            return Err(io::Error::other("more bytes arrived than Content-Length says"));
        }
        Ok(piece)
    });
    let ends = futures_util::stream::once(async move { Ok(Bytes::from(vec![0; filling + 1024])) });
    let all = futures_util::stream::once(async move { Ok(Bytes::from(head)) }).chain(counted).chain(ends);
    Box::pin(Both(Box::pin(all)))
}

/// Lists a folder: by a look from inside where the container runs and has the means, else by reading it as an
/// archive, which ends at a limit.
pub(crate) async fn list(
    engine: &Engine,
    container: &str,
    runs: bool,
    path: &str,
) -> Result<Folder, FileError> {
    let stat = engine.stat(container, path).await?;
    if !stat.folder && stat.link.is_none() {
        return Err(FileError::NotAFolder);
    }
    if runs && let Some(found) = look_inside(engine, container, path).await {
        return Ok(found);
    }
    let path = if stat.link.is_some() { format!("{path}/.") } else { path.to_owned() };
    Ok(walk(engine.read_archive(container, &path).await?, &path).await?)
}

/// Tells kind, size, time, permissions, owner, group and name of each entry, a line each.
const LOOK: &str = r#"cd "$1" 2>/dev/null || exit 9; for f in .* *; do [ "$f" = . ] || [ "$f" = .. ] || { [ -e "$f" ] || [ -L "$f" ]; } && stat -c '%F|%s|%Y|%a|%u|%g|%N' -- "$f"; done; exit 0"#;

async fn look_inside(engine: &Engine, container: &str, path: &str) -> Option<Folder> {
    let command = ["sh", "-c", LOOK, "look", path].map(str::to_owned).to_vec();
    let wish = ExecWish { command, user: Some("0".to_owned()), ..ExecWish::default() };
    let looked = tokio::time::timeout(LIST_SECONDS, engine.run_to_end(container, &wish, 16 << 20)).await;
    let Ok(Ok((Some(0), said))) = looked else { return None };
    let text = String::from_utf8_lossy(&said);
    let mut entries: Vec<FileEntry> = Vec::new();
    for line in text.lines().filter(|l| !l.trim().is_empty()) {
        entries.extend(entry_of(line));
        if entries.len() >= MOST_NAMES {
            return Some(Folder {
                path: path.to_owned(),
                entries,
                incomplete: Some("it has more entries than are shown".to_owned()),
            });
        }
    }
    // A line that was not understood means that its `stat` is another: better the long way.
    if entries.is_empty() && text.lines().any(|l| !l.contains("/.") && !l.trim().is_empty()) {
        return None;
    }
    sort(&mut entries);
    Some(Folder { path: path.to_owned(), entries, incomplete: None })
}

fn entry_of(line: &str) -> Option<FileEntry> {
    let mut parts = line.splitn(7, '|');
    let (kind, size, written, mode, user, group, name) = (
        parts.next()?,
        parts.next()?,
        parts.next()?,
        parts.next()?,
        parts.next()?,
        parts.next()?,
        parts.next()?,
    );
    let unquoted = |t: &str| t.trim_matches(['\'', '"', '`']).to_owned();
    let (name, target) = match name.split_once("' -> '").or_else(|| name.split_once(" -> ")) {
        Some((name, target)) => (unquoted(name), Some(unquoted(target))),
        None => (unquoted(name), None),
    };
    if name == "." || name == ".." {
        return None;
    }
    let kind = match kind {
        "directory" => FileKind::Folder,
        "symbolic link" => FileKind::Link,
        k if k.contains("regular") => FileKind::File,
        _ => FileKind::Other,
    };
    Some(FileEntry {
        name,
        kind,
        size: size.parse().ok()?,
        written: jiff::Timestamp::from_second(written.parse().ok()?).ok()?,
        mode: mode.to_owned(),
        user: user.parse().ok()?,
        group: group.parse().ok()?,
        target: target.filter(|_| kind == FileKind::Link),
    })
}

fn sort(entries: &mut [FileEntry]) {
    entries.sort_by(|a, b| (a.kind != FileKind::Folder, &a.name).cmp(&(b.kind != FileKind::Folder, &b.name)));
}

async fn walk(body: Incoming, path: &str) -> Result<Folder, EngineError> {
    let unreadable = |e: io::Error| EngineError::Unreadable { what: "list folder", detail: e.to_string() };
    let began = Instant::now();
    let mut archive = Archive::new(reader(body));
    let mut stream = archive.entries().map_err(unreadable)?;
    let (mut entries, mut passed, mut incomplete) = (Vec::new(), 0u64, None);
    while let Some(entry) = stream.next().await {
        let entry = entry.map_err(unreadable)?;
        let header = entry.header();
        let (name, target) = names_of(&entry).map_err(unreadable)?;
        // Archives of the root begin with `./` or with nothing, others with the folder's own name.
        let dotted = name.starts_with("./") || name.starts_with('/');
        let below: Vec<&str> = name.split('/').filter(|p| !p.is_empty() && *p != ".").collect();
        let size = entry.effective_size();
        passed += size;
        // The first part is the folder itself; at the root some engines leave it out.
        let own = match &below[..] {
            [own] if path == "/" => Some(*own),
            [_, own] if path != "/" && !dotted => Some(*own),
            [own] if dotted => Some(*own),
            _ => None,
        };
        if let Some(own) = own.filter(|o| !o.is_empty()) {
            let kind = match header.entry_type() {
                EntryType::Directory => FileKind::Folder,
                EntryType::Symlink => FileKind::Link,
                EntryType::Regular | EntryType::Link => FileKind::File,
                _ => FileKind::Other,
            };
            entries.push(FileEntry {
                name: own.to_owned(),
                kind,
                size,
                written: jiff::Timestamp::from_second(
                    i64::try_from(header.mtime().unwrap_or(0)).unwrap_or(0),
                )
                .unwrap_or(jiff::Timestamp::UNIX_EPOCH),
                mode: format!("{:o}", header.mode().unwrap_or(0) & 0o7777),
                user: header.uid().unwrap_or(0),
                group: header.gid().unwrap_or(0),
                target,
            });
        }
        if entries.len() >= MOST_NAMES || passed > LIST_BYTES || began.elapsed() > LIST_SECONDS {
            let why = "the folder is too large to list in full; not all of it is shown";
            incomplete = Some(why.to_owned());
            break;
        }
    }
    sort(&mut entries);
    entries.dedup_by(|a, b| a.name == b.name);
    Ok(Folder { path: path.to_owned(), entries, incomplete })
}

/// Skips this many bytes of a stream, to resume an interrupted download.
pub(crate) fn from_byte(
    stream: impl Stream<Item = io::Result<Bytes>> + Send,
    from: u64,
) -> impl Stream<Item = io::Result<Bytes>> + Send {
    let mut left = from;
    stream.filter_map(move |piece| {
        let out = match piece {
            Ok(mut piece) => {
                let skip = usize::try_from(left).unwrap_or(usize::MAX).min(piece.len());
                left -= skip as u64;
                let rest = piece.split_off(skip);
                (!rest.is_empty()).then_some(Ok(rest))
            }
            Err(error) => Some(Err(error)),
        };
        async move { out }
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn paths_are_absolute_and_lead_nowhere_else() {
        assert_eq!(checked_path("/a//./b/").unwrap(), "/a/b");
        assert_eq!(checked_path("/").unwrap(), "/");
        assert!(checked_path("a").is_err() && checked_path("/a/../b").is_err());
        assert_eq!(split("/a/b").unwrap(), ("/a".to_owned(), "b".to_owned()));
        assert_eq!(split("/b").unwrap(), ("/".to_owned(), "b".to_owned()));
        assert!(split("/").is_err());
    }

    #[test]
    fn lines_of_a_look_are_read() {
        let link = entry_of("symbolic link|7|1800000000|777|0|0|'sh' -> 'busybox'").unwrap();
        assert_eq!(
            (link.name.as_str(), link.target.as_deref(), link.kind),
            ("sh", Some("busybox"), FileKind::Link)
        );
        let file = entry_of("regular file|120|1800000000|644|1000|77|notes.txt").unwrap();
        assert_eq!(
            (file.name.as_str(), file.size, file.mode.as_str(), file.group),
            ("notes.txt", 120, "644", 77)
        );
        assert!(entry_of("nonsense").is_none());
    }
}
