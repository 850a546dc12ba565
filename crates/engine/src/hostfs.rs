//! Lists and creates folders of a host through its engine, which has no call for it: a container that is never
//! started mounts the folder, and the engine's archive call reads it.
//!
//! The container is labelled [`HELPER_LABEL`], which the fleet leaves out, and is gone when the answer is there.

use std::sync::atomic::{AtomicU64, Ordering};

use base64::Engine as _;
use bytes::Bytes;
use gubernum_core::definition::NewFolder;
use gubernum_core::definition::check::PathEntry;
use gubernum_core::own_labels::current;
use http::Method;
use jiff::Timestamp;
use percent_encoding::{NON_ALPHANUMERIC, utf8_percent_encode};
use serde_json::{Value, json};

use crate::calls::checked;
use crate::client::{CALL_TIMEOUT, Call, Engine};
use crate::defined::map;
use crate::error::EngineError;
use crate::wire;

/// The label of containers that only help, e.g. to look at a folder.
pub const HELPER_LABEL: &str = "gubernum.helper";
/// The empty image that helpers are made from.
pub const HELPER_IMAGE: &str = "localhost/gubernum/nothing:latest";
/// How the names of helpers begin.
pub const HELPER_NAME: &str = "gubernum-helper-";
/// Where a helper mounts what is looked at.
pub const PLACE: &str = "/looked-at";
/// How many links are followed.
const MOST_LINKS: usize = 20;

/// A container that is never started, to reach files through.
#[derive(Debug)]
pub struct Helper<'a> {
    engine: &'a Engine,
    /// Its id.
    pub id: String,
}

/// What the engine says of a file.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Stat {
    /// Its name.
    pub name: String,
    /// Its bytes.
    pub size: u64,
    /// It is a folder.
    pub folder: bool,
    /// Where it leads, when it is a link.
    pub link: Option<String>,
    /// Permissions.
    pub mode: u32,
    /// When it was last written, RFC 3339.
    pub written: String,
}

/// The engine writes modes as Go does.
const GO_FOLDER: u64 = 1 << 31;
const GO_LINK: u64 = 1 << 27;

