//! A run of a job: its container is waited for, its output saved with the outcome, and it is removed.
//!
//! When a job is run is the scheduler's ([`crate::jobs`]). A run that the end of the service cut is resumed by the next one
//! (`recovery::job`).

use std::time::{Duration, Instant};

use gubernum_core::container::{Container, State};
use gubernum_core::jobs::{JobRun, LONGEST_OUTPUT, RunOutcome, USUAL_KEPT};
use gubernum_core::journal::TargetState;
use gubernum_core::plan::{Request, Step};
use gubernum_core::text::shown;
use gubernum_engine::logs::LogQuery;
use gubernum_engine::{Done, EngineError};

use crate::operations::active::Active;
use crate::operations::executor::Executor;
use crate::operations::target_run::{LAST_LINES, Stopped, TargetRun};

/// How often a run is looked at in its first minute, and later.
const LOOK_EVERY: Duration = Duration::from_millis(250);
const LOOK_LATER: Duration = Duration::from_secs(2);
/// How long a host that does not answer is waited for beyond the time that the run may take.
const HOST_BACK: Duration = Duration::from_secs(120);
/// The most lines that are read of what a run said.
const MOST_LINES: u32 = 2000;
/// How long reading them may take.
const READING: Duration = Duration::from_secs(20);

/// How a run ended.
enum End {
    Ended(Box<Container>),
    TimedOut,
    CalledOff,
    Gone,
    OutOfReach(EngineError),
}

impl TargetRun<'_> {
    /// Waits for the end of a run and keeps what it came to.
    pub(super) async fn run_to_end(&mut self, most_seconds: u32, keep: u32) -> Result<Done, Stopped> {
        let Some(id) = self.made.clone() else {
            return Err(Stopped::Failed("it was not created".to_owned()));
        };
        let end = self.end_of(&id, Duration::from_secs(most_seconds.into())).await;
        if matches!(end, End::TimedOut | End::CalledOff) {
            let _ = self.before_stop(&id).await;
            if let Err(error) = self.engine.stop(&id, None).await {
                tracing::warn!(
                    operation = self.operation,
                    "the job's container could not be stopped: {error}"
                );
            }
        }
        let terminal = match (&end, &self.inputs.definition) {
            (End::Ended(c), _) => c.terminal,
            (_, definition) => definition.as_ref().is_some_and(|d| d.terminal),
        };
        let (output, is_cut) = self.output_of(&id, terminal).await;
        let said = last_line(&output);
        let (outcome, exit_code, sentence) = match &end {
            End::Ended(c) if c.exit_code == Some(0) => (RunOutcome::Succeeded, Some(0), None),
            End::Ended(c) => {
                let code = c
                    .exit_code
                    .map_or_else(|| "without an exit code".to_owned(), |n| format!("with code {n}"));
                (RunOutcome::Failed, c.exit_code, Some(format!("exited {code}{said}")))
            }
            End::TimedOut => {
                let why = format!("timed out after {most_seconds} s and was stopped{said}");
                (RunOutcome::TimedOut, None, Some(why))
            }
            End::CalledOff => (RunOutcome::Cancelled, None, Some("cancelled and stopped".to_owned())),
            End::Gone => {
                let why = "its container was removed before it exited".to_owned();
                (RunOutcome::Interrupted, None, Some(why))
            }
            End::OutOfReach(error) => (RunOutcome::Interrupted, None, Some(error.to_string())),
        };
        let came_to = RunResult { outcome, exit_code, sentence: sentence.clone(), output, is_cut };
        note_run(self.executor, self.active, self.position, came_to, keep).await;
        self.take_away(&id).await;
        match outcome {
            RunOutcome::Succeeded => {
                self.told = Some("exited with code 0".to_owned());
                Ok(Done::Changed)
            }
            RunOutcome::Cancelled => Err(Stopped::CalledOff),
            _ => Err(Stopped::Failed(sentence.unwrap_or_default())),
        }
    }

    async fn end_of(&self, id: &str, most: Duration) -> End {
        let mut began = Instant::now();
        let (waited, mut is_first) = (Instant::now(), true);
        loop {
            match self.engine.inspect(id).await {
                Ok(inspected) => {
                    let c = inspected.container;
                    if matches!(c.state, State::Exited | State::Dead) {
                        return End::Ended(Box::new(c));
                    }
                    if std::mem::take(&mut is_first) {
                        // One that is resumed began earlier.
                        let ran = c.started.map(|at| self.executor.clock.now().duration_since(at));
                        let ran = ran.and_then(|ran| Duration::try_from(ran).ok()).unwrap_or_default();
                        began = Instant::now().checked_sub(ran).unwrap_or(began);
                    }
                    if began.elapsed() >= most {
                        return End::TimedOut;
                    }
                }
                Err(e) if e.status() == Some(404) => return End::Gone,
                Err(error) if began.elapsed() >= most + HOST_BACK => return End::OutOfReach(error),
                // It runs on without us.
                Err(_) => {}
            }
            let pause = if waited.elapsed() < Duration::from_secs(60) { LOOK_EVERY } else { LOOK_LATER };
            tokio::select! {
                () = tokio::time::sleep(pause) => {}
                () = self.active.cancel.cancelled() => return End::CalledOff,
            }
        }
    }

    /// What it said, from the end as much as is kept, and whether there was more.
    async fn output_of(&self, id: &str, terminal: bool) -> (String, bool) {
        let query = LogQuery { tail: Some(MOST_LINES), ..LogQuery::default() };
        let mut said: Vec<u8> = Vec::new();
        let (mut lines, mut is_cut) = (0_u32, false);
        let reading = async {
            let Ok(mut reader) = self.engine.logs(id, terminal, &query).await else { return };
            while let Ok(Some(more)) = reader.next().await {
                for line in more {
                    said.extend_from_slice(&line.bytes);
                    said.push(b'\n');
                    lines += 1;
                }
                if said.len() > 2 * LONGEST_OUTPUT {
                    is_cut = true;
                    said.drain(..said.len() - LONGEST_OUTPUT);
                }
            }
        };
        let whole = tokio::time::timeout(READING, reading).await.is_ok();
        if said.len() > LONGEST_OUTPUT {
            is_cut = true;
            said.drain(..said.len() - LONGEST_OUTPUT);
        }
        (String::from_utf8_lossy(&said).into_owned(), is_cut || !whole || lines >= MOST_LINES)
    }

    async fn take_away(&mut self, id: &str) {
        self.executor.followers.have_read(&self.host, &self.name, id, LAST_LINES).await;
        match self.engine.remove(id, true, true).await {
            Ok(_) => self.made = None,
            Err(e) if e.status() == Some(404) => self.made = None,
            Err(error) => {
                tracing::warn!(operation = self.operation, "the job's container stays behind: {error}");
            }
        }
    }
}

