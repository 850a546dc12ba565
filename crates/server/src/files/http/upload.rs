//! Writes a file without damaging the old one until the new one is complete: it is written beside its place and moved
//! over it by the container's own program. Without such a program, or in a stopped container, it is written in place.
//! An interrupted upload can be resumed.
//!
//! Paths were checked by `root`; changes of files other than their contents are in `changes`.

use std::sync::Arc;
use std::time::Duration;

use gubernum_core::text::shown;
use gubernum_engine::exec::ExecWish;
use gubernum_engine::{Engine, EngineError};
use gubernum_store::StoreError;
use gubernum_store::uploads::HalfUpload;
use jiff::{SignedDuration, Timestamp};
use tokio::sync::OwnedMutexGuard;

use crate::access::fresh_secret;
use crate::files::FilesContext;
use crate::files::http::root::FileRoot;
use crate::files::streams::{NewFile, wrapped};
use crate::web::problem::ApiError;

/// The most that is read of what a program says.
const SAID: usize = 4096;
/// The longest name that leaves room for what is added to it.
const LONGEST_NAME: usize = 210;
/// How long another request for the same upload is waited for: one whose sender is silent is over by then.
const TURN: Duration = Duration::from_secs(40);
/// The engine may still write what it has got when a connection broke: it is looked at until nothing comes any more.
const SETTLE: Duration = Duration::from_millis(200);
const SETTLE_LOOKS: usize = 20;
/// How long an interrupted upload may be resumed, and how often it is looked for those that nobody resumed.
const KEPT: SignedDuration = SignedDuration::from_hours(1);
const SWEEP_EVERY: Duration = Duration::from_secs(15);
/// How long what cannot be removed now is left for another time: that of a container that refuses, that of a host which
/// does not answer.
const LATER: SignedDuration = SignedDuration::from_mins(10);
const SOON: SignedDuration = SignedDuration::from_secs(5);

/// Runs a program of the container as its root: its exit code and what it said.
pub(crate) async fn program(root: &FileRoot, command: &[&str]) -> Result<(Option<i64>, String), EngineError> {
    let wish = ExecWish {
        command: command.iter().map(|w| (*w).to_owned()).collect(),
        user: Some("0".to_owned()),
        ..ExecWish::default()
    };
    let (code, said) = root.engine.run_to_end(&root.id, &wish, SAID).await?;
    Ok((code, shown(String::from_utf8_lossy(&said).trim(), 300)))
}

/// Whether a program was missing.
pub(crate) fn is_missing(outcome: &Result<(Option<i64>, String), EngineError>) -> bool {
    match outcome {
        Ok((code, _)) => matches!(code, Some(126 | 127)),
        Err(error) => error.to_string().contains("executable file not found"),
    }
}

/// A file that is being written next to its destination. If the sender goes away, it is removed, or with an upload key kept for an hour
/// to be resumed. A stop of the service in the middle leaves it too: its path is recorded before it is created.
pub(crate) struct PartialFile {
    spots: FileRoots,
    has_key: bool,
    there: bool,
    turn: Option<OwnedMutexGuard<()>>,
}

/// Its path.
#[derive(Clone)]
struct FileRoots {
    context: Arc<FilesContext>,
    engine: Engine,
    half: HalfUpload,
}

impl PartialFile {
    /// A place beside `folder/name`; none where it could not be moved over it. With a `key` of the sender's it can be
    /// resumed.
    pub(crate) async fn find(
        context: &Arc<FilesContext>,
        root: &FileRoot,
        folder: &str,
        name: &str,
        key: Option<&str>,
    ) -> Option<Self> {
        let full = format!("{}/{name}", folder.trim_end_matches('/'));
        if !root.runs || name.len() > LONGEST_NAME || root.mounted_at(&full) {
            return None;
        }
        if is_missing(&program(root, &["mv", "--help"]).await) {
            return None;
        }
        let random =
            || Some(fresh_secret("").ok()?.chars().filter(char::is_ascii_alphanumeric).take(8).collect());
        let mark: String = key.map(str::to_owned).or_else(random)?;
        let half = HalfUpload {
            host: root.host.clone(),
            container: root.id.clone(),
            folder: folder.trim_end_matches('/').to_owned(),
            part: format!(".{name}.{mark}.part"),
            more: format!(".{name}.{mark}.more"),
        };
        let spots = FileRoots { context: context.clone(), engine: root.engine.clone(), half };
        Some(Self { spots, has_key: key.is_some(), there: false, turn: None })
    }

    /// Waits until nobody else sends or asks for the same upload.
    pub(crate) async fn take_turn(&mut self) -> Result<(), ApiError> {
        let turn = self.spots.context.uploads.turn(&self.spots.half).lock_owned();
        let Ok(turn) = tokio::time::timeout(TURN, turn).await else {
            let text = "this upload is already in progress; wait for it, or start another one";
            return Err(ApiError::new("busy", "Upload in progress", 409, text));
        };
        self.turn = Some(turn);
        Ok(())
    }

