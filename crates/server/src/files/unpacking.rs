//! Archives from outside, looked through entry by entry before an engine unpacks them. Names and links that lead elsewhere
//! end it. Everything streams; nothing is held but the entry on its way.
//!
//! What is at the target is asked of the engine before an entry goes there. podman answers nothing about a container while
//! it unpacks into it, and dockerd nothing about one that does not run, so an archive goes over in several, each ended
//! before the next question. Below a place where nothing was there is nothing to ask.

use std::collections::HashSet;
use std::io;
use std::sync::Arc;

use bytes::Bytes;
use futures_util::{Stream, StreamExt};
use gubernum_engine::archives::Upload;
use gubernum_engine::{Engine, EngineError};
use parking_lot::Mutex;
use tokio::io::{AsyncRead, DuplexStream};
use tokio::sync::mpsc;
use tokio_tar::{ArchiveBuilder, Builder, EntryType};
use tokio_util::io::{ReaderStream, StreamReader};

use crate::files::http::root::is_behind;
use crate::files::streams::{Both, LONGEST_PATH};

/// The size of the buffer between reading an archive and writing it on, in bytes.
const PIPE: usize = 256 * 1024;
/// The most entries of an archive that is unpacked.
const MOST_ENTRIES: u64 = 5_000_000;
const STOPPED: &str = "the engine stopped taking the archive";

/// What went wrong with an archive, told to the sender.
pub(crate) type Trouble = Arc<Mutex<Option<String>>>;

/// Looks through an archive and hands it to the engine; what was wrong with the archive itself is in the trouble.
pub(crate) async fn unpack(
    engine: &Engine,
    container: &str,
    folder: &str,
    closed: Vec<String>,
    body: impl Stream<Item = io::Result<Bytes>> + Send + 'static,
) -> (Result<(), EngineError>, Trouble) {
    let trouble: Trouble = Arc::default();
    let (sender, mut parts) = mpsc::channel(1);
    let (done, told) = mpsc::channel(1);
    let into =
        Into { engine: Some((engine.clone(), container.to_owned())), folder: folder.to_owned(), closed };
    let (noted, to_engine) = (trouble.clone(), trouble.clone());
    tokio::spawn(async move {
        let mut out = Out { builder: None, sender, told };
        let copied = copy_entries(body, &mut out, into).await;
        if let Err(error) = copied {
            *noted.lock() = Some(error);
        }
    });
    while let Some(part) = parts.recv().await {
        if let Err(error) = engine.write_archive(container, folder, upload(part, to_engine.clone())).await {
            return (Err(error), trouble);
        }
        if done.send(()).await.is_err() {
            break;
        }
    }
    (Ok(()), trouble)
}

/// A pipe that ends early looks like an end: the engine must not take half an archive for a whole one.
fn upload(part: DuplexStream, trouble: Trouble) -> Upload {
    let ends = futures_util::stream::once(async move {
        match trouble.lock().clone() {
            Some(error) => Err(io::Error::other(error)),
            None => Ok(Bytes::new()),
        }
    });
    Box::pin(Both(Box::pin(ReaderStream::with_capacity(part, 64 * 1024).chain(ends))))
}

/// Where entries go that were looked at: one archive after another.
struct Out {
    builder: Option<Builder<DuplexStream>>,
    sender: mpsc::Sender<DuplexStream>,
    told: mpsc::Receiver<()>,
}

impl Out {
    /// The archive that is open, or a new one.
    async fn open(&mut self) -> Result<&mut Builder<DuplexStream>, String> {
        if self.builder.is_none() {
            let (writer, part) = tokio::io::duplex(PIPE);
            self.sender.send(part).await.map_err(|_| STOPPED.to_owned())?;
            self.builder = Some(Builder::new_non_terminated(writer));
        }
        self.builder.as_mut().ok_or_else(|| STOPPED.to_owned())
    }

    /// Ends the one that is open and waits until the engine has unpacked it.
    async fn close(&mut self) -> Result<(), String> {
        let Some(mut builder) = self.builder.take() else { return Ok(()) };
        builder.finish().await.map_err(|_| STOPPED.to_owned())?;
        drop(builder);
        self.told.recv().await.ok_or_else(|| STOPPED.to_owned())
    }
}

