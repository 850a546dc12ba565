//! Builds the image of a stack's service on its host, from the stack's own files.
//!
//! What it is built from is worked out in [`gubernum_core::stack::build`]; builds that somebody asks for by themselves are in
//! `images::http::builds`.

use std::time::{Duration, Instant};

use futures_util::StreamExt;
use gubernum_core::journal::Progress;
use gubernum_core::stack::build::DesiredBuild;
use gubernum_core::text::shown;
use gubernum_engine::archives::{BuildRequest, Upload};
use gubernum_engine::{Done, context_archive};

use crate::images::BuildLines;
use crate::operations::target_run::{Stopped, TELL_EVERY, TargetRun};

/// The longest that one image may take to build.
const LONGEST: Duration = Duration::from_secs(3600);
/// The longest line that is shown.
const LONGEST_LINE: usize = 120;

fn wish(build: &DesiredBuild) -> BuildRequest {
    let of = &build.settings;
    BuildRequest {
        tags: std::iter::once(&build.image).chain(&build.tags).cloned().collect(),
        file: build.file.clone(),
        arguments: build.arguments.clone(),
        remote: build.remote.clone(),
        target: of.target.clone(),
        platform: of.platform.clone(),
        network: of.network.clone(),
        no_cache: of.without_cache,
        pull: of.pull,
        labels: of.labels.clone(),
        cache_from: of.cache_from.clone(),
        hosts: of.hosts.clone(),
        shared_memory: of.shared_memory,
    }
}

impl TargetRun<'_> {
    /// Builds the image of this target.
    pub(super) async fn build(&mut self) -> Result<Done, Stopped> {
        let Some(build) = self.inputs.build.clone() else {
            let why = "its build files are no longer known; deploy it again".to_owned();
            return Err(Stopped::Failed(why));
        };
        let archive = context_archive(&build.context)?;
        let context: Upload = futures_util::stream::once(async move { Ok(archive) }).boxed();
        let work = async {
            let mut lines = BuildLines::new(self.engine.build(&wish(&build), context).await?);
            let (mut told, mut last) = (Instant::now() - TELL_EVERY, String::new());
            loop {
                let said = lines.next().await;
                let said =
                    said.map_err(|e| Stopped::Failed(format!("the connection to the engine broke: {e}")))?;
                let Some(said) = said else { return Ok(Done::Changed) };
                if let Some(problem) = said.problem {
                    let after = if last.is_empty() { String::new() } else { format!("; after: {last}") };
                    let problem = shown(&problem, 400);
                    return Err(Stopped::Failed(format!("build failed: {problem}{after}")));
                }
                let text = said.text.trim();
                if !text.is_empty() {
                    last = shown(text, LONGEST_LINE);
                }
                if told.elapsed() >= TELL_EVERY && !last.is_empty() {
                    told = Instant::now();
                    let progress = Progress { doing: last.clone(), ..Progress::default() };
                    self.active.operation.lock().targets[self.position].progress = Some(progress);
                }
            }
        };
        let outcome = tokio::select! {
            done = tokio::time::timeout(LONGEST, work) => done.unwrap_or_else(|_| {
                Err(Stopped::Failed(format!("build timed out after {} min", LONGEST.as_secs() / 60)))
            }),
            () = self.active.cancel.cancelled() => Err(Stopped::CalledOff),
        };
        self.active.operation.lock().targets[self.position].progress = None;
        outcome
    }
}