    /// How many bytes have come, once nothing more comes of a connection that broke.
    pub(crate) async fn received(&self) -> Result<u64, ApiError> {
        let mut last = None;
        for _ in 0..SETTLE_LOOKS {
            let size = self.spots.size().await?;
            if last == Some(size) {
                return Ok(size);
            }
            last = Some(size);
            tokio::time::sleep(SETTLE).await;
        }
        Ok(last.unwrap_or(0))
    }

    /// The name under which bytes from this one on are to be written.
    pub(crate) async fn name(&mut self, from: u64) -> Result<String, ApiError> {
        if from > 0 {
            let size = self.spots.size().await?;
            if size != from {
                let text = format!("wrong resume offset {from}: {size} bytes have arrived");
                return Err(ApiError::new("elsewhere", "Wrong resume offset", 409, text));
            }
        }
        if !self.spots.note().await? {
            let text = "too many unfinished uploads; try again in an hour";
            return Err(ApiError::new("too-many", "Too many uploads", 429, text));
        }
        self.there = true;
        let half = &self.spots.half;
        Ok(if from > 0 { half.more.clone() } else { half.part.clone() })
    }

    /// Puts what came behind the rest, where it came in several goes.
    pub(crate) async fn join(&self, root: &FileRoot, file: &NewFile, whole: u64) -> Result<(), ApiError> {
        let refused = |said: String| {
            let text = format!("the parts could not be joined: {said}");
            ApiError::new("refused-inside", "The container refused", 409, text)
        };
        let part = self.spots.path(&self.spots.half.part);
        self.spots.append().await.map_err(|e| refused(e.to_string()))?;
        let size = self.spots.size().await?;
        if size != whole {
            return Err(refused(format!("{size} bytes arrived instead of {whole}")));
        }
        let (owner, mode) = (format!("{}:{}", file.user, file.group), format!("{:o}", file.mode));
        for command in [["chown", &owner, "--", &part], ["chmod", &mode, "--", &part]] {
            let (code, said) = program(root, &command).await?;
            if code != Some(0) {
                return Err(refused(said));
            }
        }
        Ok(())
    }

    /// It was not written whole: it is removed, or left to be resumed.
    pub(crate) async fn give_up(mut self, for_good: bool) {
        self.there = false;
        self.spots.clone().end(self.has_key && !for_good).await;
    }

    /// Puts it in its place.
    pub(crate) async fn take_over(mut self, root: &FileRoot, full: &str) -> Result<(), ApiError> {
        let here = self.spots.path(&self.spots.half.part);
        self.has_key = false;
        let moved = program(root, &["mv", "-f", "--", &here, full]).await?;
        if moved.0 == Some(0) {
            self.there = false;
            self.spots.forget().await;
            return Ok(());
        }
        // The engine mounts some files by itself, such as the one with the names of hosts: nothing can be moved over those.
        let copied = program(root, &["cp", "--", &here, full]).await?;
        if copied.0 == Some(0) {
            return Ok(());
        }
        let text = format!("'{}' was not written: {}", shown(full, 200), copied.1);
        Err(ApiError::new("refused-inside", "The container refused", 409, text))
    }
}

impl Drop for PartialFile {
    fn drop(&mut self) {
        if !self.there {
            return;
        }
        // The sender has gone away.
        let (spots, has_key, turn) = (self.spots.clone(), self.has_key, self.turn.take());
        self.spots.context.tasks.spawn(async move {
            spots.end(has_key).await;
            drop(turn);
        });
    }
}

impl FileRoots {
    fn path(&self, name: &str) -> String {
        format!("{}/{name}", self.half.folder)
    }

    /// Writes down that it is there and may be resumed for an hour from now; whether there was room for that.
    async fn note(&self) -> Result<bool, StoreError> {
        let (half, until) = (self.half.clone(), self.context.clock.now() + KEPT);
        self.context.db.run(move |store| store.note_upload(&half, until)).await
    }

    async fn forget(&self) {
        let half = self.half.clone();
        if let Err(error) = self.context.db.run(move |store| store.forget_upload(&half)).await {
            tracing::warn!("unfinished upload {}: next check in an hour: {error}", self.half.part);
        }
    }

    /// Leaves what has come, all of it in one file, or removes it.
    async fn end(self, leave: bool) {
        if !leave {
            return self.remove().await;
        }
        if let Err(error) = self.append().await {
            tracing::debug!("the last part of an upload was dropped: {error}");
        }
        if let Err(error) = self.note().await {
            tracing::warn!(
                "unfinished upload {}: can be resumed for less than an hour: {error}",
                self.half.part
            );
        }
    }

    async fn size(&self) -> Result<u64, EngineError> {
        match self.engine.stat(&self.half.container, &self.path(&self.half.part)).await {
            Ok(stat) => Ok(stat.size),
            Err(e) if e.status() == Some(404) => Ok(0),
            Err(e) => Err(e),
        }
    }

    async fn run(&self, command: &[&str]) -> Result<Option<i64>, EngineError> {
        let command = command.iter().map(|w| (*w).to_owned()).collect();
        let wish = ExecWish { command, user: Some("0".to_owned()), ..ExecWish::default() };
        Ok(self.engine.run_to_end(&self.half.container, &wish, SAID).await?.0)
    }

