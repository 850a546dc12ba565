//! The files of a simulated host, its volumes and its containers, in memory; and the engine's archive calls on them.
//!
//! One tree holds everything: a container's own files lie below [`of_container`], a volume's below [`of_volume`].

use std::collections::BTreeMap;
use std::io::Read;
use std::sync::Arc;

use base64::Engine as _;
use jiff::Timestamp;
use serde_json::{Value, json};

use crate::engine::SimContainer;
use crate::life::Refusal;

/// The most bytes that all files of a host may have together.
const MOST_BYTES: usize = 256 * 1024 * 1024;
/// Engines write modes as Go does.
const GO_FOLDER: u64 = 1 << 31;

/// A file or folder.
#[derive(Debug, Clone)]
pub(crate) struct Node {
    /// Its bytes; `None` for a folder.
    pub(crate) bytes: Option<Arc<Vec<u8>>>,
    pub(crate) mode: u32,
    pub(crate) user: u64,
    pub(crate) group: u64,
    pub(crate) written: Timestamp,
}

/// All files by their whole path without a `/` at the end; the root is the empty path.
#[derive(Debug, Default)]
pub(crate) struct Files(BTreeMap<String, Node>);

/// Where a container's own files lie.
pub(crate) fn of_container(id: &str) -> String {
    format!("/var/lib/engine/containers/{id}/files")
}

/// Where a volume's files lie.
pub(crate) fn of_volume(name: &str) -> String {
    format!("/var/lib/engine/volumes/{name}/_data")
}

/// The path on the host of a path inside a container: behind the mount that is nearest to it.
pub(crate) fn place(c: &SimContainer, path: &str) -> String {
    let path = tidy(path);
    let behind = |target: &str| {
        let target = tidy(target);
        path.strip_prefix(&target).filter(|rest| rest.is_empty() || rest.starts_with('/')).map(str::to_owned)
    };
    let mount = c.spec.volumes.iter().filter(|v| behind(&v.target).is_some()).max_by_key(|v| v.target.len());
    match mount {
        Some(v) => {
            let base = if v.source.starts_with('/') { tidy(&v.source) } else { of_volume(&v.source) };
            format!("{base}{}", behind(&v.target).unwrap_or_default())
        }
        None => format!("{}{path}", of_container(&c.id)),
    }
}

/// Resolves `.` and `..`, and removes what stands twice.
fn tidy(path: &str) -> String {
    let mut parts: Vec<&str> = Vec::new();
    for part in path.split('/') {
        match part {
            "" | "." => {}
            ".." => drop(parts.pop()),
            part => parts.push(part),
        }
    }
    parts.iter().map(|p| format!("/{p}")).collect()
}

impl Files {
    fn folder_node() -> Node {
        Node { bytes: None, mode: 0o755, user: 0, group: 0, written: Timestamp::now() }
    }

    /// Makes a folder and those above it.
    pub(crate) fn folder(&mut self, path: &str) {
        let path = tidy(path);
        let mut at = String::new();
        self.0.entry(at.clone()).or_insert_with(Self::folder_node);
        for part in path.split('/').skip(1) {
            at = format!("{at}/{part}");
            self.0.entry(at.clone()).or_insert_with(Self::folder_node);
        }
    }

    /// Writes a file.
    pub(crate) fn put(&mut self, path: &str, bytes: Vec<u8>) {
        let path = tidy(path);
        if let Some((above, _)) = path.rsplit_once('/') {
            self.folder(above);
        }
        let node = Node { bytes: Some(Arc::new(bytes)), mode: 0o644, ..Self::folder_node() };
        self.0.insert(path, node);
    }

    /// What a fresh container finds.
    pub(crate) fn seed_container(&mut self, id: &str, name: &str) {
        let at = of_container(id);
        for folder in ["app", "etc", "tmp", "var/log", "bin"] {
            self.folder(&format!("{at}/{folder}"));
        }
        self.put(&format!("{at}/etc/hostname"), format!("{}\n", &id[..12]).into_bytes());
        let settings = format!("# settings of {name}\nlisten = \"0.0.0.0:8080\"\nlog = \"info\"\n");
        self.put(&format!("{at}/app/settings.toml"), settings.into_bytes());
        self.put(&format!("{at}/app/run"), vec![0x7f; 4096]);
        self.put(&format!("{at}/bin/sh"), vec![0x7f; 1024]);
    }

