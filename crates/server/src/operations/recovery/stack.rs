//! Recovers a stack's change that the service left unfinished: it is rolled back as a whole, or completed if the
//! journal had decided for the new state.
//!
//! The last target goes back first: what was built on another is gone before that one.

use gubernum_core::journal::{Target, TargetState, host_unreachable};
use gubernum_core::plan::{Kind, Step};
use gubernum_engine::{Engine, EngineError};
use tokio::time::Instant;

use crate::fleet::Link;
use crate::operations::active::Active;
use crate::operations::executor::Executor;

use super::LOOK_EVERY;
use super::container::{ContainerRecovery, makes_containers};

/// What is said of a target that was rolled back.
const TAKEN_BACK: &str = "the service stopped during the change; the stack was rolled back";
/// What is said when nobody can tell which way to go.
const UNREADABLE: &str = "the service stopped during the change, and its journal cannot be read; check what runs and deploy the stack again";
/// What is said of one that was finished.
const DONE: &str = "the service stopped during the change; it was completed after the restart";

/// Settles all targets of a stack's change that are not over.
pub(super) async fn settle(executor: &Executor, active: &Active, deadline: Instant) {
    let (id, targets) = {
        let operation = active.operation.lock();
        (operation.id, operation.targets.clone())
    };
    let mut open: Vec<(usize, &Target)> =
        targets.iter().enumerate().filter(|(_, t)| t.state == TargetState::Running).collect();
    let decided = match executor.db.run(move |store| store.is_decided(id)).await {
        Ok(decided) => decided,
        // Guessing could take a stack back that holds.
        Err(error) => {
            tracing::error!(operation = id, "the decision of an operation cannot be read: {error}");
            for (position, _) in open {
                let why = Some(UNREADABLE.to_owned());
                executor.set_target(active, position, TargetState::Interrupted, why).await;
            }
            return;
        }
    };
    // What goes is written in the order in which it goes: in a removal always, in a move once that is decided.
    let is_as_written = match active.operation.lock().request.kind() {
        Kind::RemoveStack => true,
        Kind::Move => decided,
        _ => false,
    };
    if !is_as_written {
        open.reverse();
    }
    for (position, target) in open {
        let (state, sentence) = match live(executor, target, deadline).await {
            None => host_unreachable(),
            Some(engine) => one(executor, active, &engine, target, decided).await,
        };
        executor.set_target(active, position, state, Some(sentence)).await;
    }
}

/// The target's engine, as soon as its host can be reached.
async fn live(executor: &Executor, target: &Target, deadline: Instant) -> Option<Engine> {
    loop {
        if let Some(engine) = executor.links.get(&target.host).as_ref().and_then(Link::live) {
            return Some(engine);
        }
        if Instant::now() > deadline {
            return None;
        }
        tokio::time::sleep(LOOK_EVERY).await;
    }
}

async fn one(
    executor: &Executor,
    active: &Active,
    engine: &Engine,
    target: &Target,
    decided: bool,
) -> (TargetState, String) {
    release_sources(executor, target).await;
    let outcome = if makes_containers(&target.steps) {
        let (operation, member) = {
            let operation = active.operation.lock();
            (operation.id, operation.author.clone())
        };
        let (db, clock) = (&executor.db, &executor.clock);
        let right = ContainerRecovery { db, clock, engine, operation, member: &member, target };
        return right.run_as_part().await;
    } else if decided {
        finish(engine, target).await
    } else {
        take_back(engine, target).await
    };
    outcome.unwrap_or_else(|error| {
        let sentence = format!("the service stopped during the change, and recovery failed: {error}");
        (TargetState::Interrupted, sentence)
    })
}

/// What a copy that was cut in the middle holds of the volumes that it read: they could not be removed otherwise.
async fn release_sources(executor: &Executor, target: &Target) {
    for step in &target.steps {
        let Step::CopyVolume { from, volume, .. } = step else { continue };
        if let Some(engine) = executor.links.get(from).as_ref().and_then(Link::live)
            && let Err(error) = engine.release_volume(volume).await
        {
            tracing::debug!(host = from, "a helper container could not be removed, retrying later: {error}");
        }
    }
}

/// What had been decided is done.
async fn finish(engine: &Engine, target: &Target) -> Result<(TargetState, String), EngineError> {
    if target.steps.contains(&Step::ChangeInPlace) {
        let sentence =
            "the service stopped before its limits were changed; deploy the stack again to change them";
        return Ok((TargetState::Interrupted, sentence.to_owned()));
    }
    for step in &target.steps {
        match step {
            Step::Remove { volumes, .. } => gone(engine.remove(&target.id, true, *volumes).await.map(drop))?,
            Step::RemoveNetwork => gone(engine.remove_network(&target.name).await)?,
            Step::RemoveVolume { force } => gone(engine.remove_volume(&target.name, *force).await)?,
            Step::RemoveImage { image, force, keep_parents } => {
                gone(engine.remove_image(image, *force, *keep_parents).await.map(drop))?;
            }
            _ => {}
        }
    }
    Ok((TargetState::Succeeded, DONE.to_owned()))
}

/// What was done is undone.
async fn take_back(engine: &Engine, target: &Target) -> Result<(TargetState, String), EngineError> {
    for step in &target.steps {
        match step {
            // Made a moment ago, and empty: what used it was rolled back before.
            Step::CreateNetwork { name, .. } => gone(engine.remove_network(name).await)?,
            Step::CreateVolume { name, .. } => {
                engine.release_volume(name).await?;
                gone(engine.remove_volume(name, false).await)?;
            }
            Step::Start => gone(engine.stop(&target.id, None).await.map(drop))?,
            Step::Stop { .. } => gone(engine.start(&target.id).await.map(drop))?,
            Step::Pause => gone(engine.resume(&target.id).await.map(drop))?,
            _ => {}
        }
    }
    Ok((TargetState::Interrupted, TAKEN_BACK.to_owned()))
}

/// What is not there any more needs nothing.
fn gone(outcome: Result<(), EngineError>) -> Result<(), EngineError> {
    match outcome {
        Err(e) if e.status() == Some(404) => Ok(()),
        other => other,
    }
}
