//! Executes the steps of one target, and rolls back when one fails.

use std::ops::Range;
use std::time::{Duration, Instant};

use gubernum_core::fleet::Observation;
use gubernum_core::journal::{Progress, TargetState};
use gubernum_core::plan::steps::{aside_name, beside_name};
use gubernum_core::plan::{Kind, Step};
use gubernum_core::stack::labels::{self, FilesMark};
use gubernum_engine::{Done, Engine, EngineError};
use gubernum_store::earlier::NewRevision;

use crate::logs::LastLines;
use crate::operations::active::Active;
use crate::operations::executor::Executor;
use crate::operations::planner::StepInputs;

/// How often the progress of a transfer is shown.
pub(super) const TELL_EVERY: Duration = Duration::from_millis(100);
/// How long those who follow a log may take to read a container's last lines before it is removed.
pub(super) const LAST_LINES: LastLines = LastLines {
    stuck: Duration::from_secs(1),
    beginning: Duration::from_secs(10),
    reading: Duration::from_secs(10),
};

/// Why a step failed.
pub(super) enum Stopped {
    /// The engine, or what came up, failed.
    Failed(String),
    /// Somebody called it off.
    CalledOff,
    /// It went well itself; another part of the whole did not.
    WithOthers(String),
}

impl From<EngineError> for Stopped {
    fn from(error: EngineError) -> Self {
        Self::Failed(error.to_string())
    }
}

/// What was done to a container that is neither made nor replaced.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum StateChange {
    /// It did not run and was started.
    On,
    /// It ran and was stopped.
    Off,
    /// It ran and was paused.
    Paused,
}

/// One target on its way.
pub(super) struct TargetRun<'a> {
    pub(super) executor: &'a Executor,
    pub(super) active: &'a Active,
    pub(super) position: usize,
    pub(super) engine: Engine,
    pub(super) host: String,
    pub(super) operation: u64,
    pub(super) id: String,
    pub(super) name: String,
    pub(super) inputs: StepInputs,
    /// The container that was made.
    pub(super) made: Option<String>,
    /// The old one was stopped, at this moment.
    pub(super) stopped: Option<Instant>,
    /// How long nothing served: until the new one was started, or healthy where it has a check.
    down: Option<Duration>,
    /// The old one has given its name away.
    pub(super) aside: bool,
    /// Volumes that were made on the way.
    pub(super) volumes: Vec<String>,
    /// Networks that were made on the way.
    pub(super) networks: Vec<String>,
    /// It was started and did not run before, or it was stopped and ran: what has to be asked to have it as it was.
    pub(super) turned: Option<StateChange>,
    /// Everything to report about it once it has succeeded: what was copied into it, or how a job ended.
    pub(super) told: Option<String>,
    /// Something was changed.
    changed: bool,
}

impl<'a> TargetRun<'a> {
    pub(super) fn new(executor: &'a Executor, active: &'a Active, position: usize, engine: Engine) -> Self {
        let (operation, target) = {
            let operation = active.operation.lock();
            (operation.id, operation.targets[position].clone())
        };
        let inputs = active.inputs.lock().get_mut(position).map(std::mem::take).unwrap_or_default();
        Self {
            executor,
            active,
            position,
            engine,
            host: target.host,
            operation,
            id: target.id,
            name: target.name,
            inputs,
            made: None,
            stopped: None,
            down: None,
            aside: false,
            volumes: Vec::new(),
            networks: Vec::new(),
            turned: None,
            told: None,
            changed: false,
        }
    }

    /// Takes all steps; returns what the target came to.
    pub(super) async fn run(mut self, steps: &[Step]) -> (TargetState, Option<String>) {
        match self.forward(steps, 0..steps.len()).await {
            Ok(()) => self.done(),
            Err(stopped) => self.roll_back(stopped).await,
        }
    }

    /// Takes some of the steps.
    pub(super) async fn forward(&mut self, steps: &[Step], which: Range<usize>) -> Result<(), Stopped> {
        for n in which {
            let Some(step) = steps.get(n) else { break };
            if n > 0 && !self.executor.set_step(self.active, self.position, n).await {
                let why = "stopped: the journal could not be written".to_owned();
                return Err(Stopped::Failed(why));
            }
            if self.active.cancel.is_cancelled() && self.stopped.is_none() && n > 0 {
                return Err(Stopped::CalledOff);
            }
            self.take(step).await?;
        }
        Ok(())
    }