    /// Removes a path and all below it.
    pub(crate) fn remove(&mut self, path: &str) {
        let path = tidy(path);
        let below = format!("{path}/");
        self.0.retain(|p, _| *p != path && !p.starts_with(&below));
    }

    /// Gives a path and all below it another place.
    pub(crate) fn rename(&mut self, path: &str, to: &str) {
        let (path, to) = (tidy(path), tidy(to));
        let below = format!("{path}/");
        let moved: Vec<String> =
            self.0.keys().filter(|p| **p == path || p.starts_with(&below)).cloned().collect();
        for old in moved {
            if let Some(node) = self.0.remove(&old) {
                self.0.insert(format!("{to}{}", &old[path.len()..]), node);
            }
        }
    }

    /// Changes what is said of a path; `false` when there is nothing.
    pub(crate) fn change(&mut self, path: &str, change: impl FnOnce(&mut Node)) -> bool {
        self.0.get_mut(&tidy(path)).map(change).is_some()
    }

    /// What there is at a path.
    pub(crate) fn get(&self, path: &str) -> Option<&Node> {
        let path = tidy(path);
        // The root is always there.
        if path.is_empty() && !self.0.contains_key("") {
            return None;
        }
        self.0.get(&path)
    }

    /// Everything below a path, nearest first.
    fn below(&self, path: &str) -> impl Iterator<Item = (&String, &Node)> {
        let start = format!("{}/", tidy(path));
        self.0.range(start.clone()..).take_while(move |(p, _)| p.starts_with(&start))
    }

    /// The names in a folder; `None` when it is none.
    pub(crate) fn names(&self, path: &str) -> Option<Vec<String>> {
        self.get(path).filter(|n| n.bytes.is_none())?;
        let base = tidy(path).len() + 1;
        let own = self.below(path).map(|(p, _)| p[base..].to_owned()).filter(|n| !n.contains('/'));
        Some(own.collect())
    }

    /// The header by which engines tell of a file.
    pub(crate) fn stat(&self, shown: &str, path: &str) -> Option<String> {
        let node = self.get(path)?;
        let name = tidy(shown).rsplit_once('/').map_or("/".to_owned(), |(_, n)| n.to_owned());
        let kind = if node.bytes.is_none() { GO_FOLDER } else { 0 };
        let stat = json!({
            "name": name, "size": node.bytes.as_ref().map_or(4096, |b| b.len()), "mode": kind | u64::from(node.mode),
            "mtime": node.written.to_string(), "linkTarget": "",
        });
        Some(base64::engine::general_purpose::STANDARD.encode(stat.to_string()))
    }

    /// A path and all below it as a tar archive whose names begin with its last part; of `path/.` what is in it.
    pub(crate) fn archive(&self, shown: &str, path: &str) -> std::io::Result<Option<Vec<u8>>> {
        let Some(root) = self.get(path) else { return Ok(None) };
        let name = tidy(shown).rsplit_once('/').map_or(".".to_owned(), |(_, n)| n.to_owned());
        let base = tidy(path);
        let mut tar = tar::Builder::new(Vec::new());
        if shown.ends_with("/.") {
            for (at, node) in self.below(path) {
                append(&mut tar, &at[base.len() + 1..], node)?;
            }
            return tar.into_inner().map(Some);
        }
        append(&mut tar, &name, root)?;
        for (at, node) in self.below(path) {
            append(&mut tar, &format!("{name}{}", &at[base.len()..]), node)?;
        }
        tar.into_inner().map(Some)
    }

