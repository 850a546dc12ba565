//! Data on its way from one engine to another: images and what is in volumes. The service passes it on piece by piece and holds
//! nothing but the piece that is on its way; what is in a volume is summed up as it goes by.
//!
//! [`passes`] reads archives, [`pipe`] lets them through. What has to be sent again is core's question
//! ([`gubernum_core::moving::manifest`]); when what is copied is the plan's.

mod passes;
mod pipe;

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::time::Duration;

use gubernum_core::moving::Manifest;
use gubernum_core::plan::VolumeSettings;
use gubernum_engine::hostfs::PLACE;
use gubernum_engine::{Engine, EngineError};
use jiff::Timestamp;
use parking_lot::Mutex;
use tokio_util::sync::CancellationToken;

use passes::{Rest, Sent};

/// What all of a helper's mounted volume is called in an archive call: names come without the folder's own.
fn all_of_it() -> String {
    format!("{PLACE}/.")
}

/// How long a host may take to have a helper removed.
const TIDIES: Duration = Duration::from_secs(5);

/// Why data did not arrive.
#[derive(Debug, thiserror::Error)]
pub(super) enum CopyError {
    /// An engine refused.
    #[error(transparent)]
    Engine(#[from] EngineError),
    /// Reading from the source failed.
    #[error("reading from {host} failed: {why}")]
    Source {
        /// The host.
        host: String,
        /// What happened.
        why: String,
    },
    /// The one that is written to did not take it.
    #[error("{host} refused the data: {why}")]
    Target {
        /// The host.
        host: String,
        /// What happened.
        why: String,
    },
    /// Somebody called it off.
    #[error("cancelled")]
    CalledOff,
    /// What arrived is not what was sent.
    #[error(
        "verification failed on {host}: {sent} sent, {there} found; copy it again, and check the disk if it happens twice"
    )]
    Differs {
        /// The host.
        host: String,
        /// What was sent, in words.
        sent: String,
        /// What is there.
        there: String,
    },
}

/// How far a copy is, for display, and whether it is cancelled.
#[derive(Default)]
pub(super) struct Way {
    /// Bytes that have gone by.
    passed: AtomicU64,
    /// It is being read back.
    compares: AtomicBool,
    called_off: CancellationToken,
    /// Why it was cut from outside, if it was: a host became unreachable.
    cut: Mutex<Option<String>>,
}

impl Way {
    pub(super) fn new(called_off: &CancellationToken) -> Self {
        Self { called_off: called_off.child_token(), ..Self::default() }
    }

    /// Ends the copy, because one of its hosts is unreachable: a connection alone may take many minutes to say so.
    pub(super) fn cut(&self, why: String) {
        *self.cut.lock() = Some(why);
        self.called_off.cancel();
    }

    /// Why it was cut, if it was.
    pub(super) fn why_cut(&self) -> Option<String> {
        self.cut.lock().clone()
    }

    /// What is being done, and the bytes that have gone by.
    pub(super) fn now(&self) -> (&'static str, u64) {
        let doing = if self.compares.load(Ordering::Relaxed) { "comparing" } else { "copying" };
        (doing, self.passed.load(Ordering::Relaxed))
    }
}

/// One end of a copy.
#[derive(Clone)]
pub(super) struct End {
    /// Its host.
    pub(super) host: String,
    /// Its engine.
    pub(super) engine: Engine,
}

/// A volume's data on its way.
pub(super) struct VolumeCopy {
    pub(super) from: End,
    pub(super) source: String,
    pub(super) to: End,
    pub(super) target: String,
    pub(super) way: Arc<Way>,
}

/// What a first pass found, for the second.
#[derive(Debug, Clone)]
pub(super) struct FirstPass {
    began: Timestamp,
    manifest: Manifest,
}

impl VolumeCopy {
    /// All of it while it may still change.
    pub(super) async fn first(&self, now: Timestamp) -> Result<FirstPass, CopyError> {
        Ok(FirstPass { began: now, manifest: self.all().await? })
    }

    /// All of it.
    pub(super) async fn whole(&self, verify: bool) -> Result<Manifest, CopyError> {
        let sent = self.all().await?;
        if verify {
            self.compare(&sent).await?;
        }
        Ok(sent)
    }