    /// Puts what comes behind to what has come.
    async fn append(&self) -> Result<(), EngineError> {
        let (part, more) = (self.path(&self.half.part), self.path(&self.half.more));
        if self.engine.stat(&self.half.container, &more).await.is_err_and(|e| e.status() == Some(404)) {
            return Ok(());
        }
        let script = "cat -- \"$1\" >> \"$2\" && rm -f -- \"$1\"";
        match self.run(&["sh", "-c", script, "sh", &more, &part]).await? {
            Some(0) => Ok(()),
            code => {
                let message = format!("'cat' ended with exit code {}", code.unwrap_or(-1));
                Err(EngineError::Answer { what: "", status: 409, message })
            }
        }
    }

    async fn rm(&self) -> Result<(), EngineError> {
        let (part, more) = (self.path(&self.half.part), self.path(&self.half.more));
        match self.run(&["rm", "-f", "--", &part, &more]).await {
            Ok(Some(0)) => Ok(()),
            Ok(code) => {
                let message = format!("'rm' ended with exit code {}", code.unwrap_or(-1));
                Err(EngineError::Answer { what: "", status: 409, message })
            }
            // The container is gone, and what was in it.
            Err(e) if e.status() == Some(404) => Ok(()),
            Err(e) => Err(e),
        }
    }

    /// Removes it, now or later. On a full disk no program can be run: then it is made empty first, which the engine can
    /// without one.
    async fn remove(self) {
        if self.rm().await.is_err() {
            for name in [&self.half.part, &self.half.more] {
                let file = NewFile { name: name.clone(), size: 0, mode: 0o600, user: 0, group: 0 };
                let empty = wrapped(&file, self.context.clock.now(), futures_util::stream::empty());
                let (id, folder) = (&self.half.container, &self.half.folder);
                if let Err(error) = self.engine.write_archive(id, folder, empty).await {
                    tracing::debug!("{name} could not be truncated: {error}");
                }
            }
            if let Err(error) = self.rm().await {
                let later = self.context.clock.now() + LATER;
                tracing::warn!(
                    "unfinished upload {}: stays in the container until {later}: {error}",
                    self.path(&self.half.part)
                );
                return put_off(&self.context, self.half.clone(), later).await;
            }
        }
        self.forget().await;
    }
}

async fn put_off(context: &FilesContext, half: HalfUpload, until: Timestamp) {
    if let Err(error) = context.db.run(move |store| store.note_upload(&half, until)).await {
        tracing::warn!("an unfinished upload is checked again at once: {error}");
    }
}

/// Removes what nobody resumed, and what an earlier run of the service left behind.
pub(crate) async fn sweep(context: Arc<FilesContext>) {
    let mut every = tokio::time::interval(SWEEP_EVERY);
    while context.end.run_until_cancelled(every.tick()).await.is_some() {
        let now = context.clock.now();
        match context.db.run(move |store| store.overdue_uploads(now)).await {
            Ok(overdue) => {
                for half in overdue {
                    sweep_one(&context, half).await;
                }
            }
            Err(error) => tracing::warn!("unfinished uploads are checked again soon: {error}"),
        }
    }
}

async fn sweep_one(context: &Arc<FilesContext>, half: HalfUpload) {
    let turn = context.uploads.turn(&half);
    let Ok(_turn) = turn.try_lock() else { return };
    match context.links.engine(&half.host) {
        Ok(engine) => FileRoots { context: context.clone(), engine, half }.remove().await,
        // A host that was removed keeps its partial files; one that does not answer is asked later.
        Err(_) if context.hub.look(|fleet| fleet.host(&half.host).is_none()) => {
            if let Err(error) = context.db.run(move |store| store.forget_upload(&half)).await {
                tracing::warn!("an unfinished upload of a removed host is still recorded: {error}");
            }
        }
        Err(_) => put_off(context, half, context.clock.now() + SOON).await,
    }
}

/// The engine's words when a file was not written, with the cause and what became of what was there.
pub(crate) fn not_written(error: EngineError, own: &str, whole: bool) -> ApiError {
    let said = error.to_string().to_ascii_lowercase();
    if !said.contains("no space left") && !said.contains("disk quota") {
        return error.into();
    }
    let kept =
        if whole { "the existing file is unchanged" } else { "the existing file may be overwritten in part" };
    let text = format!("the host's disk is full: '{}' was not written; {kept}", shown(own, 200));
    ApiError::new("disk-full", "The disk is full", 507, text)
}

/// The numbers of a file's owner and group, where the container can tell them.
pub(crate) async fn owner(root: &FileRoot, full: &str) -> Option<(u64, u64)> {
    let (code, said) = program(root, &["stat", "-c", "%u:%g", "--", full]).await.ok()?;
    let (user, group) = said.split_once(':')?;
    (code == Some(0)).then(|| Some((user.parse().ok()?, group.trim().parse().ok()?))).flatten()
}
