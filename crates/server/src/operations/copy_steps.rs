//! The steps of a target that copy images and volume data from another host.

use std::sync::Arc;
use std::time::{Duration, Instant};

use gubernum_core::journal::Progress;
use gubernum_core::plan::{Pass, Step, VolumeSettings};
use gubernum_core::reason::bytes_words;
use gubernum_engine::Done;

use crate::operations::copying::{CopyError, End, VolumeCopy, Way, copy_image};
use crate::operations::target_run::{Stopped, TELL_EVERY, TargetRun};

/// How long a host may be unreachable before a copy is given up.
const LOST: Duration = Duration::from_secs(3);
/// How long a copy that is given up may take to end by itself.
const LAST_WORDS: Duration = Duration::from_secs(3);

impl From<CopyError> for Stopped {
    fn from(error: CopyError) -> Self {
        match error {
            CopyError::CalledOff => Self::CalledOff,
            error => Self::Failed(error.to_string()),
        }
    }
}

impl TargetRun<'_> {
    /// Copies an image from another host.
    pub(super) async fn copy_image(&mut self, from: &str, image: &str) -> Result<Done, Stopped> {
        let size = self.executor.hub.look(|fleet| {
            let images = fleet.assets_of(from).map_or(&[][..], |a| &a.images);
            images.iter().find(|i| i.tags.iter().any(|t| t == image)).map(|i| i.size)
        });
        let (source, to) = (self.end(from)?, self.here());
        let way = Arc::new(Way::new(&self.active.cancel));
        self.shown(&way, from, size, copy_image(&source, &to, image, &way)).await?;
        Ok(Done::Changed)
    }

    /// Copies what is in a volume of another host into the one of this target.
    pub(super) async fn copy_volume(
        &mut self,
        from: &str,
        volume: &str,
        pass: Pass,
        verify: bool,
    ) -> Result<Done, Stopped> {
        let size = self.executor.hub.look(|fleet| {
            let volumes = fleet.assets_of(from).map_or(&[][..], |a| &a.volumes);
            volumes.iter().find(|v| v.name == volume).and_then(|v| v.size)
        });
        let way = Arc::new(Way::new(&self.active.cancel));
        let copy = VolumeCopy {
            from: self.end(from)?,
            source: volume.to_owned(),
            to: self.here(),
            target: self.name.clone(),
            way: way.clone(),
        };
        let now = self.executor.clock.now();
        let copied = match pass {
            Pass::First => {
                let first = self.shown(&way, from, size, copy.first(now)).await;
                first.map(|first| {
                    self.active.first_passes.lock().insert(self.name.clone(), first);
                    None
                })
            }
            Pass::Whole => self.shown(&way, from, size, copy.whole(verify)).await.map(Some),
            Pass::Rest => {
                let first = self.active.first_passes.lock().remove(&self.name);
                let wish = self.wish();
                self.shown(&way, from, size, copy.rest(first, &wish, verify)).await.map(Some)
            }
        };
        if copied.is_err() {
            // What a copy left that was given up in the middle; nobody waits for it.
            self.executor.tasks.spawn(async move { copy.release().await });
        }
        let Some(copied) = copied? else { return Ok(Done::Changed) };
        self.told = Some(match copied.files {
            0 => "no files to copy".to_owned(),
            files => {
                let verified = if verify { "verified" } else { "not verified" };
                let (bytes, checksum) = (bytes_words(copied.bytes), copied.checksum());
                format!("{bytes} in {files} files, {verified}, checksum {checksum}")
            }
        });
        Ok(Done::Changed)
    }

    fn here(&self) -> End {
        End { host: self.host.clone(), engine: self.engine.clone() }
    }

    fn end(&self, host: &str) -> Result<End, Stopped> {
        let engine = self.executor.links.engine(host).map_err(|e| Stopped::Failed(e.to_string()))?;
        Ok(End { host: host.to_owned(), engine })
    }

    /// How the volume of this target was made.
    fn wish(&self) -> VolumeSettings {
        let operation = self.active.operation.lock();
        let steps = operation.targets.iter().filter(|t| t.host == self.host).flat_map(|t| &t.steps);
        let mut wishes = steps.filter_map(|step| match step {
            Step::CreateVolume { name, wish } if *name == self.name => Some(wish.clone()),
            _ => None,
        });
        wishes.next().unwrap_or_default()
    }

    /// Waits for a copy and shows how far it is. Where one of its hosts becomes unreachable it is given up: calls to that one may
    /// not say so for half a minute, and what is stopped for the copy waits.
    async fn shown<T>(
        &self,
        way: &Way,
        from: &str,
        size: Option<u64>,
        work: impl Future<Output = Result<T, CopyError>>,
    ) -> Result<T, Stopped> {
        let telling = async {
            let mut lost: Option<(&str, Instant)> = None;
            loop {
                tokio::time::sleep(TELL_EVERY).await;
                lost =
                    self.out_of_reach(from).map(|host| (host, lost.map_or_else(Instant::now, |(_, at)| at)));
                match lost {
                    Some((_, at)) if at.elapsed() > LOST + LAST_WORDS => return,
                    Some((host, at)) if at.elapsed() > LOST && way.why_cut().is_none() => {
                        way.cut(format!("{host} became unreachable while its data was copied"));
                    }
                    _ => {}
                }
                let (doing, done) = way.now();
                let total = size.map_or(0, |size| size.max(done));
                let progress = Progress { doing: doing.to_owned(), done, total, layers: Vec::new() };
                self.active.operation.lock().targets[self.position].progress = Some(progress);
            }
        };
        let outcome = tokio::select! {
            outcome = work => outcome,
            () = telling => Err(CopyError::CalledOff),
        };
        self.active.operation.lock().targets[self.position].progress = None;
        match (outcome, way.why_cut()) {
            (Err(_), Some(why)) => Err(Stopped::Failed(why)),
            (outcome, _) => Ok(outcome?),
        }
    }

    /// Which of the two hosts cannot be reached.
    fn out_of_reach<'h>(&'h self, from: &'h str) -> Option<&'h str> {
        let is_lost = |host: &&str| self.executor.links.get(host).is_some_and(|link| link.live().is_none());
        [from, self.host.as_str()].into_iter().find(is_lost)
    }
}
