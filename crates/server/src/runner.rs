//! The runner: the one way in for every change.
//!
//! A request becomes a plan, the plan is written to the journal, and only then are engines asked: a
//! few at once on each host, each target with an outcome of its own. No two operations work on the
//! same container; the second hears who is at it. What an earlier run of the service left unfinished
//! is settled in `settle`.

use std::collections::{BTreeMap, HashMap};
use std::sync::Arc;
use std::time::Duration;

use futures_util::StreamExt;
use gubernum_core::container::Container;
use gubernum_core::journal::{Operation, OperationState, Target, TargetState, overall};
use gubernum_core::plan::{Request, TargetPlan, plan};
use gubernum_core::reference::{Reference, ReferenceError};
use gubernum_engine::Done;
use gubernum_store::audit::NewEntry;
use gubernum_store::journal::NewOperation;
use parking_lot::Mutex;
use tokio::sync::broadcast;
use tokio_util::sync::CancellationToken;
use tokio_util::task::TaskTracker;

use crate::clock::Clock;
use crate::db::Db;
use crate::http::problem::ApiError;
use crate::hub::Hub;
use crate::links::{Link, Links};

/// The most targets of one operation.
pub const MOST_TARGETS: usize = 20_000;
/// The most references of one request.
pub const MOST_REFERENCES: usize = 1000;
/// The most operations under way at once.
pub const MOST_RUNNING: usize = 64;
/// How often an operation under way is told to those who watch.
const TELL_EVERY: Duration = Duration::from_millis(100);

/// Who asks for a change, and from where.
#[derive(Debug, Clone)]
pub struct Author {
    /// The member.
    pub member: String,
    /// The address.
    pub address: String,
}

pub(crate) struct Active {
    pub(crate) operation: Mutex<Operation>,
    pub(crate) cancel: CancellationToken,
    author: Author,
}

/// Carries operations out.
pub(crate) struct Runner {
    pub(crate) hub: Arc<Hub>,
    pub(crate) links: Arc<Links>,
    pub(crate) db: Db,
    pub(crate) clock: Clock,
    pub(crate) tasks: TaskTracker,
    active: Mutex<BTreeMap<u64, Arc<Active>>>,
    /// Container (host, id) to the operation that works on it.
    busy: Mutex<HashMap<(String, String), u64>>,
    /// One request at a time is planned and written, so that two cannot take the same container.
    entrance: tokio::sync::Mutex<()>,
    sender: broadcast::Sender<Arc<Operation>>,
}

impl Runner {
    pub(crate) fn new(
        hub: Arc<Hub>,
        links: Arc<Links>,
        db: Db,
        clock: Clock,
        tasks: TaskTracker,
    ) -> Arc<Self> {
        let (sender, _) = broadcast::channel(256);
        Arc::new(Self {
            hub,
            links,
            db,
            clock,
            tasks,
            active: Mutex::default(),
            busy: Mutex::default(),
            entrance: tokio::sync::Mutex::default(),
            sender,
        })
    }

    /// Hears of operations as they move.
    pub(crate) fn subscribe(&self) -> broadcast::Receiver<Arc<Operation>> {
        self.sender.subscribe()
    }

    /// The operations under way.
    pub(crate) fn running(&self) -> Vec<Operation> {
        self.active.lock().values().map(|a| a.operation.lock().clone()).collect()
    }

    /// An operation under way.
    pub(crate) fn one_running(&self, id: u64) -> Option<Operation> {
        self.active.lock().get(&id).map(|a| a.operation.lock().clone())
    }

    /// What a request would do.
    pub(crate) fn preview(
        &self,
        request: &Request,
        references: &[String],
    ) -> Result<Vec<TargetPlan>, ApiError> {
        request.check().map_err(ApiError::from)?;
        let targets = self.resolve(references)?;
        let mut plans = plan(request, &targets);
        let busy = self.busy.lock();
        for plan in &mut plans {
            if let Some(id) = busy.get(&(plan.host.clone(), plan.id.clone())) {
                plan.refused = Some(self.busy_words(*id));
                plan.step = None;
            }
        }
        Ok(plans)
    }

    fn busy_words(&self, id: u64) -> String {
        match self.one_running(id) {
            Some(op) => format!(
                "operation {id} ({} by {}) is at work on it; wait for it or cancel it",
                op.request.kind, op.author
            ),
            None => format!("operation {id} is at work on it; wait for it"),
        }
    }