/// The most links of an archive that are remembered, and folders of the target that are looked at.
const MOST_LINKS: usize = 200_000;
const MOST_FOLDERS: usize = 20_000;

/// Where an archive is unpacked.
struct Into {
    /// The engine and the container; without them what is there is not looked at.
    engine: Option<(Engine, String)>,
    /// The folder in the container.
    folder: String,
    /// Folders of the host that may not be written to.
    closed: Vec<String>,
}

/// Keeps the entries of one archive from passing through links: those that it brings itself, and those that are there.
#[derive(Default)]
struct KnownPaths {
    links: HashSet<String>,
    /// Folders of the target that are known to be no links.
    plain: HashSet<String>,
    /// Places where nothing was: all below them comes from the archive itself.
    fresh: HashSet<String>,
}

impl KnownPaths {
    /// Refuses an entry whose way leads through a link, or into a folder that is closed.
    async fn check(&mut self, name: &str, into: &Into, out: &mut Out) -> Result<(), String> {
        let parts: Vec<&str> = name.split('/').filter(|p| !p.is_empty() && *p != ".").collect();
        let full = format!("{}/{}", into.folder.trim_end_matches('/'), parts.join("/"));
        if let Some(mount) = into.closed.iter().find(|target| is_behind(&full, target)) {
            return Err(format!(
                "the archive entry '{}' goes into the host folder at '{mount}', which is not allowed; it and later entries were not unpacked",
                gubernum_core::text::shown(name, 200)
            ));
        }
        let mut is_fresh = false;
        for end in 1..parts.len() {
            let folder = parts[..end].join("/");
            if self.links.contains(&folder) {
                return Err(through(name, &folder));
            }
            if self.plain.contains(&folder) {
                continue;
            }
            if self.fresh.contains(&folder) {
                is_fresh = true;
            }
            if let Some((engine, id)) = into.engine.as_ref().filter(|_| !is_fresh) {
                out.close().await?;
                let there = format!("{}/{folder}", into.folder.trim_end_matches('/'));
                match engine.stat(id, &there).await {
                    Ok(stat) if stat.link.is_some() => return Err(through(name, &folder)),
                    Ok(_) => {}
                    Err(error) if error.status() == Some(404) => {
                        if self.fresh.len() < MOST_FOLDERS {
                            self.fresh.insert(folder.clone());
                        }
                        is_fresh = true;
                    }
                    Err(error) => {
                        return Err(format!("'{folder}' cannot be read: {error}"));
                    }
                }
            }
            if self.plain.len() < MOST_FOLDERS {
                self.plain.insert(folder);
            }
        }
        Ok(())
    }

    /// Notes what an entry puts in its place.
    fn note(&mut self, name: &str, kind: EntryType) -> Result<(), String> {
        let parts: Vec<&str> = name.split('/').filter(|p| !p.is_empty() && *p != ".").collect();
        let place = parts.join("/");
        if kind != EntryType::Symlink {
            self.links.remove(&place);
            return Ok(());
        }
        if self.links.len() >= MOST_LINKS {
            return Err(format!("the archive has more than {MOST_LINKS} links"));
        }
        self.plain.remove(&place);
        self.links.insert(place);
        Ok(())
    }
}

fn through(name: &str, link: &str) -> String {
    let (name, link) = (gubernum_core::text::shown(name, 200), gubernum_core::text::shown(link, 200));
    format!(
        "the archive entry '{name}' passes through the link '{link}'; it and later entries were not unpacked"
    )
}