impl Engine {
    /// Makes a helper with one mount at [`PLACE`].
    ///
    /// # Errors
    /// The engine's error.
    pub async fn helper(&self, mount: Value) -> Result<Helper<'_>, EngineError> {
        self.need_helper_image().await?;
        let body = json!({
            "Image": HELPER_IMAGE, "Cmd": ["nothing"], "Labels": {HELPER_LABEL: "files"},
            "HostConfig": {"NetworkMode": "none", "Mounts": [mount]},
        });
        static COUNT: AtomicU64 = AtomicU64::new(0);
        let count = COUNT.fetch_add(1, Ordering::Relaxed);
        let path =
            format!("/containers/create?name={HELPER_NAME}{}-{count}", Timestamp::now().as_nanosecond());
        let call = Call { body: Some(Bytes::from(body.to_string())), ..Call::post("make helper", &path) };
        let made: wire::Created = self.json(call).await?;
        Ok(Helper { engine: self, id: made.id })
    }

    /// Removes helpers that hold a volume, as an end of the service in the middle of a copy leaves them.
    ///
    /// # Errors
    /// The engine's error.
    pub async fn release_volume(&self, volume: &str) -> Result<(), EngineError> {
        let all: Vec<Value> = self.json(Call::get("list helpers", "/containers/json?all=1")).await?;
        let holds = |c: &&Value| {
            let mounts = c["Mounts"].as_array().into_iter().flatten();
            current(map(&c["Labels"])).contains_key(HELPER_LABEL)
                && mounts.into_iter().any(|m| m["Name"] == volume)
        };
        for id in all.iter().filter(holds).filter_map(|c| c["Id"].as_str()) {
            match self.remove(id, true, false).await {
                Ok(_) => {}
                Err(e) if e.status() == Some(404) => {}
                Err(e) => return Err(e),
            }
        }
        Ok(())
    }

    async fn need_helper_image(&self) -> Result<(), EngineError> {
        if self.image_id_of(HELPER_IMAGE).await?.is_some() {
            return Ok(());
        }
        let mut folder = tar::Header::new_gnu();
        folder.set_entry_type(tar::EntryType::Directory);
        folder.set_mode(0o755);
        folder.set_size(0);
        let archive = archive_of(|tar| tar.append_data(&mut folder, "looked-at/", std::io::empty()))?;
        let path = "/images/create?fromSrc=-&repo=localhost%2Fgubernum%2Fnothing&tag=latest";
        let call =
            Call { body: Some(archive), timeout: CALL_TIMEOUT * 2, ..Call::post("make helper image", path) };
        self.ok(call).await.map(drop)
    }

    /// What a path inside a container is, running or not.
    ///
    /// # Errors
    /// 404 when there is nothing.
    pub async fn stat(&self, container: &str, path: &str) -> Result<Stat, EngineError> {
        let what = "look at file";
        let query = format!(
            "/containers/{}/archive?path={}",
            checked(container)?,
            utf8_percent_encode(path, NON_ALPHANUMERIC)
        );
        let (status, body, headers) =
            self.send(Call { method: Method::HEAD, ..Call::get(what, &query) }).await?;
        if !status.is_success() {
            let refused = self.refused(status, &body, what);
            // An answer without a body has no words of its own.
            let message = if status.as_u16() == 404 {
                format!("'{}' does not exist", gubernum_core::text::shown(path, 120))
            } else {
                refused.to_string()
            };
            return Err(EngineError::Answer { what: "", status: status.as_u16(), message });
        }
        let header =
            headers.get("x-docker-container-path-stat").and_then(|v| v.to_str().ok()).unwrap_or_default();
        let unreadable = || EngineError::Unreadable { what, detail: "its header".to_owned() };
        let text = base64::engine::general_purpose::STANDARD.decode(header).map_err(|_| unreadable())?;
        let stat: Value = serde_json::from_slice(&text).map_err(|_| unreadable())?;
        let mode = stat["mode"].as_u64().unwrap_or(0);
        Ok(Stat {
            name: stat["name"].as_str().unwrap_or_default().to_owned(),
            size: stat["size"].as_u64().unwrap_or(0),
            folder: mode & GO_FOLDER != 0,
            link: (mode & GO_LINK != 0).then(|| stat["linkTarget"].as_str().unwrap_or_default().to_owned()),
            mode: u32::try_from(mode & 0o7777).unwrap_or(0),
            written: stat["mtime"].as_str().unwrap_or_default().to_owned(),
        })
    }

    /// What there is at paths of the host.
    ///
    /// # Errors
    /// When the engine cannot help.
    pub async fn at_paths(&self, paths: &[String]) -> Result<Vec<PathEntry>, EngineError> {
        let mount = json!({"Type": "bind", "Source": "/", "Target": PLACE, "ReadOnly": true});
        let helper = self.helper(mount).await?;
        let mut found = Vec::new();
        let mut outcome = Ok(());
        for path in paths {
            match helper.walk(path).await {
                Ok((at, _)) => found.push(at),
                Err(e) => {
                    outcome = Err(e);
                    break;
                }
            }
        }
        helper.done().await?;
        outcome.map(|()| found)
    }

    /// Makes a folder of the host with its missing parents; one that is there is left as it is.
    ///
    /// # Errors
    /// When a file is there, or the engine's error.
    pub async fn make_folder(&self, path: &str, new: &NewFolder) -> Result<bool, EngineError> {
        let mount = json!({"Type": "bind", "Source": "/", "Target": PLACE, "ReadOnly": true});
        let helper = self.helper(mount).await?;
        let walked = helper.walk(path).await;
        helper.done().await?;
        let (at, resolved) = walked?;
        match at {
            PathEntry::Folder => return Ok(false),
            // Who wants no folder of a certain owner takes what is there.
            PathEntry::File if *new == NewFolder::default() => return Ok(false),
            PathEntry::File => {
                let message = format!(
                    "'{}' is a file on the host, a folder is needed",
                    gubernum_core::text::shown(path, 120)
                );
                return Err(EngineError::Answer { what: "", status: 409, message });
            }
            PathEntry::Nothing => {}
        }
        // `resolved` is the deepest folder that is there, the rest is to be made in it.
        let (parent, rest) = resolved;
        let mode = new.mode.as_deref().and_then(|m| u32::from_str_radix(m, 8).ok()).unwrap_or(0o755);
        let archive = archive_of(|tar| {
            let mut so_far = String::new();
            for part in &rest {
                so_far.push_str(part);
                so_far.push('/');
                let mut header = tar::Header::new_gnu();
                header.set_entry_type(tar::EntryType::Directory);
                header.set_mode(mode);
                header.set_uid(new.user.into());
                header.set_gid(new.group.into());
                header.set_size(0);
                tar.append_data(&mut header, &so_far, std::io::empty())?;
            }
            Ok(())
        })?;
        let mount = json!({"Type": "bind", "Source": parent, "Target": PLACE});
        let helper = self.helper(mount).await?;
        let put = self.put_archive(&helper.id, PLACE, archive).await;
        helper.done().await?;
        put.map(|()| true)
    }

    /// Makes one folder in a folder of a container, running or not.
    ///
    /// # Errors
    /// The engine's error.
    pub async fn make_folder_in(
        &self,
        container: &str,
        folder: &str,
        name: &str,
        new: &NewFolder,
    ) -> Result<(), EngineError> {
        let mode = new.mode.as_deref().and_then(|m| u32::from_str_radix(m, 8).ok()).unwrap_or(0o755);
        let archive = archive_of(|tar| {
            let mut header = tar::Header::new_gnu();
            header.set_entry_type(tar::EntryType::Directory);
            header.set_mode(mode);
            header.set_uid(new.user.into());
            header.set_gid(new.group.into());
            header.set_mtime(Timestamp::now().as_second().unsigned_abs());
            header.set_size(0);
            tar.append_data(&mut header, format!("{name}/"), std::io::empty())
        })?;
        self.put_archive(container, folder, archive).await
    }

    /// Unpacks a small archive into a folder of a container.
    ///
    /// # Errors
    /// The engine's error.
    pub async fn put_archive(&self, container: &str, path: &str, archive: Bytes) -> Result<(), EngineError> {
        let query = format!(
            "/containers/{}/archive?path={}",
            checked(container)?,
            utf8_percent_encode(path, NON_ALPHANUMERIC)
        );
        let call = Call {
            method: Method::PUT,
            body: Some(archive),
            timeout: CALL_TIMEOUT * 4,
            ..Call::get("put files", &query)
        };
        self.ok(call).await.map(drop)
    }
}

