//! Has jobs run at their times, and knows the state of each.
//!
//! Jobs are those of the newest revision of every stack that is deployed. Up to when each schedule was looked at is in the records,
//! so that times which passed while the service did not run are known; a time is noted only once its run is in the journal, and
//! asked for under a key of its own, so that it is run once whatever ends in between.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;
use std::time::Duration;

use futures_util::StreamExt;
use futures_util::stream::FuturesUnordered;
use gubernum_api::jobs::JobRow;
use gubernum_core::compose::read::read;
use gubernum_core::host::LinkState;
use gubernum_core::jobs::{Concurrency, JobRun, RunOutcome, Schedule};
use gubernum_core::journal::Operation;
use gubernum_core::plan::request::RunRequest;
use gubernum_core::plan::{Kind, Request};
use gubernum_core::rights::{Access, Right};
use gubernum_store::jobs::JobKey;
use jiff::{SignedDuration, Timestamp};
use parking_lot::Mutex;
use tokio::sync::Notify;
use tokio::sync::broadcast::{self, error::RecvError};
use tokio_util::sync::CancellationToken;

use crate::access::{AutomationRights, lent, with_rights_of};
use crate::clock::Clock;
use crate::fleet::Hub;
use crate::operations::{Author, OperationError, Runner};
use crate::storage::Db;

/// The longest pause between two looks: clocks may be set.
const LOOK_EVERY: Duration = Duration::from_secs(20);
/// The shortest one.
const LEAST: Duration = Duration::from_millis(50);
/// How many runs are begun at once.
const AT_ONCE: usize = 8;
/// How long a host that does not answer is waited for, as after a start of the service.
const HOST_ANSWERS: Duration = Duration::from_secs(30);
/// How long the run that is replaced may take to end.
const GIVES_WAY: Duration = Duration::from_secs(120);
/// The most jobs; those beyond are not run, and the log says so.
const MOST_JOBS: usize = 5000;
/// How long runs are kept of a job that is no more, and how often it is looked for such.
const KEPT_AFTER: SignedDuration = SignedDuration::from_hours(30 * 24);
const SWEEP_EVERY: SignedDuration = SignedDuration::from_hours(24);
/// How many rows a listener may lag behind; then it asks for all.
const LAG: usize = 256;
/// Who a run is from that is begun by its schedule.
const AUTHOR: &str = "schedule";

/// What the newest revision of a stack has.
struct OfStack {
    revision: u64,
    jobs: BTreeMap<String, Schedule>,
}

/// Has jobs run.
pub(crate) struct Scheduler {
    db: Db,
    clock: Clock,
    runner: Arc<Runner>,
    hub: Arc<Hub>,
    /// By host and stack.
    stacks: Mutex<BTreeMap<(String, String), OfStack>>,
    rows: Mutex<BTreeMap<JobKey, JobRow>>,
    changed: broadcast::Sender<Arc<JobRow>>,
    /// Those of which a run is about to be in the journal.
    beginning: Mutex<BTreeSet<JobKey>>,
    /// Operations of runs that were heard of and are not over.
    heard: Mutex<BTreeSet<u64>>,
    /// When runs of jobs that are no more were looked for last.
    swept: Mutex<Option<Timestamp>>,
    wake: Notify,
}

/// A run that is due.
struct DueRun {
    job: JobKey,
    schedule: Schedule,
    due: Timestamp,
}

impl Scheduler {
    pub(crate) fn new(db: Db, clock: Clock, runner: Arc<Runner>, hub: Arc<Hub>) -> Self {
        let (changed, _) = broadcast::channel(LAG);
        let (stacks, rows) = (Mutex::default(), Mutex::default());
        let (beginning, heard, swept) = (Mutex::default(), Mutex::default(), Mutex::default());
        Self { db, clock, runner, hub, stacks, rows, changed, beginning, heard, swept, wake: Notify::new() }
    }

    /// The state of every job.
    pub(crate) fn rows(&self) -> Vec<JobRow> {
        self.rows.lock().values().cloned().collect()
    }

    /// Whether there is such a job.
    pub(crate) fn knows(&self, host: &str, stack: &str, service: &str) -> bool {
        self.rows.lock().contains_key(&(host.to_owned(), stack.to_owned(), service.to_owned()))
    }

    /// Hears of jobs that change.
    pub(crate) fn subscribe(&self) -> broadcast::Receiver<Arc<JobRow>> {
        self.changed.subscribe()
    }

    /// Looks at once, as after a stack was adopted.
    pub(crate) fn look_again(&self) {
        self.wake.notify_one();
    }