    fn resolve(&self, references: &[String]) -> Result<Vec<Container>, ApiError> {
        if references.is_empty() {
            return Err(ApiError::invalid(
                "/targets",
                "name at least one target, for example `packhouse/frost-api`",
            ));
        }
        if references.len() > MOST_REFERENCES {
            let text = format!(
                "{} references are too many, the most is {MOST_REFERENCES}; use `*`",
                references.len()
            );
            return Err(ApiError::invalid("/targets", text));
        }
        self.hub.look(|fleet| {
            let mut found: BTreeMap<(String, String), &Container> = BTreeMap::new();
            for (n, text) in references.iter().enumerate() {
                let matched = text.parse::<Reference>().and_then(|r| r.resolve(fleet.containers()));
                let matched =
                    matched.map_err(|e: ReferenceError| ApiError::from(e).at(format!("/targets/{n}")))?;
                found.extend(matched.into_iter().map(|c| ((c.host.clone(), c.name.clone()), c)));
            }
            if found.len() > MOST_TARGETS {
                let text = format!("{} targets are too many, the most is {MOST_TARGETS}", found.len());
                return Err(ApiError::invalid("/targets", text));
            }
            Ok(found.into_values().cloned().collect())
        })
    }

    /// Writes an operation to the journal and begins it. An idempotency key that came before gives
    /// the operation that it stands for.
    pub(crate) async fn submit(
        self: &Arc<Self>,
        request: Request,
        references: Vec<String>,
        author: Author,
        idempotency: Option<(String, Vec<u8>)>,
    ) -> Result<Operation, ApiError> {
        let entered = self.entrance.lock().await;
        if self.active.lock().len() >= MOST_RUNNING {
            return Err(ApiError::new(
                "too-many-operations",
                "Too many operations",
                429,
                format!("{MOST_RUNNING} operations are under way; wait until one is over"),
            ));
        }
        let plans = match self.preview(&request, &references) {
            Ok(plans) => plans,
            // A repeated request is answered with its operation even when its targets are gone since.
            Err(error) => return self.repeated(&author, &idempotency).await.ok_or(error),
        };
        let now = self.clock.now();
        let targets = plans.into_iter().map(|p| target(p, now)).collect();
        let (operation, is_new) = {
            let author = author.member.clone();
            self.db
                .run(move |store| {
                    store.add_operation(NewOperation {
                        request: &request,
                        references: &references,
                        author: &author,
                        created: now,
                        targets,
                        idempotency: idempotency.as_ref().map(|(k, h)| (k.as_str(), h.as_slice())),
                    })
                })
                .await?
        };
        if !is_new {
            let id = operation.id;
            return Ok(self.one_running(id).unwrap_or(operation));
        }
        if operation.state == OperationState::Running {
            self.begin(operation.clone(), author);
        } else {
            self.conclude(&operation, &author).await;
        }
        drop(entered);
        let _ = self.sender.send(Arc::new(operation.clone()));
        Ok(operation)
    }

    async fn repeated(&self, author: &Author, idempotency: &Option<(String, Vec<u8>)>) -> Option<Operation> {
        let (key, hash) = idempotency.clone()?;
        let member = author.member.clone();
        self.db.run(move |store| store.operation_by_key(&member, &key, &hash)).await.ok().flatten()
    }

    /// Takes an operation into the active ones and marks its containers as busy.
    pub(crate) fn activate(&self, operation: Operation, author: Author) -> Arc<Active> {
        let id = operation.id;
        {
            let mut busy = self.busy.lock();
            for t in operation.targets.iter().filter(|t| !t.state.is_final()) {
                busy.insert((t.host.clone(), t.id.clone()), id);
            }
        }
        let active =
            Arc::new(Active { operation: Mutex::new(operation), cancel: CancellationToken::new(), author });
        self.active.lock().insert(id, active.clone());
        active
    }

    fn begin(self: &Arc<Self>, operation: Operation, author: Author) {
        let active = self.activate(operation, author);
        let runner = self.clone();
        self.tasks.spawn(async move {
            let telling = runner.clone().tell(active.clone());
            let working = runner.work(&active);
            tokio::select! {
                () = working => {}
                () = telling => {}
            }
            runner.finish(&active).await;
        });
    }

    /// Tells those who watch how the operation stands, now and then; never returns.
    async fn tell(self: Arc<Self>, active: Arc<Active>) {
        loop {
            tokio::time::sleep(TELL_EVERY).await;
            if self.sender.receiver_count() > 0 {
                let now = active.operation.lock().clone();
                let _ = self.sender.send(Arc::new(now));
            }
        }
    }

    async fn work(self: &Arc<Self>, active: &Arc<Active>) {
        let mut by_host: BTreeMap<String, Vec<usize>> = BTreeMap::new();
        for (position, target) in active.operation.lock().targets.iter().enumerate() {
            if target.state == TargetState::Waiting {
                by_host.entry(target.host.clone()).or_default().push(position);
            }
        }
        let hosts = by_host.into_iter().map(|(host, positions)| async move {
            futures_util::stream::iter(positions)
                .for_each_concurrent(4, |position| self.one(active, &host, position))
                .await;
        });
        futures_util::future::join_all(hosts).await;
    }