async fn copy_entries(
    body: impl Stream<Item = io::Result<Bytes>> + Send + 'static,
    out: &mut Out,
    into: Into,
) -> Result<(), String> {
    let mut ways = KnownPaths::default();
    let damaged = |e: io::Error| format!("the archive cannot be read: {e}");
    let mut archive = ArchiveBuilder::new(StreamReader::new(Box::pin(body))).build();
    let mut entries = archive.entries().map_err(damaged)?;
    let mut count = 0;
    while let Some(entry) = entries.next().await {
        let mut entry = entry.map_err(damaged)?;
        count += 1;
        if count > MOST_ENTRIES {
            return Err(format!("the archive has more than {MOST_ENTRIES} entries"));
        }
        let (name, target) = names_of(&entry).map_err(damaged)?;
        let kind = entry.header().entry_type();
        inside(&name, kind, target.as_deref())?;
        ways.check(&name, &into, out).await?;
        // A hard link takes what its target is: neither may lead through a link, nor be one.
        if let Some(target) = target.as_deref().filter(|_| kind == EntryType::Link) {
            ways.check(&format!("{target}/x"), &into, out).await?;
        }
        ways.note(&name, kind)?;
        let stopped = |_: io::Error| STOPPED.to_owned();
        let builder = out.open().await?;
        let old = entry.header();
        // A header of our own: what extensions said of the name and the size is in the entry itself.
        let mut header = tokio_tar::Header::new_gnu();
        header.set_entry_type(kind);
        header.set_mode(old.mode().unwrap_or(0o644));
        header.set_uid(old.uid().unwrap_or(0));
        header.set_gid(old.gid().unwrap_or(0));
        header.set_mtime(old.mtime().unwrap_or(0));
        header.set_size(entry.effective_size());
        if let Some(target) = &target {
            if target.len() > 99 {
                let mut bytes = target.clone().into_bytes();
                bytes.push(0);
                let mut long = tokio_tar::Header::new_gnu();
                long.set_entry_type(EntryType::GNULongLink);
                long.set_size(bytes.len() as u64);
                let _ = long.set_path("././@LongLink");
                long.set_cksum();
                builder.append(&long, bytes.as_slice()).await.map_err(stopped)?;
            } else {
                header.set_link_name(target).map_err(damaged)?;
            }
        }
        builder.append_data(&mut header, &name, &mut entry).await.map_err(stopped)?;
    }
    // An archive without entries is handed over too: the engine says whether the folder is there.
    out.open().await?;
    out.close().await
}

/// Looks through a whole archive without an engine: what would be handed over, or why it is refused. For tests.
///
/// # Errors
/// The sentence that the sender is told.
pub async fn judged(archive: Vec<u8>, folder: &str, closed: &[&str]) -> Result<Vec<u8>, String> {
    let body = futures_util::stream::iter([Ok::<_, io::Error>(Bytes::from(archive))]);
    let (sender, mut parts) = mpsc::channel(1);
    let (done, told) = mpsc::channel(1);
    let mut out = Out { builder: None, sender, told };
    let closed = closed.iter().map(|c| (*c).to_owned()).collect();
    let into = Into { engine: None, folder: folder.to_owned(), closed };
    let copying = async {
        let outcome = copy_entries(body, &mut out, into).await;
        drop(out);
        outcome
    };
    let taking = async {
        let mut all = Vec::new();
        while let Some(mut part) = parts.recv().await {
            tokio::io::AsyncReadExt::read_to_end(&mut part, &mut all).await.map_err(|e| e.to_string())?;
            let _ = done.send(()).await;
        }
        Ok(all)
    };
    let (copied, taken) = tokio::join!(copying, taking);
    copied.and(taken)
}

/// An entry's name, and where it leads when it is a link.
pub(crate) fn names_of<R: AsyncRead + Unpin>(
    entry: &tokio_tar::Entry<R>,
) -> io::Result<(String, Option<String>)> {
    let name = String::from_utf8_lossy(&entry.path_bytes()?).into_owned();
    let links = matches!(entry.header().entry_type(), EntryType::Symlink | EntryType::Link);
    let target = entry.link_name_bytes()?.map(|t| String::from_utf8_lossy(&t).into_owned());
    Ok((name, target.filter(|_| links)))
}