/// What a run came to.
pub(super) struct RunResult {
    pub(super) outcome: RunOutcome,
    pub(super) exit_code: Option<i64>,
    pub(super) sentence: Option<String>,
    pub(super) output: String,
    pub(super) is_cut: bool,
}

/// Keeps what a run came to.
pub(super) async fn note_run(
    executor: &Executor,
    active: &Active,
    position: usize,
    came_to: RunResult,
    keep: u32,
) {
    let now = executor.clock.now();
    let RunResult { outcome, exit_code, sentence, output, is_cut } = came_to;
    let run = {
        let operation = active.operation.lock();
        let (Request::Run(wish), Some(target)) = (&operation.request, operation.targets.get(position)) else {
            return;
        };
        JobRun {
            id: 0,
            host: target.host.clone(),
            stack: wish.stack.clone(),
            service: wish.service.clone(),
            operation: Some(operation.id),
            due: wish.due,
            began: target.began.unwrap_or(now),
            ended: now,
            outcome,
            exit_code,
            sentence: sentence.map(|s| shown(&s, 600)),
            missed: 0,
        }
    };
    if let Err(error) = executor.db.run(move |store| store.add_job_run(&run, &output, is_cut, keep)).await {
        tracing::error!("a run of a job could not be saved: {error}");
    }
}

/// Keeps what a run came to that ended before its container did anything: called off, not pulled, not made, not started.
pub(super) async fn note_not_run(
    executor: &Executor,
    active: &Active,
    position: usize,
    state: TargetState,
    sentence: Option<&str>,
) {
    if state.is_good() {
        return;
    }
    let (operation, host, keep) = {
        let operation = active.operation.lock();
        let (Request::Run(_), Some(target)) = (&operation.request, operation.targets.get(position)) else {
            return;
        };
        let keep = target.steps.iter().find_map(|step| match step {
            Step::RunToEnd { keep, .. } => Some(*keep),
            _ => None,
        });
        (operation.id, target.host.clone(), keep.unwrap_or(USUAL_KEPT))
    };
    let kept = executor.db.run(move |store| store.job_run_of(operation, &host)).await;
    if matches!(kept, Ok(Some(_))) {
        return;
    }
    let outcome = if state == TargetState::Cancelled { RunOutcome::Cancelled } else { RunOutcome::Failed };
    let came_to = RunResult {
        outcome,
        exit_code: None,
        sentence: sentence.map(str::to_owned),
        output: String::new(),
        is_cut: false,
    };
    note_run(executor, active, position, came_to, keep).await;
}

/// The last line of what it said, as an end of a sentence.
fn last_line(output: &str) -> String {
    let last = output.lines().rev().find(|line| !line.trim().is_empty());
    last.map_or_else(String::new, |line| format!("; last output: {}", shown(line.trim(), 200)))
}