    /// Takes the last steps, even if cancelled meanwhile.
    pub(super) async fn forward_to_the_end(&mut self, steps: &[Step], from: usize) -> Result<(), Stopped> {
        for (n, step) in steps.iter().enumerate().skip(from) {
            if !self.executor.set_step(self.active, self.position, n).await {
                return Err(Stopped::Failed("stopped: the journal could not be written".to_owned()));
            }
            self.take(step).await?;
        }
        Ok(())
    }

    /// What the target came to once all its steps are taken.
    pub(super) fn done(&self) -> (TargetState, Option<String>) {
        self.executor.checker.forget_paths(&self.host);
        if self.changed {
            let down = self.down.or_else(|| self.stopped.map(|at| at.elapsed()));
            // What is new, or ran beside the old one, was not down.
            let down = down.filter(|down| self.stopped.is_some() && *down > Duration::ZERO);
            let sentence = down.map(|down| format!("it was down for {}", seconds(down)));
            (TargetState::Succeeded, sentence.filter(|_| self.made.is_some()).or_else(|| self.told.clone()))
        } else {
            (TargetState::Unchanged, Some("no change".to_owned()))
        }
    }

    async fn take(&mut self, step: &Step) -> Result<(), Stopped> {
        let engine = self.engine.clone();
        if self.active.operation.lock().request.kind() == Kind::Tidy {
            self.still_unused(step).await?;
        }
        let done = match step {
            Step::Start | Step::Restart { .. } => {
                if matches!(step, Step::Restart { .. }) {
                    self.before_stop(&self.id).await?;
                }
                let outcome = match step {
                    Step::Restart { grace_seconds } => engine.restart(&self.id, *grace_seconds).await,
                    _ => engine.start(&self.id).await,
                };
                let done = outcome.inspect_err(|e| self.remember_failed_start(&self.id, e))?;
                if matches!(step, Step::Start) && done == Done::Changed {
                    self.turned = Some(StateChange::On);
                }
                if done == Done::Changed {
                    self.after_start(&self.id).await?;
                }
                done
            }
            Step::Stop { grace_seconds } => {
                self.before_stop(&self.id).await?;
                if self.made.is_some() {
                    self.stopped = Some(Instant::now());
                }
                let done = engine.stop(&self.id, *grace_seconds).await?;
                if self.made.is_none() && done == Done::Changed {
                    self.turned = Some(StateChange::Off);
                }
                done
            }
            Step::Kill { signal } => engine.kill(&self.id, signal).await?,
            Step::Pause => {
                let done = engine.pause(&self.id).await?;
                if done == Done::Changed {
                    self.turned = Some(StateChange::Paused);
                }
                done
            }
            Step::Resume => engine.resume(&self.id).await?,
            Step::Remove { force, volumes } => engine.remove(&self.id, *force, *volumes).await?,
            Step::Pull { .. } | Step::Push { .. } => self.transfer(step).await?,
            Step::Tag { image, new_name } => changed(engine.tag(image, new_name).await)?,
            Step::RemoveImage { image, force, keep_parents } => {
                changed(engine.remove_image(image, *force, *keep_parents).await)?
            }
            Step::CreateFolder { path, folder } => match engine.make_folder(path, folder).await? {
                true => Done::Changed,
                false => Done::Unchanged,
            },
            Step::CreateVolume { name, wish } => {
                changed(engine.make_volume(name, wish).await)?;
                self.volumes.push(name.clone());
                Done::Changed
            }
            Step::RemoveVolume { force } => changed(engine.remove_volume(&self.id, *force).await)?,
            Step::CreateNetwork { name, wish } => {
                engine.make_network(name, wish).await?;
                self.networks.push(name.clone());
                Done::Changed
            }
            Step::RemoveNetwork => changed(engine.remove_network(&self.id).await)?,
            Step::Connect { join } => changed(engine.connect(&self.id, join).await)?,
            Step::Disconnect { network, force } => {
                changed(engine.disconnect(&self.id, network, *force).await)?
            }
            Step::Create => self.make(&self.name.clone()).await?,
            Step::CreateBeside => self.make(&beside_name(&self.name, self.operation)).await?,
            Step::PutFiles { .. } => {
                let id = self.new_id()?;
                engine.put_files(&id, &self.inputs.files).await?;
                Done::Changed
            }
            Step::Exchange => self.exchange().await?,
            Step::StartNew => {
                let id = self.new_id()?;
                self.before_start().await?;
                let outcome = engine.start(&id).await;
                let done = outcome.inspect_err(|e| self.remember_failed_start(&id, e))?;
                self.after_start(&id).await?;
                self.down = Some(self.stopped.map_or(Duration::ZERO, |at| at.elapsed()));
                done
            }
            Step::Watch { seconds } => {
                let id = self.made.clone().unwrap_or_else(|| self.id.clone());
                if self.watch(&id, *seconds).await?
                    && let Some(at) = self.stopped
                {
                    self.down = Some(at.elapsed());
                }
                Done::Unchanged
            }
            Step::WaitForEnd => {
                let id = self.made.clone().unwrap_or_else(|| self.id.clone());
                self.wait_for_end(&id).await?;
                Done::Unchanged
            }
            Step::RunToEnd { most_seconds, keep } => self.run_to_end(*most_seconds, *keep).await?,
            Step::Build { .. } => self.build().await?,
            Step::Delay { seconds } => {
                tokio::select! {
                    () = tokio::time::sleep(Duration::from_secs((*seconds).into())) => {}
                    () = self.active.cancel.cancelled() => return Err(Stopped::CalledOff),
                }
                Done::Unchanged
            }
            Step::Retire => self.retire().await?,
            Step::ChangeInPlace => {
                let Some(next) = &self.inputs.definition else { return Err(lost()) };
                changed(engine.change_in_place(&self.id, next).await)?
            }
            Step::Rename { to } => {
                let id = self.made.clone().unwrap_or_else(|| self.id.clone());
                changed(engine.rename(&id, to).await)?;
                let (host, from, to) = (self.host.clone(), self.name.clone(), to.clone());
                if let Err(error) = self.executor.db.run(move |s| s.rename_earlier(&host, &from, &to)).await {
                    tracing::error!("earlier revisions could not be renamed: {error}");
                }
                Done::Changed
            }
            Step::CopyImage { from, image } => self.copy_image(from, image).await?,
            Step::CopyVolume { from, volume, pass, verify } => {
                self.copy_volume(from, volume, *pass, *verify).await?
            }
            Step::EmptyCache => match engine.empty_build_cache().await? {
                0 => Done::Unchanged,
                _ => Done::Changed,
            },
        };
        self.changed |= done == Done::Changed;
        Ok(())
    }

