//! Recovers a container that was being created or replaced when the service stopped: the old one is restored, or, if
//! the new one had been found ready, the change is completed.
//!
//! Whatever the moment of the end, one of the two serves afterwards under the container's own name.

use gubernum_core::container::Container;
use gubernum_core::journal::{Target, TargetState};
use gubernum_core::plan::Step;
use gubernum_core::plan::steps::{aside_name, beside_name};
use gubernum_engine::{Engine, EngineError};
use gubernum_store::earlier::NewRevision;

use crate::clock::Clock;
use crate::storage::Db;

/// Whether steps make or replace a container, so that their end in the middle must be repaired.
pub(super) fn makes_containers(steps: &[Step]) -> bool {
    steps.iter().any(|s| matches!(s, Step::CreateBeside | Step::Create))
}

/// A target whose container was being made or replaced.
pub(super) struct ContainerRecovery<'a> {
    pub(super) db: &'a Db,
    pub(super) clock: &'a Clock,
    pub(super) engine: &'a Engine,
    pub(super) operation: u64,
    pub(super) member: &'a str,
    pub(super) target: &'a Target,
}

impl ContainerRecovery<'_> {
    /// Puts things right on the engine; returns what is to be said of the target.
    pub(super) async fn run(&self) -> (TargetState, String) {
        let outcome = if self.target.steps.iter().any(|s| matches!(s, Step::CreateBeside)) {
            self.replacement().await
        } else {
            self.deployment(true).await
        };
        outcome.unwrap_or_else(|error| {
            let sentence = format!("the service stopped during the change, and recovery failed: {error}");
            (TargetState::Interrupted, sentence)
        })
    }

    /// Puts a part of a stack's change right: a new container whose change was not decided goes, however well it is.
    pub(super) async fn run_as_part(&self) -> (TargetState, String) {
        let is_replacement = self.target.steps.iter().any(|s| matches!(s, Step::CreateBeside));
        let outcome = if is_replacement { self.replacement().await } else { self.deployment(false).await };
        outcome.unwrap_or_else(|error| {
            let sentence = format!("the service stopped during the change, and recovery failed: {error}");
            (TargetState::Interrupted, sentence)
        })
    }

    fn index(&self, of: impl Fn(&Step) -> bool) -> Option<usize> {
        self.target.steps.iter().position(of)
    }

    fn at(&self) -> usize {
        self.target.at.map_or(0, |at| usize::try_from(at).unwrap_or(0))
    }

    async fn look(&self, id: &str) -> Result<Option<Container>, EngineError> {
        match self.engine.inspect(id).await {
            Ok(inspected) => Ok(Some(inspected.container)),
            Err(e) if e.status() == Some(404) => Ok(None),
            Err(e) => Err(e),
        }
    }

    async fn replacement(&self) -> Result<(TargetState, String), EngineError> {
        let name = &self.target.name;
        let aside = aside_name(name, self.operation);
        let old = self.look(&self.target.id).await?;
        let beside = self.look(&beside_name(name, self.operation)).await?;
        let named = self.look(name).await?;
        let retires = self.index(|s| matches!(s, Step::Retire)).is_some_and(|r| self.at() >= r);
        let Some(old) = old else {
            return Ok(match named {
                Some(_) => (
                    TargetState::Succeeded,
                    "the service stopped after the change; it is complete".to_owned(),
                ),
                None => (
                    TargetState::Interrupted,
                    "the service stopped during the change, and the container no longer exists".to_owned(),
                ),
            });
        };
        let new = beside.or_else(|| named.filter(|c| c.id != old.id && old.name == aside));
        if retires && old.name == aside && new.as_ref().is_some_and(|n| n.name == *name) {
            self.keep_earlier(&old).await;
            self.engine.remove(&old.id, true, false).await?;
            return Ok((
                TargetState::Succeeded,
                "the service stopped during the change; it was completed after the restart".to_owned(),
            ));
        }
        if let Some(new) = new {
            self.remove_new(&new, &old).await?;
        }
        if old.name == aside {
            self.engine.rename(&old.id, name).await?;
        }
        let was_up = self.index(|s| matches!(s, Step::Stop { .. })).is_some();
        if was_up && !old.state.is_alive() {
            self.engine.start(&old.id).await?;
        }
        let state = if was_up { "is running" } else { "is unchanged" };
        let sentence = format!(
            "the service stopped during the change; rolled back: the previous container {state}. Repeat the change if it is still needed"
        );
        Ok((TargetState::Interrupted, sentence))
    }

    /// The new one goes with the anonymous volumes that are its alone.
    async fn remove_new(&self, new: &Container, old: &Container) -> Result<(), EngineError> {
        match self.engine.remove(&new.id, true, false).await {
            Err(e) if e.status() != Some(404) => return Err(e),
            _ => {}
        }
        let kept = |volume: &str| old.mounts.iter().any(|m| m.source == volume);
        for mount in new.mounts.iter().filter(|m| m.anonymous && !kept(&m.source)) {
            let _ = self.engine.remove_volume(&mount.source, false).await;
        }
        Ok(())
    }

    async fn keep_earlier(&self, old: &Container) {
        let Ok(defined) = self.engine.defined(&old.id).await else { return };
        let mut definition = defined.definition;
        definition.name.clone_from(&self.target.name);
        let (host, name) = (self.target.host.clone(), self.target.name.clone());
        let (operation, member, now) = (self.operation, self.member.to_owned(), self.clock.now());
        let kept = self.db.run(move |store| {
            if store.earlier(&host, &name)?.iter().any(|e| e.operation == operation) {
                return Ok(());
            }
            let new = NewRevision {
                host: &host,
                name: &name,
                definition: &definition,
                image_id: &defined.image_id,
                summary: "a change that the end of the service interrupted",
                operation,
                member: &member,
            };
            store.add_earlier(&new, store.preferences().unwrap_or_default().kept_earlier, now)
        });
        if let Err(error) = kept.await {
            tracing::error!(operation = self.operation, "the earlier revision could not be saved: {error}");
        }
    }

    async fn deployment(&self, may_stay: bool) -> Result<(TargetState, String), EngineError> {
        let makes = self.index(|s| matches!(s, Step::Create)).unwrap_or(0);
        let watches = self.index(|s| matches!(s, Step::Watch { .. })).unwrap_or(usize::MAX);
        let made = if self.at() >= makes { self.look(&self.target.name).await? } else { None };
        // Somebody else may have taken the name before it came to that.
        let made = made.filter(|c| self.target.began.is_none_or(|began| c.created >= began));
        if let Some(made) = made {
            if may_stay && self.at() >= watches && made.state.is_alive() {
                let sentence =
                    "the service stopped while waiting for the container; it is running".to_owned();
                return Ok((TargetState::Succeeded, sentence));
            }
            self.engine.remove(&made.id, true, true).await?;
        }
        for step in self.target.steps.iter().take(self.at() + 1) {
            if let Step::CreateVolume { name, .. } = step {
                // Empty, because nothing ran with it; one that is used or gone is left.
                let _ = self.engine.remove_volume(name, false).await;
            }
        }
        let sentence = "the service stopped during the change; what was created for it is removed. Repeat the change if it is still needed";
        Ok((TargetState::Interrupted, sentence.to_owned()))
    }
}
