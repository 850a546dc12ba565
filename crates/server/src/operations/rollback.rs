//! Rolls one target back: new objects are removed, and the previous container gets its name back and runs again.

use backon::{ExponentialBuilder, Retryable};
use gubernum_core::journal::{Progress, TargetState};
use gubernum_core::plan::Step;
use gubernum_engine::{Done, EngineError};

use crate::operations::target_run::{LAST_LINES, StateChange, Stopped, TargetRun, seconds};

/// How often a call that brings the old container back is tried once more, and the first pause before it.
const TRIES: usize = 4;
const FIRST_PAUSE: std::time::Duration = std::time::Duration::from_millis(200);
/// How long a host is waited for on which something has to run again.
const BACK_AGAIN: std::time::Duration = std::time::Duration::from_secs(900);
const LOOK_EVERY: std::time::Duration = std::time::Duration::from_millis(200);

impl TargetRun<'_> {
    /// Undoes what was done, so that what ran before runs again.
    pub(super) async fn roll_back(mut self, stopped: Stopped) -> (TargetState, Option<String>) {
        self.active.operation.lock().targets[self.position].progress = None;
        let (state, cause) = match stopped {
            Stopped::Failed(cause) => (TargetState::Failed, cause),
            Stopped::CalledOff => (TargetState::Cancelled, "cancelled".to_owned()),
            Stopped::WithOthers(cause) => (TargetState::Cancelled, cause),
        };
        let replaced = !self.id.is_empty();
        let made_nothing = self.made.is_none() && self.volumes.is_empty() && self.networks.is_empty();
        if made_nothing && let Some(turned) = self.turned.take() {
            return (state, Some(self.turn_back(turned, &cause).await));
        }
        if made_nothing {
            let steps = &self.active.operation.lock().targets[self.position].steps;
            let end = if steps.contains(&Step::CreateBeside) { "; what runs was not touched" } else { "" };
            return (state, Some(format!("{}{end}", cause.trim_end_matches('.'))));
        }
        let mut troubles: Vec<String> = Vec::new();
        if let Some(new) = self.made.take()
            && let Err(error) = self.remove_new(&new).await
        {
            troubles.push(format!("the new container could not be removed: {error}"));
        }
        for volume in std::mem::take(&mut self.volumes) {
            // Only what was made just now, and only if nobody took it up meanwhile.
            let _ = self.engine.release_volume(&volume).await;
            if let Err(error) = self.engine.remove_volume(&volume, false).await
                && !matches!(error.status(), Some(404 | 409))
            {
                troubles.push(format!("the volume {volume} stays behind: {error}"));
            }
        }
        for network in std::mem::take(&mut self.networks) {
            if let Err(error) = self.engine.remove_network(&network).await
                && error.status() != Some(404)
            {
                troubles.push(format!("the network {network} stays behind: {error}"));
            }
        }
        if self.aside
            && let Err(error) = self.again(|| self.engine.rename(&self.id, &self.name)).await
        {
            troubles.push(format!("the previous container could not get its name back: {error}"));
        }
        let mut end = String::new();
        if let Some(at) = self.stopped {
            match self.again(|| self.engine.start(&self.id)).await {
                Ok(_) => {
                    end = format!(
                        "; rolled back: the previous container is running, after {} of downtime",
                        seconds(at.elapsed())
                    )
                }
                Err(error) => troubles.push(format!("the previous container could not be started: {error}")),
            }
        } else if replaced {
            end = "; what runs was not touched".to_owned();
        } else {
            end = "; removed again".to_owned();
        }
        if !troubles.is_empty() {
            end = format!("; rolling back failed: {}", troubles.join("; "));
        }
        (state, Some(format!("{}{end}", cause.trim_end_matches('.'))))
    }

    /// Starts again what was stopped, or stops what was started. Outside of a stack that stays: it is what was requested.
    async fn turn_back(&self, turned: StateChange, cause: &str) -> String {
        let cause = cause.trim_end_matches('.');
        if !self.is_of_stack() {
            return cause.to_owned();
        }
        // What served before has to serve again, also where its host is unreachable for a while.
        if turned != StateChange::On {
            self.wait_for_host().await;
        }
        let (outcome, what) = match turned {
            StateChange::On => (self.again(|| self.engine.stop(&self.id, None)).await, "stopped"),
            StateChange::Off => (self.again(|| self.engine.start(&self.id)).await, "running"),
            StateChange::Paused => (self.again(|| self.engine.resume(&self.id)).await, "running"),
        };
        match outcome {
            Ok(_) => format!("{cause}; it is {what} again"),
            Err(error) => format!("{cause}; rolling back failed: {error}"),
        }
    }

    /// Waits until the host answers, for as long as is worth it.
    async fn wait_for_host(&self) {
        let deadline = tokio::time::Instant::now() + BACK_AGAIN;
        let link = || self.executor.links.get(&self.host);
        while link().is_some_and(|link| link.live().is_none()) && tokio::time::Instant::now() < deadline {
            let doing = format!("waiting for {} to answer, to have it run again", self.host);
            let progress = Progress { doing, ..Progress::default() };
            self.active.operation.lock().targets[self.position].progress = Some(progress);
            tokio::time::sleep(LOOK_EVERY).await;
        }
    }

    async fn again<T, F: Future<Output = Result<T, EngineError>>>(
        &self,
        call: impl Fn() -> F,
    ) -> Result<T, EngineError> {
        let pauses = ExponentialBuilder::new().with_min_delay(FIRST_PAUSE).with_max_times(TRIES);
        call.retry(pauses).await
    }

    /// Removes the new container with the anonymous volumes that are its alone.
    async fn remove_new(&self, id: &str) -> Result<(), EngineError> {
        let own: Vec<String> = match self.engine.inspect(id).await {
            Ok(new) => new.container.mounts.into_iter().filter(|m| m.anonymous).map(|m| m.source).collect(),
            Err(e) if e.status() == Some(404) => return Ok(()),
            Err(e) => return Err(e),
        };
        if self.aside {
            // It has the name: whoever follows it reads what it said to the end.
            let _ = self.engine.kill(id, "SIGKILL").await;
            self.executor.followers.have_read(&self.host, &self.name, id, LAST_LINES).await;
        }
        self.again(|| async {
            match self.engine.remove(id, true, false).await {
                Err(e) if e.status() == Some(404) => Ok(Done::Unchanged),
                other => other,
            }
        })
        .await?;
        let kept = |volume: &String| {
            let old = self.inputs.current.as_ref().map(|c| &c.definition.mounts);
            old.is_some_and(|mounts| mounts.iter().any(|m| m.source.as_ref() == Some(volume)))
        };
        for volume in own.iter().filter(|v| !kept(v)) {
            let _ = self.engine.remove_volume(volume, false).await;
        }
        Ok(())
    }
}