    /// Asks the engine once more, just before a removal: what came into use since the preview is not touched.
    async fn still_unused(&self, step: &Step) -> Result<(), Stopped> {
        let used = match step {
            Step::RemoveImage { .. } => self.engine.in_use().await?.images.contains(&self.id),
            Step::RemoveVolume { .. } => self.engine.in_use().await?.volumes.contains(&self.id),
            Step::RemoveNetwork => self.engine.in_use().await?.networks.contains(&self.id),
            Step::Remove { .. } => self.engine.inspect(&self.id).await?.container.state.is_alive(),
            _ => false,
        };
        if used {
            let why = "skipped: in use since the preview".to_owned();
            return Err(Stopped::Failed(why));
        }
        Ok(())
    }

    /// Engines do not all keep why a start failed; whoever looks at the container wants to know.
    fn remember_failed_start(&self, id: &str, error: &EngineError) {
        if error.status().is_some() {
            let (host, id, error) = (self.host.clone(), id.to_owned(), error.to_string());
            self.executor
                .hub
                .observe(Observation::StartFailed { host, id, error }, self.executor.clock.now());
        }
    }

    /// Whether it is a part of a stack's change, which holds as a whole or not at all.
    pub(super) fn is_of_stack(&self) -> bool {
        self.active.operation.lock().request.kind().is_whole()
    }

    fn new_id(&self) -> Result<String, Stopped> {
        self.made.clone().ok_or_else(lost)
    }

