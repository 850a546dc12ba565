//! Writing a file so that what was there stays whole until the new one is: it is made beside its place and moved over it
//! by the container's own program. Where there is none (or the container does not run), it is written in its place.
//!
//! The paths have been judged by `spots`; changing files without writing them is in `file_changes`.

use gubernum_core::text::shown;
use gubernum_engine::exec::ExecWish;
use gubernum_engine::{Engine, EngineError};

use super::problem::ApiError;
use super::spots::Spot;
use crate::app::App;
use crate::auth::secrets::fresh;
use crate::files::{NewFile, wrapped};

/// The most that is read of what a program says.
const SAID: usize = 4096;
/// The longest name that leaves room for what is added to it.
const LONGEST_NAME: usize = 220;

/// Runs a program of the container as its root: its exit code and what it said.
pub(super) async fn program(spot: &Spot, command: &[&str]) -> Result<(Option<i64>, String), EngineError> {
    let wish = ExecWish {
        command: command.iter().map(|w| (*w).to_owned()).collect(),
        user: Some("0".to_owned()),
        ..ExecWish::default()
    };
    let (code, said) = spot.engine.run_to_end(&spot.id, &wish, SAID).await?;
    Ok((code, shown(String::from_utf8_lossy(&said).trim(), 300)))
}

/// Whether a program was missing.
pub(super) fn is_missing(outcome: &Result<(Option<i64>, String), EngineError>) -> bool {
    match outcome {
        Ok((code, _)) => matches!(code, Some(126 | 127)),
        Err(error) => error.to_string().contains("executable file not found"),
    }
}

/// A file that is being written beside its place. It is taken away when it does not get there.
pub(super) struct Beside {
    app: App,
    engine: Engine,
    container: String,
    folder: String,
    name: String,
    there: bool,
}

impl Beside {
    /// A place beside `folder/name`; none where it could not be moved over it.
    pub(super) async fn find(app: &App, spot: &Spot, folder: &str, name: &str) -> Option<Self> {
        let full = format!("{folder}/{name}");
        if !spot.runs || name.len() > LONGEST_NAME || spot.mounted_at(&full) {
            return None;
        }
        if is_missing(&program(spot, &["mv", "--help"]).await) {
            return None;
        }
        let random: String = fresh("").ok()?.chars().filter(char::is_ascii_alphanumeric).take(8).collect();
        Some(Self {
            app: app.clone(),
            engine: spot.engine.clone(),
            container: spot.id.clone(),
            folder: folder.to_owned(),
            name: format!(".{name}.{random}.part"),
            there: true,
        })
    }

    /// What it is called until then.
    pub(super) fn name(&self) -> &str {
        &self.name
    }

    fn path(&self) -> String {
        format!("{}/{}", self.folder.trim_end_matches('/'), self.name)
    }

    fn away(&self) -> Away {
        Away {
            engine: self.engine.clone(),
            container: self.container.clone(),
            folder: self.folder.clone(),
            name: self.name.clone(),
            now: self.app.clock.now(),
        }
    }

    /// Takes it away: it was not written whole.
    pub(super) async fn give_up(mut self) {
        self.there = false;
        self.away().run().await;
    }

    /// Puts it in its place.
    pub(super) async fn take_over(mut self, spot: &Spot, full: &str) -> Result<(), ApiError> {
        let here = self.path();
        let moved = program(spot, &["mv", "-f", "--", &here, full]).await?;
        if moved.0 == Some(0) {
            self.there = false;
            return Ok(());
        }
        // The engine mounts some files by itself, such as the one with the names of hosts: nothing can be moved over those.
        let copied = program(spot, &["cp", "--", &here, full]).await?;
        if copied.0 == Some(0) {
            return Ok(());
        }
        let text = format!("`{}` was not written: {}", shown(full, 200), copied.1);
        Err(ApiError::new("refused-inside", "The container refused", 409, text))
    }
}

/// What takes a half-written file away again.
struct Away {
    engine: Engine,
    container: String,
    folder: String,
    name: String,
    now: jiff::Timestamp,
}

impl Away {
    async fn remove(&self) -> Result<(), EngineError> {
        let path = format!("{}/{}", self.folder.trim_end_matches('/'), self.name);
        let command = ["rm", "-f", "--", &path].map(str::to_owned).to_vec();
        let wish = ExecWish { command, user: Some("0".to_owned()), ..ExecWish::default() };
        self.engine.run_to_end(&self.container, &wish, SAID).await.map(drop)
    }

    /// On a full disk no program can be run: then it is made empty first, which the engine can without one.
    async fn run(self) {
        if self.remove().await.is_ok() {
            return;
        }
        let file = NewFile { name: self.name.clone(), size: 0, mode: 0o600, user: 0, group: 0 };
        let empty = wrapped(&file, self.now, futures_util::stream::empty());
        if let Err(error) = self.engine.write_archive(&self.container, &self.folder, empty).await {
            tracing::debug!("{} could not be made empty: {error}", self.name);
        }
        if let Err(error) = self.remove().await {
            tracing::warn!("{}/{} stays behind in a container: {error}", self.folder, self.name);
        }
    }
}

impl Drop for Beside {
    fn drop(&mut self) {
        // Whoever was sending it has gone away.
        if self.there {
            self.app.tasks.spawn(self.away().run());
        }
    }
}

/// The engine's words when a file was not written, with the cause and what became of what was there.
pub(super) fn not_written(error: EngineError, own: &str, whole: bool) -> ApiError {
    let said = error.to_string().to_ascii_lowercase();
    if !said.contains("no space left") && !said.contains("disk quota") {
        return error.into();
    }
    let kept = if whole {
        "what was there is as before"
    } else {
        "what was there may be gone, and a part of the new one be there"
    };
    let text = format!("the host's disk is full: `{}` was not written; {kept}", shown(own, 200));
    ApiError::new("disk-full", "The disk is full", 507, text)
}

/// The numbers of a file's owner and group, where the container can tell them.
pub(super) async fn owner(spot: &Spot, full: &str) -> Option<(u64, u64)> {
    let (code, said) = program(spot, &["stat", "-c", "%u:%g", "--", full]).await.ok()?;
    let (user, group) = said.split_once(':')?;
    (code == Some(0)).then(|| Some((user.parse().ok()?, group.trim().parse().ok()?))).flatten()
}