pub(crate) fn archive_of(
    fill: impl FnOnce(&mut tar::Builder<Vec<u8>>) -> std::io::Result<()>,
) -> Result<Bytes, EngineError> {
    let unreadable = |e: std::io::Error| EngineError::Unreadable { what: "archive", detail: e.to_string() };
    let mut tar = tar::Builder::new(Vec::new());
    fill(&mut tar).map_err(unreadable)?;
    Ok(Bytes::from(tar.into_inner().map_err(unreadable)?))
}

impl Helper<'_> {
    /// Walks down a path of the host part by part, following links as the host would: to the engine, a link that
    /// begins with `/` would lead into the helper. Gives what is there, and the deepest folder with the parts that
    /// are missing below it.
    async fn walk(&self, path: &str) -> Result<(PathEntry, (String, Vec<String>)), EngineError> {
        let parts = |p: &str| -> Vec<String> {
            p.split('/').filter(|x| !x.is_empty() && *x != ".").map(str::to_owned).collect()
        };
        let mut left: std::collections::VecDeque<String> = parts(path).into();
        let mut here: Vec<String> = Vec::new();
        let mut links = 0;
        while let Some(part) = left.pop_front() {
            if part == ".." {
                here.pop();
                continue;
            }
            let full =
                format!("{PLACE}/{}", here.iter().chain([&part]).cloned().collect::<Vec<_>>().join("/"));
            let parent = format!("/{}", here.join("/"));
            match self.engine.stat(&self.id, &full).await {
                Ok(Stat { link: Some(target), .. }) if links < MOST_LINKS => {
                    links += 1;
                    // podman gives links as they look from inside the helper.
                    let target = target.strip_prefix(PLACE).unwrap_or(&target).to_owned();
                    if target.starts_with('/') {
                        here.clear();
                    }
                    for p in parts(&target).into_iter().rev() {
                        left.push_front(p);
                    }
                }
                Ok(stat) if stat.folder => here.push(part),
                Ok(_) => {
                    left.push_front(part);
                    return Ok((PathEntry::File, (parent, left.into())));
                }
                Err(e) if e.status() == Some(404) => {
                    left.push_front(part);
                    return Ok((PathEntry::Nothing, (parent, left.into())));
                }
                Err(e) => return Err(e),
            }
        }
        Ok((PathEntry::Folder, (format!("/{}", here.join("/")), Vec::new())))
    }

    /// Removes the helper.
    ///
    /// # Errors
    /// When the engine does not answer.
    pub async fn done(self) -> Result<(), EngineError> {
        match self.engine.remove(&self.id, true, false).await {
            Ok(_) => Ok(()),
            Err(e) if e.status() == Some(404) => Ok(()),
            Err(e) => Err(e),
        }
    }
}
