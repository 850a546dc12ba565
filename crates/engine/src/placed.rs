//! Configs and secrets: files copied into a container after it is created and before it starts, and read back from
//! one that is replaced.
//!
//! They lie in the container's own layer: nothing of them is on the host's disk under a name that outlives the container.

use std::collections::BTreeSet;
use std::io::Read;

use bytes::Bytes;
use gubernum_core::stack::PlacedFile;
use gubernum_core::stack::desired::LARGEST_FILE;
use http_body_util::{BodyExt, Limited};

use crate::client::Engine;
use crate::error::EngineError;
use crate::hostfs::archive_of;

/// What an archive of one file has around it, in bytes.
const AROUND: usize = 16 * 1024;

impl Engine {
    /// Puts files into a container. Folders on the way that are not there are made for the host's root, readable for all.
    ///
    /// # Errors
    /// The engine's error.
    pub async fn put_files(&self, container: &str, files: &[PlacedFile]) -> Result<(), EngineError> {
        let mut missing = BTreeSet::new();
        for folder in files.iter().flat_map(|f| folders_to(&f.path)).collect::<BTreeSet<_>>() {
            match self.stat(container, &folder).await {
                Ok(_) => {}
                Err(e) if e.status() == Some(404) => drop(missing.insert(folder)),
                Err(e) => return Err(e),
            }
        }
        let archive = archive_of(|tar| {
            // In their order, what is above comes first.
            for folder in &missing {
                let mut header = tar::Header::new_gnu();
                header.set_entry_type(tar::EntryType::Directory);
                header.set_mode(0o755);
                header.set_size(0);
                tar.append_data(
                    &mut header,
                    format!("{}/", folder.trim_start_matches('/')),
                    std::io::empty(),
                )?;
            }
            for file in files {
                let mut header = tar::Header::new_gnu();
                header.set_mode(file.mode);
                header.set_uid(file.user.into());
                header.set_gid(file.group.into());
                header.set_size(file.content.len() as u64);
                tar.append_data(&mut header, file.path.trim_start_matches('/'), file.content.as_slice())?;
            }
            Ok(())
        })?;
        self.put_archive(container, "/", archive).await
    }

    /// Reads files that were put into a container; one that is not there any more is left out.
    ///
    /// # Errors
    /// The engine's error, and a file that has grown beyond [`LARGEST_FILE`].
    pub async fn placed_files(
        &self,
        container: &str,
        paths: &[String],
    ) -> Result<Vec<PlacedFile>, EngineError> {
        let mut files = Vec::new();
        for path in paths {
            match self.read_archive(container, path).await {
                Ok(body) => files.extend(one_file(path, whole(body).await?)),
                Err(e) if e.status() == Some(404) => {}
                Err(e) => return Err(e),
            }
        }
        Ok(files)
    }
}

async fn whole(body: hyper::body::Incoming) -> Result<Bytes, EngineError> {
    let read = Limited::new(body, LARGEST_FILE + AROUND).collect().await;
    let whole = read.map_err(|e| EngineError::Unreadable { what: "read files", detail: e.to_string() })?;
    Ok(whole.to_bytes())
}

/// The one file of an archive.
fn one_file(path: &str, archive: Bytes) -> Option<PlacedFile> {
    let mut tar = tar::Archive::new(archive.as_ref());
    let mut entry = tar.entries().ok()?.next()?.ok()?;
    let number = |n: std::io::Result<u64>| n.ok().and_then(|n| u32::try_from(n).ok());
    let (user, group) = (number(entry.header().uid())?, number(entry.header().gid())?);
    let mode = entry.header().mode().ok()? & 0o7777;
    let mut content = Vec::new();
    entry.read_to_end(&mut content).ok()?;
    Some(PlacedFile { path: path.to_owned(), user, group, mode, content })
}

/// The folders that lead to a path, from the top.
fn folders_to(path: &str) -> Vec<String> {
    let slashes = path.match_indices('/').map(|(at, _)| at).filter(|at| *at > 0);
    slashes.map(|at| path[..at].to_owned()).collect()
}

/// The archive of a folder that an image is built from. What begins as a script does may be run.
///
/// # Errors
/// When a path cannot be in an archive.
pub fn context_archive(files: &std::collections::BTreeMap<String, Vec<u8>>) -> Result<Bytes, EngineError> {
    archive_of(|tar| {
        for (path, content) in files {
            let mut header = tar::Header::new_gnu();
            header.set_mode(if content.starts_with(b"#!") { 0o755 } else { 0o644 });
            header.set_size(content.len() as u64);
            tar.append_data(&mut header, path, content.as_slice())?;
        }
        Ok(())
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_way_to_a_file() {
        assert_eq!(folders_to("/run/secrets/key"), ["/run", "/run/secrets"]);
        assert_eq!(folders_to("/frost.yaml"), Vec::<String>::new());
    }
}
