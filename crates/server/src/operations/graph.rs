//! Executes a change that succeeds or is rolled back as a whole: a stack.
//!
//! Its targets are a graph. Each begins as soon as what it needs is far enough, side by side with all that can. No step from
//! which there is no way back is taken before every target has succeeded; then one write to the journal decides that the
//! stack is the new one, and only after it the old containers go. Until that write every target can come back, in this
//! process (`rollback`) or in the next (`recovery::stack`).

use std::collections::{BTreeMap, HashSet};
use std::sync::atomic::{AtomicBool, Ordering};

use gubernum_core::compose::model::FailureAction;
use gubernum_core::journal::{Operation, Target, TargetState};
use gubernum_core::plan::request::OnFailure;
use gubernum_core::plan::{After, Kind, Step, Until};
use gubernum_engine::Engine;
use jiff::Timestamp;
use parking_lot::Mutex;
use tokio::sync::watch;

use crate::operations::active::Active;
use crate::operations::catch_up::wait_until_seen;
use crate::operations::executor::Executor;
use crate::operations::target_run::{Stopped, TargetRun};

/// How far a target is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Reached {
    Nothing,
    Started,
    Over,
    Failed,
}

/// A stack's change on its way.
struct Graph<'a> {
    active: &'a Active,
    reached: watch::Sender<Vec<Reached>>,
    /// Those that have gone as far as they can come back from.
    runs: Vec<Mutex<Option<TargetRun<'a>>>>,
    /// Something failed, so nothing new begins.
    is_failed: AtomicBool,
    /// Something failed of which the text does not say that the rest holds all the same.
    is_lost: AtomicBool,
    /// What the text says of each that fails.
    on_failure: Vec<Option<FailureAction>>,
}

impl<'a> Graph<'a> {
    fn new(active: &'a Active) -> Self {
        let targets = active.operation.lock().targets.clone();
        let reached = targets.iter().map(|t| match t.state {
            TargetState::Waiting => Reached::Nothing,
            state if state.is_good() => Reached::Over,
            _ => Reached::Failed,
        });
        let (reached, _) = watch::channel(reached.collect());
        let runs = targets.iter().map(|_| Mutex::new(None)).collect();
        let on_failure = active.inputs.lock().iter().map(|inputs| inputs.on_failure).collect();
        let (is_failed, is_lost) = (AtomicBool::new(false), AtomicBool::new(false));
        Self { active, reached, runs, is_failed, is_lost, on_failure }
    }

    fn reach(&self, position: usize, now: Reached) {
        if now == Reached::Failed {
            let says = self.on_failure.get(position).copied().flatten();
            if says != Some(FailureAction::Continue) {
                self.is_failed.store(true, Ordering::Release);
            }
            if !matches!(says, Some(FailureAction::Continue | FailureAction::Pause)) {
                self.is_lost.store(true, Ordering::Release);
            }
        }
        self.stand(position, now);
    }

    /// Says where a target is, which failed through no fault of its own if it did.
    fn stand(&self, position: usize, now: Reached) {
        self.reached.send_modify(|all| {
            if let Some(place) = all.get_mut(position) {
                *place = now;
            }
        });
    }

    /// Waits until a target may begin; why not, when it may not.
    async fn wait_for(&self, after: &[After]) -> Result<(), String> {
        let mut reached = self.reached.subscribe();
        loop {
            if self.active.cancel.is_cancelled() {
                return Err("cancelled before it began".to_owned());
            }
            if self.is_failed.load(Ordering::Acquire) {
                return Err("not started, because another part of the stack failed".to_owned());
            }
            let is_ready = {
                let all = reached.borrow_and_update();
                if after.iter().any(|a| all.get(a.target as usize) == Some(&Reached::Failed)) {
                    return Err("not started, because a dependency failed".to_owned());
                }
                after.iter().all(|a| {
                    let now = all.get(a.target as usize).copied().unwrap_or(Reached::Over);
                    now == Reached::Over || (now == Reached::Started && a.until == Until::Started)
                })
            };
            if is_ready {
                return Ok(());
            }
            tokio::select! {
                _ = reached.changed() => {}
                () = self.active.cancel.cancelled() => {}
            }
        }
    }
}