    async fn one(&self, active: &Active, host: &str, position: usize) {
        let link = self.links.get(host);
        let _permit = match &link {
            Some(link) => tokio::select! {
                () = active.cancel.cancelled() => None,
                permit = link.changes.acquire() => permit.ok(),
            },
            None => None,
        };
        if active.cancel.is_cancelled() {
            self.set(
                active,
                position,
                TargetState::Cancelled,
                Some("it was called off before it began".into()),
            )
            .await;
            return;
        }
        let Some(engine) = link.as_ref().and_then(Link::live) else {
            let why = self.hub.look(|fleet| {
                fleet.host(host).map(|h| match &h.problem {
                    Some(problem) => format!("the host is out of reach: {}", problem.sentence),
                    None => "the host has not been reached yet; try again in a moment".to_owned(),
                })
            });
            let why = why.unwrap_or_else(|| "the host was taken out of the fleet".to_owned());
            self.set(active, position, TargetState::Failed, Some(why)).await;
            return;
        };
        let Some((id, step)) = ({
            let operation = active.operation.lock();
            let target = &operation.targets[position];
            target.step.clone().map(|step| (target.id.clone(), step))
        }) else {
            return;
        };
        // In the journal before the engine hears of it.
        if !self.set(active, position, TargetState::Running, None).await {
            return;
        }
        let (state, sentence) = match engine.take(&id, &step).await {
            Ok(Done::Changed) => (TargetState::Succeeded, None),
            Ok(Done::Unchanged) => (TargetState::Unchanged, Some("it was so already".to_owned())),
            Err(error) => (TargetState::Failed, Some(error.to_string())),
        };
        self.set(active, position, state, sentence).await;
    }

    /// Moves a target on: first in the journal, then for everybody to see, so that nothing is told that a
    /// crash could take back. `false` when the journal refuses.
    pub(crate) async fn set(
        &self,
        active: &Active,
        position: usize,
        state: TargetState,
        sentence: Option<String>,
    ) -> bool {
        let (id, mut target) = {
            let operation = active.operation.lock();
            (operation.id, operation.targets[position].clone())
        };
        let now = self.clock.now();
        target.state = state;
        target.sentence = sentence;
        if state == TargetState::Running {
            target.began = Some(now);
        }
        if state.is_final() {
            target.ended = Some(now);
        }
        let kept = target.clone();
        let written = self.db.run(move |store| store.set_target(id, position, &kept)).await;
        if let Err(error) = &written {
            tracing::error!(operation = id, "the journal refused: {error}");
            if state == TargetState::Running {
                target.state = TargetState::Failed;
                target.ended = Some(now);
                target.sentence =
                    Some("the journal could not be written, so the engine was not asked".to_owned());
            }
        }
        if target.state.is_final() {
            self.busy.lock().remove(&(target.host.clone(), target.id.clone()));
        }
        active.operation.lock().targets[position] = target;
        written.is_ok()
    }

    /// Closes an operation whose targets are all over.
    pub(crate) async fn finish(&self, active: &Active) {
        let operation = {
            let mut operation = active.operation.lock().clone();
            operation.state = overall(&operation.targets);
            operation.ended = Some(self.clock.now());
            operation
        };
        self.conclude(&operation, &active.author).await;
        self.active.lock().remove(&operation.id);
        let _ = self.sender.send(Arc::new(operation));
    }

    async fn conclude(&self, operation: &Operation, author: &Author) {
        let (kept, author, now) = (operation.clone(), author.clone(), self.clock.now());
        let written = self.db.run(move |store| {
            store.set_operation(&kept)?;
            store.audit(
                NewEntry {
                    member: &author.member,
                    address: &author.address,
                    action: kept.request.kind.word(),
                    object: &kept.references.join(" "),
                    outcome: &outcome_words(&kept),
                },
                now,
            )
        });
        if let Err(error) = written.await {
            tracing::error!(operation = operation.id, "the outcome could not be written: {error}");
        }
    }

    /// Calls an operation off: what has not begun will not. `None` when it is not under way.
    pub(crate) fn cancel(&self, id: u64) -> Option<Operation> {
        let active = self.active.lock().get(&id).cloned()?;
        active.cancel.cancel();
        let mut operation = active.operation.lock();
        operation.cancel_requested = true;
        Some(operation.clone())
    }
}

fn target(plan: TargetPlan, now: jiff::Timestamp) -> Target {
    let state = if plan.step.is_some() { TargetState::Waiting } else { TargetState::Refused };
    Target {
        host: plan.host,
        id: plan.id,
        name: plan.name,
        step: plan.step,
        state,
        sentence: plan.refused,
        began: None,
        ended: state.is_final().then_some(now),
    }
}

/// `operation 12: partly (8 succeeded, 1 failed)`.
pub(crate) fn outcome_words(operation: &Operation) -> String {
    let mut counts: BTreeMap<&str, usize> = BTreeMap::new();
    for target in &operation.targets {
        *counts.entry(target.state.word()).or_default() += 1;
    }
    let counts: Vec<String> = counts.into_iter().map(|(word, n)| format!("{n} {word}")).collect();
    format!("operation {}: {} ({})", operation.id, operation.state.word(), counts.join(", "))
}
