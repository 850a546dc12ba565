//! Copies between this machine and containers, volumes and images: streamed, with a progress bar, and resumed where
//! the connection was interrupted in the middle of a file.

use std::io::{IsTerminal, SeekFrom};
use std::path::{Path, PathBuf};

use futures_util::StreamExt;
use gubernum_client::{Client, ClientError, Download, Place, upload_word};
use indicatif::{ProgressBar, ProgressStyle};
use tokio::io::{AsyncReadExt, AsyncSeekExt, AsyncWriteExt};
use tokio_util::io::ReaderStream;

use super::files::place;
use crate::arguments_act::Copy;
use crate::exit::{FINE, Failure, note};
use crate::table::say;

/// How often an interrupted copy is resumed.
const TRIES: u32 = 5;

/// One side of a copy.
enum Side {
    Here(PathBuf),
    There(Place),
}

/// `packhouse/frost-api:/etc/x` is a path of a container, `volume:packhouse/readings:/x` one of a volume,
/// `volume:packhouse/readings` all of it; the rest is here.
fn side(text: &str, is_folder: bool) -> Side {
    if let Ok((of, path)) = place(text) {
        return Side::There(if is_folder { Place::Folder { of, path } } else { Place::File { of, path } });
    }
    match text.strip_prefix("volume:") {
        Some(reference) => Side::There(Place::Volume { reference: reference.to_owned() }),
        None => Side::Here(PathBuf::from(text)),
    }
}

fn bar(size: Option<u64>) -> ProgressBar {
    let bar = ProgressBar::new(size.unwrap_or(0));
    if !std::io::stderr().is_terminal() {
        bar.set_draw_target(indicatif::ProgressDrawTarget::hidden());
    }
    let shape = if size.is_some() {
        "{bar:30} {bytes} of {total_bytes}  {binary_bytes_per_sec}  {eta}"
    } else {
        "{spinner} {bytes} {binary_bytes_per_sec}"
    };
    if let Ok(style) = ProgressStyle::with_template(shape) {
        bar.set_style(style.progress_chars(crate::progress::BLOCKS));
    }
    bar
}

fn cannot(path: &Path, doing: &str, error: &std::io::Error) -> Failure {
    Failure::Said(format!("{} cannot be {doing}: {error}", path.display()))
}

pub(super) async fn run(client: &Client, args: Copy) -> Result<u8, Failure> {
    match (side(&args.from, args.archive), side(&args.to, args.archive)) {
        (Side::There(from), Side::Here(to)) => fetch(client, &from, &to).await,
        (Side::Here(from), Side::There(to)) => send(client, &from, &to, &args).await,
        _ => Err(Failure::Usage(
            "one side is here, the other a container's 'host/name:/path' or 'volume:host/name'".to_owned(),
        )),
    }
}

/// Where a fetched file goes: into a folder under its own name, or where it is said.
fn target(from: &Place, to: &Path) -> PathBuf {
    let own = match from {
        Place::File { path, .. } => path.rsplit('/').next().unwrap_or("file").to_owned(),
        Place::Folder { path, .. } => {
            let name = path.trim_end_matches('/').rsplit('/').next().unwrap_or_default();
            format!("{}.tar", if name.is_empty() { "root" } else { name })
        }
        Place::Volume { reference } => format!("{}.tar", reference.rsplit('/').next().unwrap_or("volume")),
    };
    if to.is_dir() { to.join(own) } else { to.to_owned() }
}

async fn fetch(client: &Client, from: &Place, to: &Path) -> Result<u8, Failure> {
    let to = target(from, to);
    if to.exists() {
        return Err(Failure::Usage(format!(
            "{} exists already; move it away or choose another name",
            to.display()
        )));
    }
    // Under another name until it is whole.
    let part = PathBuf::from(format!("{}.part", to.display()));
    let mut file = tokio::fs::File::create(&part).await.map_err(|e| cannot(&part, "written", &e))?;
    let (mut done, mut tries) = (0u64, 0);
    let mut download = client.fetch(from, 0).await?;
    let bar = bar(download.size);
    loop {
        match download.next().await {
            Ok(Some(piece)) => {
                file.write_all(&piece).await.map_err(|e| cannot(&part, "written", &e))?;
                done += piece.len() as u64;
                bar.set_position(done);
            }
            Ok(None) => break,
            // A file can be resumed; an archive is another each time.
            Err(error) if matches!(from, Place::File { .. }) && tries < TRIES => {
                tries += 1;
                note(&format!("{error}; resuming at byte {done}"));
                download = again(client, from, done).await?;
            }
            Err(error) => return Err(error.into()),
        }
    }
    file.flush().await?;
    bar.finish_and_clear();
    tokio::fs::rename(&part, &to).await.map_err(|e| cannot(&to, "written", &e))?;
    say(&format!("{} bytes to {}", done, to.display()))?;
    Ok(FINE)
}