/// Where the steps end from which a target can come back.
fn turning_point(steps: &[Step]) -> usize {
    steps.iter().position(Step::is_final).unwrap_or(steps.len())
}

impl Executor {
    /// Carries out an operation that holds as a whole.
    pub(super) async fn run_as_whole(
        &self,
        active: &Active,
        on_failure: OnFailure,
        waiting: Vec<(usize, String)>,
    ) {
        let graph = Graph::new(active);
        let all = waiting.iter().map(|(position, host)| self.run_part(&graph, *position, host));
        futures_util::future::join_all(all).await;
        let is_good = !graph.is_lost.load(Ordering::Acquire) && !active.cancel.is_cancelled();
        if is_good || (on_failure == OnFailure::Stop && !active.cancel.is_cancelled()) {
            self.decide(&graph).await;
        } else {
            self.go_back(&graph).await;
        }
    }

    /// One target, as far as it can come back from.
    async fn run_part<'a>(&'a self, graph: &Graph<'a>, position: usize, host: &str) {
        let active = graph.active;
        let (after, steps) = {
            let operation = active.operation.lock();
            let Some(target) = operation.targets.get(position) else { return };
            (target.after.clone(), target.steps.clone())
        };
        if let Err(why) = graph.wait_for(&after).await {
            self.set_target(active, position, TargetState::Cancelled, Some(why)).await;
            graph.stand(position, Reached::Failed);
            return;
        }
        let engine = match self.links.engine(host) {
            Ok(engine) => engine,
            Err(error) => {
                self.set_target(active, position, TargetState::Failed, Some(error.to_string())).await;
                graph.reach(position, Reached::Failed);
                return;
            }
        };
        let link = self.links.get(host);
        let permit = match &link {
            Some(link) => link.changes.acquire().await.ok(),
            None => None,
        };
        // In the journal before the engine hears of it.
        if !self.set_target(active, position, TargetState::Running, None).await {
            graph.reach(position, Reached::Failed);
            return;
        }
        let mut run = TargetRun::new(self, active, position, engine.clone());
        let turning = turning_point(&steps);
        let started = steps.iter().position(Step::starts).map_or(turning, |n| (n + 1).min(turning));
        let mut outcome = run.forward(&steps, 0..started).await;
        // Others begin while this one is watched.
        drop(permit);
        if outcome.is_ok() && started < turning {
            graph.reach(position, Reached::Started);
            outcome = run.forward(&steps, started..turning).await;
        }
        match outcome {
            Ok(()) => {
                if let Some(place) = graph.runs.get(position) {
                    *place.lock() = Some(run);
                }
                graph.reach(position, Reached::Over);
            }
            Err(stopped) => {
                let (state, sentence) = run.roll_back(stopped).await;
                self.set_target(active, position, state, sentence).await;
                graph.reach(position, Reached::Failed);
            }
        }
    }

    /// All that succeeded holds from here on; then the steps follow from which there is no way back.
    async fn decide(&self, graph: &Graph<'_>) {
        let active = graph.active;
        let operation = active.operation.lock().id;
        let now = self.clock.now();
        let taken = graph.runs.iter().enumerate().filter_map(|(n, place)| Some((n, place.lock().take()?)));
        let runs: Vec<(usize, TargetRun<'_>)> = taken.collect();
        let decided: Vec<(usize, Target)> =
            runs.iter().map(|(position, run)| (*position, decided(active, *position, run, now))).collect();
        let kept = decided.clone();
        if let Err(error) = self.db.run(move |store| store.decide(operation, &kept, now)).await {
            tracing::error!(operation, "the journal could not save the outcome of a stack: {error}");
            let why = "rolled back, because the journal could not be written".to_owned();
            return self.all_back(active, runs, &why).await;
        }
        let is_made = |t: &Target| t.steps.contains(&Step::Create);
        let made: Vec<(Engine, String, String)> = runs
            .iter()
            .zip(&decided)
            .filter(|(_, (_, target))| is_made(target))
            .map(|((_, run), (_, target))| (run.engine.clone(), target.host.clone(), target.name.clone()))
            .collect();
        for (position, target) in decided {
            if target.state.is_final() {
                self.active.release(&target);
            }
            active.operation.lock().targets[position] = target;
        }
        let seen = made.iter().map(|(engine, host, name)| wait_until_seen(&self.hub, engine, host, name));
        futures_util::future::join_all(seen).await;
        let mut rest = runs;
        while !rest.is_empty() {
            let held =
                held_up(&active.operation.lock(), rest.iter().map(|(position, _)| *position).collect());
            let (later, now): (Vec<_>, Vec<_>) =
                rest.into_iter().partition(|(position, _)| held.contains(position));
            let now = now.into_iter().map(|(position, run)| self.finish_part(active, position, run));
            futures_util::future::join_all(now).await;
            rest = later;
        }
    }

    /// The steps from which there is no way back.
    async fn finish_part(&self, active: &Active, position: usize, mut run: TargetRun<'_>) {
        let Target { steps, host, name, .. } = active.operation.lock().targets[position].clone();
        let turning = turning_point(&steps);
        if turning == steps.len() {
            return;
        }
        let engine = run.engine.clone();
        let (state, sentence) = match run.forward_to_the_end(&steps, turning).await {
            Ok(()) => run.done(),
            Err(Stopped::Failed(cause) | Stopped::WithOthers(cause)) => (TargetState::Failed, Some(cause)),
            Err(Stopped::CalledOff) => (TargetState::Cancelled, Some("cancelled".to_owned())),
        };
        if steps.iter().any(|s| matches!(s, Step::Create | Step::CreateBeside)) {
            wait_until_seen(&self.hub, &engine, &host, &name).await;
        }
        self.set_target(active, position, state, sentence).await;
    }

    /// All that was done is undone, the last first.
    async fn go_back(&self, graph: &Graph<'_>) {
        let active = graph.active;
        let cause = {
            let operation = active.operation.lock();
            let failed = operation.targets.iter().find(|t| t.state == TargetState::Failed);
            match failed {
                Some(target) => format!("rolled back, because {} failed", target.name),
                None => "rolled back, because it was cancelled".to_owned(),
            }
        };
        let taken = graph.runs.iter().enumerate().filter_map(|(n, place)| Some((n, place.lock().take()?)));
        self.all_back(active, taken.collect(), &cause).await;
    }

    /// Host by host, so that one which does not answer keeps none of the others from running again.
    async fn all_back(&self, active: &Active, runs: Vec<(usize, TargetRun<'_>)>, why: &str) {
        let mut by_host: BTreeMap<String, Vec<(usize, TargetRun<'_>)>> = BTreeMap::new();
        for (position, run) in runs.into_iter().rev() {
            by_host.entry(run.host.clone()).or_default().push((position, run));
        }
        let hosts = by_host.into_values().map(|runs| async move {
            for (position, run) in runs {
                let (state, sentence) = run.roll_back(Stopped::WithOthers(why.to_owned())).await;
                self.set_target(active, position, state, sentence).await;
            }
        });
        futures_util::future::join_all(hosts).await;
    }
}

/// Which of the targets that are left have to wait with their last steps. What is built on another goes before that one: some
/// engines refuse to remove what another container shares. In a removal each says itself what goes before it.
fn held_up(operation: &Operation, left: HashSet<usize>) -> HashSet<usize> {
    let after = |position: usize| operation.targets[position].after.iter().map(|a| a.target as usize);
    let held: HashSet<usize> = if matches!(operation.request.kind(), Kind::RemoveStack | Kind::Move) {
        left.iter().copied().filter(|position| after(*position).any(|other| left.contains(&other))).collect()
    } else {
        left.iter().flat_map(|position| after(*position)).filter(|other| left.contains(other)).collect()
    };
    // Targets wait for earlier ones only; should all wait for each other, all go.
    if held.len() == left.len() { HashSet::new() } else { held }
}

/// A target whose change holds: over, or at the step from which there is no way back.
fn decided(active: &Active, position: usize, run: &TargetRun<'_>, now: Timestamp) -> Target {
    let mut target = active.operation.lock().targets[position].clone();
    let turning = turning_point(&target.steps);
    if turning < target.steps.len() {
        target.at = u32::try_from(turning).ok();
    } else {
        let (state, sentence) = run.done();
        target.state = state;
        target.sentence = sentence;
        target.progress = None;
        target.ended = Some(now);
    }
    target
}
