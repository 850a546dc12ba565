//! Builds an image: the folder is packed and sent while it is read, without what its ignore file names, and the
//! builder's output is shown as it arrives.

use std::collections::BTreeMap;
use std::io::Write;
use std::path::{Path, PathBuf};

use bytes::Bytes;
use gubernum_client::Client;
use ignore::gitignore::{Gitignore, GitignoreBuilder};
use tokio_util::io::{ReaderStream, SyncIoBridge};

use crate::arguments::Output;
use crate::arguments_act::Build;
use crate::exit::{ALL_FAILED, FINE, Failure, note};
use crate::table::say_json_line;

/// The size of the buffer between packing and sending, in bytes.
const PIPE: usize = 256 * 1024;
/// The most files of a context that are named; a stack has far fewer.
const MOST_OF_CONTEXT: usize = 1000;
/// The files that name what is not sent.
const IGNORE_FILES: [&str; 2] = [".containerignore", ".dockerignore"];

pub(super) async fn run(client: &Client, args: Build, output: Output) -> Result<u8, Failure> {
    let tag = args.tag.clone();
    let mut query: Vec<(&str, String)> = vec![("tag", args.tag)];
    let pairs: BTreeMap<String, String> = args
        .arguments
        .iter()
        .map(|t| crate::definition_flags::pair("--argument", t))
        .collect::<Result<_, _>>()?;
    if !pairs.is_empty() {
        query.push(("arguments", serde_json::to_string(&pairs).map_err(|e| e.to_string())?));
    }
    query.extend([("no_cache", args.no_cache), ("pull", args.pull)].map(|(k, v)| (k, v.to_string())));
    let texts =
        [("file", args.file), ("stage", args.stage), ("platform", args.platform), ("network", args.network)];
    query.extend(texts.into_iter().filter_map(|(k, v)| Some((k, v?))));
    let folder = PathBuf::from(&args.context);
    let mut packing = None;
    let mut said = if folder.is_dir() {
        let (writer, reader) = tokio::io::duplex(PIPE);
        let ignored = ignored(&folder)?;
        let packed = tokio::task::spawn_blocking(move || pack(&folder, &ignored, SyncIoBridge::new(writer)));
        let stream = client.build(&args.host, &query, ReaderStream::with_capacity(reader, 64 * 1024)).await?;
        packing = Some(packed);
        stream
    } else if args.context.contains("://") || args.context.starts_with("git@") {
        query.push(("git", args.context));
        client.build(&args.host, &query, futures_util::stream::empty::<std::io::Result<Bytes>>()).await?
    } else {
        return Err(Failure::Usage(format!("'{}' is neither a local folder nor a Git URL", args.context)));
    };
    while let Some(line) = said.next().await? {
        if output == Output::Json {
            say_json_line(&line)?;
        } else {
            let mut out = std::io::stdout().lock();
            out.write_all(line.text.as_bytes())?;
            out.flush()?;
        }
        if line.ended {
            // A folder that could not be read whole is the better reason.
            if let Some(packed) = packing.take()
                && let Ok(Err(error)) = packed.await
                && !matches!(&error, Failure::Io(e) if e.kind() == std::io::ErrorKind::BrokenPipe)
            {
                note(&format!("the folder could not be sent: {error}"));
            }
            return Ok(match line.problem {
                Some(problem) => {
                    note(&format!("build failed: {problem}"));
                    ALL_FAILED
                }
                None => {
                    note(&format!("built {tag} on {}", args.host));
                    FINE
                }
            });
        }
    }
    Err(Failure::Said("connection lost before the build ended".to_owned()))
}