    /// Unpacks an archive below a folder.
    pub(crate) fn unpack(&mut self, path: &str, archive: &[u8]) -> Result<(), Refusal> {
        match self.get(path) {
            None => return Err((404, format!("Could not find the file {path} in container"))),
            Some(node) if node.bytes.is_some() => {
                return Err((400, "extraction point is not a directory".to_owned()));
            }
            Some(_) => {}
        }
        let held: usize = self.0.values().filter_map(|n| n.bytes.as_ref()).map(|b| b.len()).sum();
        if held + archive.len() > MOST_BYTES {
            return Err((500, "write: no space left on device".to_owned()));
        }
        let broken = |e: std::io::Error| (400, format!("archive/tar: {e}"));
        let mut tar = tar::Archive::new(archive);
        for entry in tar.entries().map_err(broken)? {
            let mut entry = entry.map_err(broken)?;
            let name = String::from_utf8_lossy(&entry.path_bytes()).into_owned();
            let at = tidy(&format!("{path}/{name}"));
            let header = entry.header().clone();
            let node = Node {
                bytes: None,
                mode: header.mode().unwrap_or(0o644),
                user: header.uid().unwrap_or(0),
                group: header.gid().unwrap_or(0),
                written: header
                    .mtime()
                    .ok()
                    .and_then(|t| Timestamp::from_second(i64::try_from(t).ok()?).ok())
                    .unwrap_or_else(Timestamp::now),
            };
            if header.entry_type().is_dir() {
                self.folder(&at);
                self.0.insert(at, node);
            } else if header.entry_type().is_file() {
                let mut bytes = Vec::new();
                entry.read_to_end(&mut bytes).map_err(broken)?;
                if let Some((above, _)) = at.rsplit_once('/') {
                    self.folder(above);
                }
                self.0.insert(at, Node { bytes: Some(Arc::new(bytes)), ..node });
            }
        }
        Ok(())
    }
}

fn append(tar: &mut tar::Builder<Vec<u8>>, name: &str, node: &Node) -> std::io::Result<()> {
    let mut header = tar::Header::new_gnu();
    header.set_mode(node.mode);
    header.set_uid(node.user);
    header.set_gid(node.group);
    header.set_mtime(node.written.as_second().unsigned_abs());
    match &node.bytes {
        Some(bytes) => {
            header.set_entry_type(tar::EntryType::Regular);
            header.set_size(bytes.len() as u64);
            tar.append_data(&mut header, name, bytes.as_slice())
        }
        None => {
            header.set_entry_type(tar::EntryType::Directory);
            header.set_size(0);
            tar.append_data(&mut header, format!("{name}/"), std::io::empty())
        }
    }
}

/// What an image brings, filled into what was sent to make a container, as engines do.
pub(crate) fn with_image(mut body: Value, image: &Value) -> Value {
    // An empty list is an own one too: then the command is all that runs.
    let own_entrypoint = body["Entrypoint"].is_array();
    let is_empty = |v: &Value| v.is_null() || v == "" || v.as_array().is_some_and(Vec::is_empty);
    let mut keys = vec!["User", "WorkingDir", "Healthcheck", "StopSignal"];
    if !own_entrypoint {
        keys.push("Entrypoint");
        keys.push("Cmd");
    }
    for key in keys {
        if is_empty(&body[key]) && !is_empty(&image[key]) {
            body[key] = image[key].clone();
        }
    }
    for key in ["Labels", "ExposedPorts", "Volumes"] {
        let mut all = image[key].as_object().cloned().unwrap_or_default();
        all.extend(body[key].as_object().cloned().unwrap_or_default());
        body[key] = Value::Object(all);
    }
    let own: Vec<Value> = body["Env"].as_array().cloned().unwrap_or_default();
    let name = |v: &Value| v.as_str().and_then(|t| t.split('=').next()).unwrap_or_default().to_owned();
    let inherited = image["Env"].as_array().into_iter().flatten();
    let mut all: Vec<Value> =
        inherited.filter(|v| !own.iter().any(|o| name(o) == name(v))).cloned().collect();
    all.extend(own);
    body["Env"] = Value::Array(all);
    body
}

#[cfg(test)]
#[path = "files_tests.rs"]
mod tests;