    /// Has jobs run until the service ends.
    pub(crate) async fn run(&self, end: CancellationToken) {
        let mut operations = self.runner.subscribe();
        let mut begun = FuturesUnordered::new();
        let mut pause = Duration::ZERO;
        loop {
            tokio::select! {
                () = end.cancelled() => return,
                () = self.wake.notified() => {}
                () = tokio::time::sleep(pause) => {}
                Some(()) = begun.next() => {}
                operation = operations.recv() => match operation {
                    Ok(operation) if self.concerns(&operation) => {}
                    Ok(_) => continue,
                    Err(RecvError::Lagged(_)) => {}
                    Err(RecvError::Closed) => return,
                },
            }
            match self.look(AT_ONCE.saturating_sub(begun.len())).await {
                Ok((due, next)) => {
                    begun.extend(due.into_iter().map(|due| self.begin(due)));
                    let wait = next.map(|at| at.duration_since(self.clock.now()));
                    let wait = wait.map(|wait| Duration::try_from(wait).unwrap_or(LEAST));
                    pause = wait.map_or(LOOK_EVERY, |wait| wait.clamp(LEAST, LOOK_EVERY));
                }
                Err(error) => {
                    tracing::error!("jobs cannot be read: {error}");
                    pause = LOOK_EVERY;
                }
            }
        }
    }

    /// Whether an operation may have changed what jobs there are, or is a run of one that begins or ends.
    fn concerns(&self, operation: &Operation) -> bool {
        let is_over = operation.ended.is_some();
        match operation.request.kind() {
            Kind::Run if is_over => {
                self.heard.lock().remove(&operation.id);
                true
            }
            Kind::Run => self.heard.lock().insert(operation.id),
            Kind::Apply | Kind::RemoveStack | Kind::Move | Kind::Clone => is_over,
            _ => false,
        }
    }

    /// The due runs, up to a maximum, and when the next is due.
    async fn look(
        &self,
        most: usize,
    ) -> Result<(Vec<DueRun>, Option<Timestamp>), gubernum_store::StoreError> {
        self.read_stacks().await?;
        let jobs: Vec<(JobKey, Schedule)> = {
            let stacks = self.stacks.lock();
            let all = stacks.iter().flat_map(|((host, stack), of)| {
                of.jobs.iter().map(move |(service, schedule)| {
                    ((host.clone(), stack.clone(), service.clone()), schedule.clone())
                })
            });
            let all: Vec<(JobKey, Schedule)> = all.take(MOST_JOBS + 1).collect();
            if all.len() > MOST_JOBS {
                tracing::error!("more than {MOST_JOBS} jobs; those beyond the limit are not run");
            }
            all.into_iter().take(MOST_JOBS).collect()
        };
        let marks = self.db.run(|store| store.job_marks()).await?;
        let gone: Vec<JobKey> =
            marks.keys().filter(|key| !jobs.iter().any(|(job, _)| job == *key)).cloned().collect();
        for job in gone {
            self.db.run(move |store| store.unmark_job(&job)).await?;
        }
        let now = self.clock.now();
        self.sweep(now).await?;
        let (mut runs, mut next, mut nexts) = (Vec::new(), None::<Timestamp>, BTreeMap::new());
        for (job, schedule) in &jobs {
            let words = schedule.words();
            let mark = marks.get(job).filter(|(of, _)| *of == words).map(|(_, considered)| *considered);
            let Some(considered) = mark else {
                // New, or with other times: what was before does not count.
                self.mark(job, schedule, now).await;
                let first = schedule.due(now, now).next;
                nexts.insert(job.clone(), first);
                next = first.into_iter().chain(next).min();
                continue;
            };
            let due = schedule.due(considered, now);
            nexts.insert(job.clone(), due.next);
            next = due.next.into_iter().chain(next).min();
            if self.beginning.lock().contains(job) {
                continue;
            }
            if due.missed > 0 {
                let run =
                    self.not_run(job, due.missed_last.or(due.run), RunOutcome::Missed, None, due.missed);
                // Where it is made up for, or runs now, that says enough.
                if due.run.is_none() {
                    self.keep(run, schedule.keep).await;
                }
            }
            match due.run {
                Some(at) if runs.len() < most => {
                    self.beginning.lock().insert(job.clone());
                    runs.push(DueRun { job: job.clone(), schedule: schedule.clone(), due: at });
                }
                // As soon as one that was begun is in the journal.
                Some(_) => continue,
                None if due.missed == 0 => continue,
                None => self.mark(job, schedule, now).await,
            }
        }
        self.tell_rows(&jobs, &nexts).await?;
        Ok((runs, next))
    }

