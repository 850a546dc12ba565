//! Resumes a run of a job after a restart of the service: its container kept running, so it is waited for as before.

use gubernum_core::container::State;
use gubernum_core::jobs::{RunOutcome, USUAL_KEPT};
use gubernum_core::journal::{Target, TargetState, host_unreachable};
use gubernum_core::plan::Step;
use gubernum_engine::{Engine, EngineError};
use tokio::time::Instant;

use crate::fleet::Link;
use crate::operations::active::Active;
use crate::operations::executor::Executor;
use crate::operations::job_steps::{RunResult, note_run};
use crate::operations::target_run::{Stopped, TargetRun};

use super::LOOK_EVERY;

/// What is said of one of which nobody knows what became.
const NOT_KNOWN: &str = "the service stopped during this step; the outcome is unknown";
/// What is said of one that had not begun.
const NOT_BEGUN: &str = "the service stopped before the change; what was created for it is removed";

/// Resumes a run.
pub(super) async fn settle(
    executor: &Executor,
    active: &Active,
    position: usize,
    target: &Target,
    deadline: Instant,
) -> (TargetState, String) {
    loop {
        if let Some(engine) = executor.links.get(&target.host).as_ref().and_then(Link::live) {
            let gone_on = resume(executor, active, position, target, &engine).await;
            return match gone_on {
                Ok(settled) => settled,
                Err(error) => (TargetState::Interrupted, format!("{NOT_KNOWN}: {error}")),
            };
        }
        if Instant::now() > deadline {
            let (state, sentence) = host_unreachable();
            interrupted(executor, active, position, &sentence).await;
            return (state, sentence);
        }
        tokio::time::sleep(LOOK_EVERY).await;
    }
}

async fn interrupted(executor: &Executor, active: &Active, position: usize, sentence: &str) {
    let came_to = RunResult {
        outcome: RunOutcome::Interrupted,
        exit_code: None,
        sentence: Some(sentence.to_owned()),
        output: String::new(),
        is_cut: false,
    };
    note_run(executor, active, position, came_to, USUAL_KEPT).await;
}

async fn resume(
    executor: &Executor,
    active: &Active,
    position: usize,
    target: &Target,
    engine: &Engine,
) -> Result<(TargetState, String), EngineError> {
    let made = match engine.inspect(&target.name).await {
        Ok(inspected) => Some(inspected.container),
        Err(e) if e.status() == Some(404) => None,
        Err(e) => return Err(e),
    };
    // Somebody else may have taken the name before it came to that.
    let made = made.filter(|c| target.began.is_none_or(|began| c.created >= began));
    let runs = target.steps.iter().find_map(|step| match step {
        Step::RunToEnd { most_seconds, keep } => Some((*most_seconds, *keep)),
        _ => None,
    });
    if let (Some(made), Some((most_seconds, keep))) = (&made, runs)
        && made.state != State::Created
    {
        let mut run = TargetRun::new(executor, active, position, engine.clone());
        run.made = Some(made.id.clone());
        return Ok(match run.run_to_end(most_seconds, keep).await {
            Ok(_) => (TargetState::Succeeded, "exited with code 0".to_owned()),
            Err(Stopped::Failed(why) | Stopped::WithOthers(why)) => (TargetState::Failed, why),
            Err(Stopped::CalledOff) => (TargetState::Cancelled, "cancelled".to_owned()),
        });
    }
    if let Some(made) = made {
        engine.remove(&made.id, true, true).await?;
        interrupted(executor, active, position, NOT_BEGUN).await;
        return Ok((TargetState::Interrupted, NOT_BEGUN.to_owned()));
    }
    let (operation, host) = (active.operation.lock().id, target.host.clone());
    let kept = executor.db.run(move |store| store.job_run_of(operation, &host)).await;
    // It was kept, and its container removed, just before the end.
    if let Ok(Some(run)) = kept {
        let state = match run.outcome {
            RunOutcome::Succeeded => TargetState::Succeeded,
            RunOutcome::Cancelled => TargetState::Cancelled,
            _ => TargetState::Failed,
        };
        return Ok((state, run.sentence.unwrap_or_else(|| "exited with code 0".to_owned())));
    }
    let sentence = if target.at.is_none_or(|at| target.steps.get(at as usize) != Some(&Step::Create))
        && runs.is_some()
    {
        NOT_KNOWN
    } else {
        NOT_BEGUN
    };
    interrupted(executor, active, position, sentence).await;
    Ok((TargetState::Interrupted, sentence.to_owned()))
}