    /// What changed since the first pass. Where that cannot be told, or files have gone, the volume is made again and gets all.
    pub(super) async fn rest(
        &self,
        first: Option<FirstPass>,
        wish: &VolumeSettings,
        verify: bool,
    ) -> Result<Manifest, CopyError> {
        let first = first.filter(|f| f.manifest.allows_less());
        if let Some(first) = &first
            && let Sent::All(sent) = self.changed(first).await?
        {
            if verify {
                self.compare(&sent).await?;
            }
            return Ok(sent);
        }
        tracing::info!(volume = self.target, host = self.to.host, "the volume is copied again in full");
        // What is gone here has to be gone there too, and engines have no other means to remove it.
        self.to.engine.remove_volume(&self.target, false).await?;
        self.to.engine.make_volume(&self.target, wish).await?;
        self.whole(verify).await
    }

    async fn all(&self) -> Result<Manifest, CopyError> {
        let reader = self.from.engine.with_volume(&self.source, true).await?;
        let outcome = async {
            let writer = self.to.engine.with_volume(&self.target, false).await?;
            let outcome = pipe::through(self, &reader.id, &writer.id).await;
            done(writer).await;
            outcome
        };
        let outcome = outcome.await;
        done(reader).await;
        outcome
    }

    async fn changed(&self, first: &FirstPass) -> Result<Sent, CopyError> {
        let reader = self.from.engine.with_volume(&self.source, true).await?;
        let outcome = async {
            let writer = self.to.engine.with_volume(&self.target, false).await?;
            let rest = Rest { before: &first.manifest, began: first.began.as_second() };
            let outcome = pipe::changed(self, &reader.id, &writer.id, rest).await;
            done(writer).await;
            outcome
        };
        let outcome = outcome.await;
        done(reader).await;
        outcome
    }

    /// Removes what holds the volumes, if the copy was given up in the middle.
    pub(super) async fn release(&self) {
        for (end, volume) in [(&self.from, &self.source), (&self.to, &self.target)] {
            if let Err(error) = end.engine.release_volume(volume).await {
                tracing::debug!(
                    host = end.host,
                    "a helper container could not be removed, retrying later: {error}"
                );
            }
        }
    }

    /// Reads back what arrived.
    async fn compare(&self, sent: &Manifest) -> Result<(), CopyError> {
        self.way.passed.store(0, Ordering::Relaxed);
        self.way.compares.store(true, Ordering::Relaxed);
        let reader = self.to.engine.with_volume(&self.target, true).await?;
        let outcome = pipe::read(&self.to, &reader.id, &self.way).await;
        done(reader).await;
        let there = outcome?;
        if there.is_same(sent) {
            return Ok(());
        }
        let words =
            |m: &Manifest| format!("{} files of {} bytes (checksum {})", m.files, m.bytes, m.checksum());
        Err(CopyError::Differs { host: self.to.host.clone(), sent: words(sent), there: words(&there) })
    }
}

/// Removes a helper; one that stays behind is not seen by anybody and does nothing.
async fn done(helper: gubernum_engine::hostfs::Helper<'_>) {
    match tokio::time::timeout(TIDIES, helper.done()).await {
        Ok(Ok(())) => {}
        Ok(Err(error)) => tracing::debug!("a helper container could not be removed, retrying later: {error}"),
        Err(_) => tracing::debug!("a helper stays behind for now: its host does not answer"),
    }
}

/// Copies an image with all its layers.
pub(super) async fn copy_image(from: &End, to: &End, image: &str, way: &Way) -> Result<(), CopyError> {
    let body = from.engine.export_image(image).await?;
    pipe::pass_on(
        from,
        to,
        body,
        way,
        |upload| async move { to.engine.import_images(upload).await.map(drop) },
    )
    .await?;
    match to.engine.image_id_of(image).await? {
        Some(_) => Ok(()),
        None => Err(CopyError::Target {
            host: to.host.clone(),
            why: format!("it accepted the archive, but has no image {image}"),
        }),
    }
}