/// What the folder's ignore file leaves out.
fn ignored(folder: &Path) -> Result<Gitignore, Failure> {
    let mut builder = GitignoreBuilder::new(folder);
    if let Some(file) = IGNORE_FILES.iter().map(|f| folder.join(f)).find(|f| f.is_file()) {
        let text = std::fs::read_to_string(&file)?;
        for line in text.lines() {
            // Without a slash in front the pattern counts from the folder, not anywhere below it.
            let line = line.trim();
            let (not, bare) = line.strip_prefix('!').map_or(("", line), |rest| ("!", rest));
            if bare.is_empty() || bare.starts_with('#') {
                continue;
            }
            let anchored = if bare.starts_with("**") {
                bare.to_owned()
            } else {
                format!("/{}", bare.trim_start_matches(['/', '.']))
            };
            let anchored =
                if bare.starts_with("./") || !bare.starts_with('.') { anchored } else { format!("/{bare}") };
            builder
                .add_line(None, &format!("{not}{anchored}"))
                .map_err(|e| Failure::Said(format!("{}: {e}", file.display())))?;
        }
    }
    builder.build().map_err(|e| Failure::Said(e.to_string()))
}

/// The files of a folder that an image is built from, without what its ignore file names, by their paths from it. Links are not
/// followed.
pub(crate) fn files_of_context(folder: &Path) -> Result<Vec<String>, Failure> {
    let ignored = ignored(folder)?;
    let mut found = Vec::new();
    let mut waiting = vec![folder.to_owned()];
    while let Some(here) = waiting.pop() {
        for entry in std::fs::read_dir(&here)? {
            let path = entry?.path();
            let name = path.strip_prefix(folder).map_err(|e| e.to_string())?.to_owned();
            let kind = path.symlink_metadata()?.file_type();
            if ignored.matched(&name, kind.is_dir()).is_ignore() || found.len() > MOST_OF_CONTEXT {
                continue;
            }
            if kind.is_dir() {
                waiting.push(path);
            } else if kind.is_file() {
                found.push(name.to_string_lossy().into_owned());
            }
        }
    }
    found.sort();
    Ok(found)
}

/// Packs a folder, its entries in the order of their names.
fn pack(folder: &Path, ignored: &Gitignore, out: impl Write) -> Result<(), Failure> {
    let mut tar = tar::Builder::new(out);
    tar.follow_symlinks(false);
    let mut waiting = vec![folder.to_owned()];
    while let Some(here) = waiting.pop() {
        let mut entries: Vec<PathBuf> =
            std::fs::read_dir(&here)?.map(|e| e.map(|e| e.path())).collect::<Result<_, _>>()?;
        entries.sort();
        for path in entries {
            let name = path.strip_prefix(folder).map_err(|e| e.to_string())?.to_owned();
            let kind = path.symlink_metadata()?.file_type();
            if ignored.matched(&name, kind.is_dir()).is_ignore() {
                continue;
            }
            if kind.is_dir() {
                tar.append_dir(&name, &path)?;
                waiting.push(path);
            } else if kind.is_file() || kind.is_symlink() {
                tar.append_path_with_name(&path, &name)?;
            }
        }
    }
    tar.into_inner()?.flush()?;
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_folder_is_packed_without_what_is_ignored() {
        let scratch = tempfile::tempdir().unwrap();
        for name in ["app/run", "app/notes.md", "target/big", ".git/config", "keep.md", "Dockerfile"] {
            let path = scratch.path().join(name);
            std::fs::create_dir_all(path.parent().unwrap()).unwrap();
            std::fs::write(path, name).unwrap();
        }
        std::fs::write(scratch.path().join(".dockerignore"), "# remark\ntarget\n.git\n**/*.md\n!keep.md\n")
            .unwrap();
        let mut bytes = Vec::new();
        pack(scratch.path(), &ignored(scratch.path()).unwrap(), &mut bytes).unwrap();
        let mut archive = tar::Archive::new(bytes.as_slice());
        // A path's parts, as a folder's name may end with a slash or not.
        let mut names: Vec<PathBuf> =
            archive.entries().unwrap().map(|e| e.unwrap().path().unwrap().components().collect()).collect();
        names.sort();
        let kept = [".dockerignore", "Dockerfile", "app", "app/run", "keep.md"];
        assert_eq!(names, kept.map(PathBuf::from));
    }
}