async fn again(client: &Client, from: &Place, done: u64) -> Result<Download, ClientError> {
    tokio::time::sleep(std::time::Duration::from_secs(1)).await;
    client.fetch(from, done).await
}

async fn send(client: &Client, from: &Path, to: &Place, args: &Copy) -> Result<u8, Failure> {
    let size = tokio::fs::metadata(from).await.map_err(|e| cannot(from, "read", &e))?.len();
    let bar = bar(Some(size));
    let mut more: Vec<(&str, String)> = Vec::new();
    let mut word = None;
    if let Place::File { .. } = to {
        more.extend(args.mode.clone().map(|m| ("mode", m)));
        more.extend(args.user.map(|u| ("user", u.to_string())));
        let fresh = upload_word()?;
        more.push(("upload", fresh.clone()));
        word = Some(fresh);
    }
    let (mut at, mut tries) = (0, 0);
    loop {
        bar.set_position(at);
        let mut file = tokio::fs::File::open(from).await.map_err(|e| cannot(from, "read", &e))?;
        file.seek(SeekFrom::Start(at)).await.map_err(|e| cannot(from, "read", &e))?;
        let shown = bar.clone();
        let rest = file.take(size - at);
        let stream = ReaderStream::with_capacity(rest, 128 * 1024).inspect(move |piece| {
            if let Ok(piece) = piece {
                shown.inc(piece.len() as u64);
            }
        });
        let query: Vec<(&str, String)> =
            more.iter().cloned().chain((at > 0).then(|| ("from", at.to_string()))).collect();
        let Err(error) = client.put(to, Some(size - at), stream, &query).await else { break };
        // A file can be resumed; an archive is unpacked as it comes.
        let Some(word) = word.as_ref().filter(|_| error.kind().is_none() && tries < TRIES) else {
            return Err(error.into());
        };
        (at, tries) = goes_on(client, to, word, tries).await?;
        note(&format!("{error}; resuming at byte {at}"));
    }
    bar.finish_and_clear();
    say(&format!("{size} bytes sent"))?;
    Ok(FINE)
}

/// Where an interrupted upload goes on, and how often it was tried by then.
async fn goes_on(client: &Client, to: &Place, word: &str, mut tries: u32) -> Result<(u64, u32), ClientError> {
    loop {
        tries += 1;
        tokio::time::sleep(std::time::Duration::from_secs(u64::from(tries))).await;
        match client.received(to, word).await {
            Ok(received) => return Ok((received, tries)),
            Err(error) if error.kind().is_some() || tries >= TRIES => return Err(error),
            Err(_) => {}
        }
    }
}

pub(super) async fn export(client: &Client, host: &str, image: &str, to: &Path) -> Result<u8, Failure> {
    let part = PathBuf::from(format!("{}.part", to.display()));
    let mut download = client.export_image(host, image).await?;
    let mut file = tokio::fs::File::create(&part).await.map_err(|e| cannot(&part, "written", &e))?;
    let bar = bar(None);
    let mut done = 0u64;
    while let Some(piece) = download.next().await? {
        file.write_all(&piece).await.map_err(|e| cannot(&part, "written", &e))?;
        done += piece.len() as u64;
        bar.set_position(done);
    }
    file.flush().await?;
    bar.finish_and_clear();
    tokio::fs::rename(&part, to).await.map_err(|e| cannot(to, "written", &e))?;
    say(&format!("{done} bytes to {}", to.display()))?;
    Ok(FINE)
}

pub(super) async fn import(client: &Client, host: &str, from: &Path) -> Result<u8, Failure> {
    let file = tokio::fs::File::open(from).await.map_err(|e| cannot(from, "read", &e))?;
    let said = client.import_images(host, ReaderStream::with_capacity(file, 128 * 1024)).await?.said;
    say(if said.is_empty() { "Imported." } else { &said })?;
    Ok(FINE)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn sides_are_distinguished() {
        assert!(matches!(side("./notes.txt", false), Side::Here(_)));
        assert!(matches!(side("/srv/x:y", false), Side::Here(_)));
        assert!(matches!(side("packhouse/api:/etc/x", false), Side::There(Place::File { .. })));
        assert!(matches!(side("volume:packhouse/readings:/x", false), Side::There(Place::File { .. })));
        assert!(matches!(side("packhouse/api:/etc", true), Side::There(Place::Folder { .. })));
        assert!(matches!(side("volume:packhouse/readings", false), Side::There(Place::Volume { .. })));
    }
}