/// Whether an entry stays inside the folder that it is unpacked into.
fn inside(name: &str, kind: EntryType, target: Option<&str>) -> Result<(), String> {
    let outside = |shown: String| {
        let shown = gubernum_core::text::shown(&shown, 200);
        Err(format!(
            "the archive entry '{shown}' leads outside of the folder; it and later entries were not unpacked"
        ))
    };
    if name.len() > LONGEST_PATH {
        return Err("the archive has a name longer than 4096 bytes".to_owned());
    }
    if name.starts_with('/') || name.split('/').any(|p| p == "..") {
        return outside(name.to_owned());
    }
    if !matches!(
        kind,
        EntryType::Regular
            | EntryType::Continuous
            | EntryType::Directory
            | EntryType::Symlink
            | EntryType::Link
    ) {
        let shown = gubernum_core::text::shown(name, 200);
        return Err(format!("the archive entry '{shown}' is not a file, folder or link"));
    }
    let Some(target) = target.filter(|_| matches!(kind, EntryType::Symlink | EntryType::Link)) else {
        return Ok(());
    };
    if target.starts_with('/') {
        return outside(format!("{name} -> {target}"));
    }
    // A hard link's target counts from the root of the archive, a symbolic one's from its own folder.
    let base = match kind {
        EntryType::Symlink => name.split('/').filter(|p| !p.is_empty() && *p != ".").count() as i64 - 1,
        _ => 0,
    };
    let mut depth = base;
    for part in target.split('/') {
        match part {
            "" | "." => {}
            ".." => depth -= 1,
            _ => depth += 1,
        }
        if depth < 0 {
            return outside(format!("{name} -> {target}"));
        }
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("../x", EntryType::Regular, None, false)]
    #[case("a/../../x", EntryType::Regular, None, false)]
    #[case("/etc/passwd", EntryType::Regular, None, false)]
    #[case("a/b", EntryType::Regular, None, true)]
    #[case("a/b", EntryType::Symlink, Some("../c"), true)]
    #[case("a/b", EntryType::Symlink, Some("../../c"), false)]
    #[case("a/b", EntryType::Symlink, Some("/etc"), false)]
    #[case("a/b", EntryType::Link, Some("a/c"), true)]
    #[case("a/b", EntryType::Link, Some("../c"), false)]
    #[case("dev", EntryType::Block, None, false)]
    fn entries_stay_inside(
        #[case] name: &str,
        #[case] kind: EntryType,
        #[case] target: Option<&str>,
        #[case] fine: bool,
    ) {
        assert_eq!(inside(name, kind, target).is_ok(), fine, "{name}");
    }

    /// An archive of these entries: a name, its kind, and where it leads when it is a link.
    async fn archive(entries: &[(&str, EntryType, &str)]) -> Vec<u8> {
        let mut builder = Builder::new(Vec::new());
        for (name, kind, target) in entries {
            let mut header = tokio_tar::Header::new_gnu();
            header.set_entry_type(*kind);
            header.set_size(0);
            header.set_mode(0o644);
            if !target.is_empty() {
                header.set_link_name(target).unwrap();
            }
            builder.append_data(&mut header, name, &[][..]).await.unwrap();
        }
        builder.into_inner().await.unwrap()
    }

    async fn taken(entries: &[(&str, EntryType, &str)], closed: &[&str]) -> Result<(), String> {
        judged(archive(entries).await, "/srv", closed).await.map(drop)
    }

    #[tokio::test]
    async fn no_entry_passes_through_a_link_of_its_archive() {
        use EntryType::{Directory, Link, Regular, Symlink};
        // Each link alone stays inside; together they lead out.
        let chain = [
            ("x", Directory, ""),
            ("x/l", Symlink, ".."),
            ("x/m", Symlink, "l/.."),
            ("x/m/evil", Regular, ""),
        ];
        let error = taken(&chain, &[]).await.unwrap_err();
        assert!(error.contains("x/m/evil") && error.contains("passes through the link 'x/m'"), "{error}");
        let dotted = [("./x", Symlink, "y"), ("x/./evil", Regular, "")];
        assert!(taken(&dotted, &[]).await.is_err());
        let hard = [("x", Symlink, "y"), ("z", Link, "x/passwd")];
        assert!(taken(&hard, &[]).await.is_err());
        let replaced = [("x", Symlink, "y"), ("x", Directory, ""), ("x/fine", Regular, "")];
        assert!(taken(&replaced, &[]).await.is_ok(), "a folder took the link's place");
        assert!(
            taken(&[("a", Directory, ""), ("a/l", Symlink, "b"), ("a/c", Regular, "")], &[]).await.is_ok()
        );
    }

    #[tokio::test]
    async fn no_entry_goes_into_a_closed_folder() {
        let into = [("host/passwd", EntryType::Regular, "")];
        assert!(taken(&into, &["/srv/host"]).await.unwrap_err().contains("not allowed"));
        assert!(taken(&into, &["/srv/hostess"]).await.is_ok());
    }
}