    /// Removes, once a day, what is kept of jobs that are no more.
    async fn sweep(&self, now: Timestamp) -> Result<(), gubernum_store::StoreError> {
        let is_due = self.swept.lock().is_none_or(|at| now.duration_since(at) >= SWEEP_EVERY);
        if is_due {
            *self.swept.lock() = Some(now);
            self.db.run(move |store| store.drop_job_runs_before(now - KEPT_AFTER)).await?;
        }
        Ok(())
    }

    /// Reads the newest revisions that were not read before.
    async fn read_stacks(&self) -> Result<(), gubernum_store::StoreError> {
        let kept = self.db.run(|store| store.kept_stacks()).await?;
        let is_kept: BTreeSet<(String, String)> =
            kept.iter().map(|(host, stack, _)| (host.clone(), stack.clone())).collect();
        self.stacks.lock().retain(|which, _| is_kept.contains(which));
        for (host, stack, revision) in kept {
            let which = (host.clone(), stack.clone());
            if self.stacks.lock().get(&which).is_some_and(|of| of.revision == revision) {
                continue;
            }
            let request =
                self.db.run(move |store| store.stack_revision(&host, &stack, Some(revision))).await?;
            let reading = tokio::task::spawn_blocking(move || {
                let request = request?;
                let (_, stack) = read(&request.given()).ok()?;
                let jobs = stack.services.into_iter().filter_map(|(name, s)| Some((name, s.schedule?)));
                Some(jobs.collect::<BTreeMap<String, Schedule>>())
            });
            // A text that was applied can be read; should it not, its jobs are not run.
            let jobs = reading.await.ok().flatten().unwrap_or_default();
            self.stacks.lock().insert(which, OfStack { revision, jobs });
        }
        Ok(())
    }

    fn under_way(&self) -> BTreeMap<JobKey, Vec<u64>> {
        let mut all: BTreeMap<JobKey, Vec<u64>> = BTreeMap::new();
        for operation in self.runner.running() {
            let Request::Run(run) = &operation.request else { continue };
            for target in &operation.targets {
                let key = (target.host.clone(), run.stack.clone(), run.service.clone());
                all.entry(key).or_default().push(operation.id);
            }
        }
        all
    }

    /// Tells what changed of the rows.
    async fn tell_rows(
        &self,
        jobs: &[(JobKey, Schedule)],
        nexts: &BTreeMap<JobKey, Option<Timestamp>>,
    ) -> Result<(), gubernum_store::StoreError> {
        let mut last = self.db.run(|store| store.last_job_runs()).await?;
        let mut under_way = self.under_way();
        let mut now = BTreeMap::new();
        for (job, schedule) in jobs {
            let (host, stack, service) = job.clone();
            let row = JobRow {
                host,
                stack,
                service,
                schedule: Some(schedule.clone()),
                next: nexts.get(job).copied().flatten(),
                last: last.remove(job),
                running: under_way.remove(job).unwrap_or_default(),
            };
            now.insert(job.clone(), row);
        }
        let mut rows = self.rows.lock();
        for (job, row) in rows.iter().filter(|(job, _)| !now.contains_key(*job)) {
            // Whoever shows it learns that it is no more.
            let gone = JobRow { schedule: None, next: None, last: None, running: Vec::new(), ..row.clone() };
            tracing::debug!(?job, "the job was removed");
            let _ = self.changed.send(Arc::new(gone));
        }
        for (job, row) in &now {
            if rows.get(job) != Some(row) {
                // Nobody may be listening; that is no failure.
                let _ = self.changed.send(Arc::new(row.clone()));
            }
        }
        *rows = now;
        Ok(())
    }

    fn not_run(
        &self,
        job: &JobKey,
        due: Option<Timestamp>,
        outcome: RunOutcome,
        sentence: Option<String>,
        missed: u32,
    ) -> JobRun {
        let now = self.clock.now();
        let (host, stack, service) = job.clone();
        let (operation, exit_code) = (None, None);
        JobRun {
            id: 0,
            host,
            stack,
            service,
            operation,
            due,
            began: now,
            ended: now,
            outcome,
            exit_code,
            sentence,
            missed,
        }
    }

    async fn keep(&self, run: JobRun, keep: u32) {
        if let Err(error) = self.db.run(move |store| store.add_job_run(&run, "", false, keep)).await {
            tracing::error!("a missed run of a job could not be saved: {error}");
        }
    }