    async fn transfer(&mut self, step: &Step) -> Result<Done, Stopped> {
        let (active, position) = (self.active, self.position);
        let mut last = Instant::now() - TELL_EVERY;
        let tell = move |progress: Progress| {
            if last.elapsed() >= TELL_EVERY {
                last = Instant::now();
                active.operation.lock().targets[position].progress = Some(progress);
            }
        };
        let work = async {
            match step {
                // A rollback has its image by id; its name may mean another by now.
                Step::Pull { .. } if self.inputs.image_id.is_some() => Ok(Done::Unchanged),
                Step::Pull { image, policy, platform } => {
                    let account = self.executor.registries.account(image).await;
                    self.executor.registries.forget(image);
                    self.engine.pull(image, *policy, platform.as_deref(), account.as_ref(), tell).await
                }
                Step::Push { image } => {
                    let account = self.executor.registries.account(image).await;
                    self.executor.registries.forget(image);
                    self.engine.push(image, account.as_ref(), tell).await
                }
                _ => Ok(Done::Unchanged),
            }
        };
        let outcome = tokio::select! {
            done = work => done.map_err(Stopped::from),
            () = self.active.cancel.cancelled() => Err(Stopped::CalledOff),
        };
        self.active.operation.lock().targets[self.position].progress = None;
        outcome
    }

    async fn make(&mut self, name: &str) -> Result<Done, Stopped> {
        let Some(definition) = &self.inputs.definition else { return Err(lost()) };
        let base = self.inputs.current.as_ref().map(|c| &c.raw);
        let id = self.engine.make(name, definition, base, self.inputs.image_id.as_deref()).await?;
        self.made = Some(id);
        self.take_files_over().await?;
        Ok(Done::Changed)
    }

    /// Configs and secrets of a stack's container go with it when it is replaced by itself.
    async fn take_files_over(&self) -> Result<(), Stopped> {
        let (Some(definition), Some(new)) = (&self.inputs.definition, &self.made) else { return Ok(()) };
        let mark = definition.labels.get(labels::FILES).and_then(|text| FilesMark::read(text));
        let Some(mark) = mark.filter(|_| self.inputs.files.is_empty() && !self.id.is_empty()) else {
            return Ok(());
        };
        let files = self.engine.placed_files(&self.id, &mark.paths).await?;
        if !files.is_empty() {
            self.engine.put_files(new, &files).await?;
        }
        Ok(())
    }

    async fn exchange(&mut self) -> Result<Done, Stopped> {
        let new = self.new_id()?;
        self.engine.rename(&self.id, &aside_name(&self.name, self.operation)).await?;
        self.aside = true;
        self.engine.rename(&new, &self.name).await?;
        Ok(Done::Changed)
    }

    async fn retire(&mut self) -> Result<Done, Stopped> {
        if let (Some(current), Some(next)) = (&self.inputs.current, &self.inputs.definition) {
            let definition = current.definition.clone();
            let differences = gubernum_core::definition::difference::difference(&definition, next);
            let words: Vec<String> = differences.iter().take(4).map(|d| d.words()).collect();
            let summary = match words.len() {
                0 => format!("a newer image of {}", next.image),
                _ => words.join("; "),
            };
            let (host, name, image_id) = (self.host.clone(), self.name.clone(), current.image_id.clone());
            let (operation, member) = (self.operation, self.active.author.member.clone());
            let now = self.executor.clock.now();
            let kept = self.executor.db.run(move |store| {
                let new = NewRevision {
                    host: &host,
                    name: &name,
                    definition: &definition,
                    image_id: &image_id,
                    summary: &summary,
                    operation,
                    member: &member,
                };
                store.add_earlier(&new, store.preferences().unwrap_or_default().kept_earlier, now)
            });
            if let Err(error) = kept.await {
                tracing::error!(
                    operation = self.operation,
                    "the earlier revision could not be saved: {error}"
                );
            }
        }
        self.executor.followers.have_read(&self.host, &self.name, &self.id, LAST_LINES).await;
        match self.engine.remove(&self.id, true, false).await {
            Ok(_) => {}
            // An engine removes some by itself.
            Err(e) if e.status() == Some(404) => {}
            // The new one serves: an old one that could not be removed is worth a note, not a rollback.
            Err(error) => {
                tracing::warn!(operation = self.operation, "the previous container stays behind: {error}")
            }
        }
        Ok(Done::Changed)
    }
}

fn changed(outcome: Result<(), EngineError>) -> Result<Done, EngineError> {
    outcome.map(|()| Done::Changed)
}

fn lost() -> Stopped {
    Stopped::Failed("its definition is no longer known; repeat the change".to_owned())
}

/// Seconds with a tenth.
pub(super) fn seconds(span: Duration) -> String {
    format!("{:.1} s", span.as_secs_f64())
}