    async fn mark(&self, job: &JobKey, schedule: &Schedule, considered: Timestamp) {
        let (job, words) = (job.clone(), schedule.words());
        if let Err(error) = self.db.run(move |store| store.mark_job(&job, &words, considered)).await {
            tracing::error!("the last check of a job could not be saved: {error}");
        }
    }

    /// Begins a run, or says why not.
    async fn begin(&self, run: DueRun) {
        let job = run.job.clone();
        self.begin_one(run).await;
        self.beginning.lock().remove(&job);
    }

    async fn begin_one(&self, run: DueRun) {
        let DueRun { job, schedule, due } = run;
        let before = self.under_way().remove(&job).unwrap_or_default();
        if let (Concurrency::Forbid, Some(id)) = (schedule.concurrency, before.first()) {
            let why = format!("the previous run, operation {id}, was still running");
            let skipped = self.not_run(&job, Some(due), RunOutcome::Skipped, Some(why), 0);
            self.keep(skipped, schedule.keep).await;
            return self.mark(&job, &schedule, due).await;
        }
        if schedule.concurrency == Concurrency::Replace {
            self.give_way(&before).await;
        }
        let (host, stack, service) = job.clone();
        self.wait_for(&host).await;
        if self.hub.look(|fleet| fleet.host(&host).is_none()) {
            // Its host was taken out of the fleet; that is nobody's failure.
            tracing::info!(%host, %stack, %service, "the job was skipped: its host is not in the fleet");
            return self.mark(&job, &schedule, due).await;
        }
        let key = format!("job {host}/{stack}/{service} {due}");
        let request = Request::Run(RunRequest { stack, service, due: Some(due) });
        let hash = key.clone().into_bytes();
        let submitted = match self.author(&job).await {
            Ok(author) => {
                let wait = std::time::Duration::ZERO;
                self.runner.submit(request, vec![host], author, Some((key, hash)), None, wait).await
            }
            Err(error) => Err(error),
        };
        let why = match submitted {
            Ok(operation) => operation.targets.iter().find(|t| t.state.is_final()).map(|t| {
                let why = t.sentence.clone().unwrap_or_else(|| t.state.word().to_owned());
                (Some(operation.id), why)
            }),
            Err(error) => Some((None, error.to_string())),
        };
        if let Some((operation, why)) = why {
            let why = Some(gubernum_core::text::shown(&why, 400));
            let failed = self.not_run(&job, Some(due), RunOutcome::Failed, why, 0);
            self.keep(JobRun { operation, ..failed }, schedule.keep).await;
        }
        self.mark(&job, &schedule, due).await;
    }

    /// As whom a job runs: with what the member may who applied its stack last, or who set the repository that did.
    async fn author(&self, (host, stack, _): &JobKey) -> Result<Author, OperationError> {
        let (at, name) = (host.clone(), stack.clone());
        let applied = self.db.run(move |store| {
            if let Some(source) = store.source(&at, &name)?.filter(|source| source.applies) {
                return Ok(Some(source.member));
            }
            Ok(store.stack_revisions(&at, &name)?.into_iter().next().map(|revision| revision.member))
        });
        let member = applied.await?.unwrap_or_default();
        let access = if member.is_empty() {
            Access::everything()
        } else {
            let most = [Right::See, Right::StartStop].into_iter().collect();
            match lent(&self.db, &member, most).await? {
                AutomationRights::Rights(access) => access,
                AutomationRights::Nobody => {
                    let text = format!(
                        "{member}, whose rights it uses, is no longer a member; deploy the stack again"
                    );
                    return Err(OperationError::NotAllowed(text));
                }
            }
        };
        Ok(Author::service(AUTHOR, access, with_rights_of(&member)))
    }

    /// Waits until a host answers, but not for ever: then the run itself says that it does not.
    async fn wait_for(&self, host: &str) {
        let is_live = || self.hub.look(|fleet| fleet.host(host).is_some_and(|h| h.state == LinkState::Live));
        let answers = async {
            while !is_live() {
                tokio::time::sleep(Duration::from_millis(100)).await;
            }
        };
        let _ = tokio::time::timeout(HOST_ANSWERS, answers).await;
    }

    /// Ends runs and waits until they are over.
    async fn give_way(&self, operations: &[u64]) {
        for id in operations {
            self.runner.cancel(*id);
        }
        let over = async {
            while operations.iter().any(|id| self.runner.one_running(*id).is_some()) {
                tokio::time::sleep(Duration::from_millis(100)).await;
            }
        };
        // One that does not end in time runs on beside the new one.
        let _ = tokio::time::timeout(GIVES_WAY, over).await;
    }
}
