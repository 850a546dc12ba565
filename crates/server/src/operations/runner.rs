//! The runner: the handle of this capability, which every change goes through.

use std::collections::{BTreeMap, HashMap, VecDeque};
use std::sync::{Arc, Weak};
use std::time::Duration;

use gubernum_core::container::Container;
use gubernum_core::definition::Definition;
use gubernum_core::definition::check::Finding;
use gubernum_core::journal::{Operation, OperationState, Target, TargetState};
use gubernum_core::plan::digest::{difference, digest};
use gubernum_core::plan::{Kind, ObjectKind, Request, TargetPlan};
use gubernum_core::tidy::Rules;
use gubernum_engine::{Defined, Engine};
use gubernum_store::journal::NewOperation;
use parking_lot::Mutex;
use tokio::sync::broadcast;
use tokio::time::{Instant, timeout_at};
use tokio_util::task::TaskTracker;

use crate::access::Guards;
use crate::clock::Clock;
use crate::fleet::{Hub, Links, Unseen, View};
use crate::images::Registries;
use crate::logs::Followers;
use crate::operations::active::ActiveOperations;
use crate::operations::definition_checker::DefinitionChecker;
use crate::operations::executor::Executor;
use crate::operations::permission;
use crate::operations::planner::{JobChange, Planned, Planner, StepInputs};
use crate::operations::queue::{ObjectKey, OperationQueue, QueuePlace};
use crate::operations::recovery::Recovery;
use crate::operations::{Author, Claims, MOST_REFERENCES, OperationError};
use crate::storage::Db;
use crate::team::Freezes;

/// How many previews are remembered, to tell what differs.
const KEPT_PREVIEWS: usize = 200;

/// Whose turn it is among requests with one key.
type Turn = Weak<tokio::sync::Mutex<()>>;

/// What became of planning.
pub(super) struct Planning {
    pub(super) planned: Vec<Planned>,
    /// The jobs of the stack that is applied.
    pub(super) jobs: Vec<JobChange>,
    /// What the plans work on.
    wanted: Vec<ObjectKey>,
    /// Whether another operation is changing some of it or is ahead in the queue for it.
    is_taken: bool,
    /// The place in the queue that led here; kept until what the plans work on is reserved.
    place: Option<QueuePlace>,
}

/// Takes requests for changes and sees them through.
pub(crate) struct Runner {
    pub(super) hub: Arc<Hub>,
    pub(super) db: Db,
    pub(super) clock: Clock,
    pub(super) planner: Planner,
    checker: Arc<DefinitionChecker>,
    executor: Arc<Executor>,
    pub(super) active: Arc<ActiveOperations>,
    freezes: Arc<Freezes>,
    pub(super) guards: Guards,
    previews: Mutex<VecDeque<(String, Vec<TargetPlan>)>>,
    /// Requests with an idempotency key that are being taken: a repeat waits for the first of its kind, and for no other.
    turns: Mutex<HashMap<(String, String), Turn>>,
}

/// What a runner works with.
pub(crate) struct RunnerParts {
    pub(crate) hub: Arc<Hub>,
    pub(crate) links: Arc<Links>,
    pub(crate) db: Db,
    pub(crate) clock: Clock,
    pub(crate) tasks: TaskTracker,
    pub(crate) registries: Arc<Registries>,
    /// Who follows which log: last lines are read before a container is removed.
    pub(crate) followers: Arc<Followers>,
    /// What operations work on, for the timeline.
    pub(crate) claims: Arc<Claims>,
    /// What holds changes off.
    pub(crate) freezes: Arc<Freezes>,
    /// What holds dangerous changes back.
    pub(crate) guards: Guards,
    /// Who waits for whose turn.
    pub(crate) queue: Arc<OperationQueue>,
    /// Whether the service runs in a container, where it cannot tell which ports its machine has.
    pub(crate) in_container: bool,
}

impl Runner {
    pub(crate) fn new(parts: RunnerParts) -> Arc<Self> {
        let RunnerParts {
            hub,
            links,
            db,
            clock,
            tasks,
            registries,
            followers,
            claims,
            freezes,
            guards,
            queue,
            in_container,
        } = parts;
        let active = Arc::new(ActiveOperations::new(queue));
        let checker =
            Arc::new(DefinitionChecker::new(hub.clone(), links.clone(), registries.clone(), in_container));
        let planner = Planner {
            hub: hub.clone(),
            view: View::whole(hub.clone()),
            links: links.clone(),
            db: db.clone(),
            clock: clock.clone(),
            registries: registries.clone(),
            checker: checker.clone(),
        };
        let executor = Arc::new(Executor {
            hub: hub.clone(),
            links,
            db: db.clone(),
            clock: clock.clone(),
            tasks,
            registries,
            followers,
            claims,
            checker: checker.clone(),
            active: active.clone(),
        });
        let (previews, turns) = (Mutex::default(), Mutex::default());
        Arc::new(Self {
            hub,
            db,
            clock,
            planner,
            checker,
            executor,
            active,
            freezes,
            guards,
            previews,
            turns,
        })
    }

    /// Settles what an earlier run of the service left in the journal. Returns when that has begun.
    pub(crate) async fn recover(&self, open: Vec<Operation>) {
        Recovery::new(self.executor.clone()).begin(open).await;
    }

    /// Hears of operations as they move.
    pub(crate) fn subscribe(&self) -> broadcast::Receiver<Arc<Operation>> {
        self.active.subscribe()
    }

    /// The operations under way.
    pub(crate) fn running(&self) -> Vec<Operation> {
        self.active.running()
    }

    /// How many operations ended since the service started, by kind and outcome.
    pub(crate) fn ended(&self) -> BTreeMap<(Kind, OperationState), u64> {
        self.active.ended()
    }

    /// An operation under way.
    pub(crate) fn one_running(&self, id: u64) -> Option<Operation> {
        self.active.operation(id)
    }

    /// Cancels an operation: what has not begun will not. `None` when it is not under way.
    pub(crate) fn cancel(&self, id: u64) -> Option<Operation> {
        self.active.cancel(id)
    }

    /// Whether somebody may call an operation off: what is their own, and what they may do themselves.
    ///
    /// # Errors
    /// When they may not.
    pub(crate) fn may_change(&self, operation: &Operation, author: &Author) -> Result<(), OperationError> {
        if operation.author == author.member {
            return Ok(());
        }
        permission::call_off(operation, &self.planner.through(&author.access).view)
    }

    /// The errors of a definition for a host.
    pub(crate) async fn check_definition(
        &self,
        host: &str,
        engine: &Engine,
        definition: &Definition,
        replaces: Option<&Container>,
    ) -> Vec<Finding> {
        self.checker.check(host, engine, definition, replaces).await
    }

    /// The one container that a reference means, with its definition.
    ///
    /// # Errors
    /// When it means none or several, or the engine cannot be asked.
    pub(crate) async fn defined(&self, reference: &str) -> Result<(Container, Defined), OperationError> {
        self.planner.defined(reference).await
    }

    /// What protects unused things now.
    ///
    /// # Errors
    /// When the records cannot be read.
    pub(crate) async fn tidy_rules(&self) -> Result<Rules, OperationError> {
        self.planner.tidy_rules().await
    }

    /// Plans a request; targets that another operation is changing are refused.
    async fn plan(
        &self,
        request: &Request,
        references: &[String],
        author: &Author,
        place: Option<u64>,
    ) -> Result<Planning, OperationError> {
        let planner = self.planner.through(&author.access);
        let mut planned = planner.plan(request, references).await?;
        permission::judge(request, &mut planned, &planner.view)?;
        let jobs = match request {
            Request::Apply(apply) => planner.jobs_of(apply, references).await?,
            _ => Vec::new(),
        };
        permission::judge_jobs(request, &jobs, &planner.view)?;
        let (now, member) = (self.clock.now(), &author.member);
        permission::hold_off(request, &mut planned, &planner.view, |place, on| {
            self.freezes.refusal(place, on, member, now)
        })?;
        let wanted = ActiveOperations::keys(&planned);
        let is_taken = self.active.refuse_busy(&mut planned, place);
        hold_together(request, &mut planned);
        if !planner.view.is_whole() {
            for planned in &mut planned {
                let unseen = Unseen::on(&planner.view, &planned.plan.host);
                planned.plan = unseen.out_of_all(std::mem::take(&mut planned.plan));
            }
        }
        Ok(Planning { planned, jobs, wanted, is_taken, place: None })
    }

    /// Plans a request once no other operation is changing its targets, or when the wait is over. First come, first served.
    async fn plan_in_turn(
        &self,
        request: &Request,
        references: &[String],
        author: &Author,
        wait: Duration,
    ) -> Result<Planning, OperationError> {
        // Subscribe before reading the state: what is freed in between is tried again rather than missed.
        let mut freed = self.active.queue().subscribe();
        let planning = self.plan(request, references, author, None).await?;
        if !planning.is_taken || wait.is_zero() {
            return Ok(planning);
        }
        let queue = self.active.queue();
        let place = queue.join(&author.member, request.kind(), references, self.clock.now());
        let place = place.ok_or(OperationError::TooManyWait)?;
        let mut wanted = planning.wanted;
        queue.wants(place.number, wanted.clone());
        let until = Instant::now() + wait;
        loop {
            // Much is freed while a large operation runs; a plan is worth its while only once all of this is.
            let turn = async {
                while !self.active.is_free(&wanted, place.number) && freed.changed().await.is_ok() {}
            };
            let is_over = timeout_at(until, turn).await.is_err();
            let planning = self.plan(request, references, author, Some(place.number)).await?;
            if !planning.is_taken || is_over {
                return Ok(Planning { place: Some(place), ..planning });
            }
            wanted = planning.wanted;
            queue.wants(place.number, wanted.clone());
        }
    }

    /// What a request would do, with the digest that stands for it.
    ///
    /// # Errors
    /// When the request is invalid or what it names is not there.
    pub(crate) async fn preview(
        &self,
        request: &Request,
        references: &[String],
        author: &Author,
    ) -> Result<(Vec<TargetPlan>, String), OperationError> {
        permission::early(request, references, &self.planner.through(&author.access).view)?;
        let request = &self.complete(request.clone(), references).await?;
        let plans: Vec<TargetPlan> =
            self.plan(request, references, author, None).await?.planned.into_iter().map(|p| p.plan).collect();
        let digest = digest(&plans);
        let mut kept = self.previews.lock();
        if !kept.iter().any(|(d, _)| *d == digest) {
            kept.push_back((digest.clone(), plans.clone()));
            if kept.len() > KEPT_PREVIEWS {
                kept.pop_front();
            }
        }
        Ok((plans, digest))
    }

    /// Refuses when the plans are not those that were looked at.
    fn still_holds(&self, planned: &[Planned], seen: &str) -> Result<(), OperationError> {
        let now: Vec<TargetPlan> = planned.iter().map(|p| p.plan.clone()).collect();
        if digest(&now) == seen {
            return Ok(());
        }
        let before = self.previews.lock().iter().find(|(d, _)| d == seen).map(|(_, p)| p.clone());
        let what = match before.map(|before| difference(&before, &now)) {
            Some(words) if !words.is_empty() => words.join("; "),
            _ => "the preview has expired".to_owned(),
        };
        Err(OperationError::ChangedSincePreview(what))
    }

    /// Whether the container of each plan is not there any more.
    fn gone(&self, planned: &[Planned]) -> Vec<bool> {
        self.hub.look(|fleet| {
            let is_gone = |plan: &TargetPlan| {
                plan.object == ObjectKind::Container
                    && !plan.id.is_empty()
                    && fleet.container(&plan.host, &plan.id).is_none()
            };
            planned.iter().map(|p| is_gone(&p.plan)).collect()
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
        seen: Option<&str>,
        wait: Duration,
    ) -> Result<Operation, OperationError> {
        let turn = idempotency.as_ref().map(|(key, _)| self.turn_of(&author.member, key));
        let _turn = match &turn {
            Some(turn) => Some(turn.lock().await),
            None => None,
        };
        // A repeated request is answered with its operation even when its targets are gone or changed since.
        if let Some(known) = self.repeated(&author, &idempotency).await {
            return Ok(self.active.operation(known.id).unwrap_or(known));
        }
        permission::early(&request, &references, &self.planner.through(&author.access).view)?;
        let request = self.complete(request, &references).await?;
        // Registries and engines are waited for here, and nobody else waits with us.
        let until = Instant::now() + wait;
        loop {
            let left = until.saturating_duration_since(Instant::now());
            let planning = self.plan_in_turn(&request, &references, &author, left).await?;
            if let Some(seen) = seen.filter(|_| wait.is_zero()) {
                self.still_holds(&planning.planned, seen)?;
            }
            let passed = self.pass_guards(&request, &references, &author, &planning).await?;
            // From here on nobody may go away in the middle: what is written to the journal is begun.
            let (runner, asked) = (self.clone(), (request.clone(), references.clone()));
            let (author, idempotency, may_wait) = (author.clone(), idempotency.clone(), !left.is_zero());
            let begun = async move {
                let begun = runner.begin(asked, author, idempotency, planning, may_wait).await;
                if !matches!(begun, Ok(Some(_))) {
                    for passed in passed {
                        runner.guards.give_back(passed).await;
                    }
                }
                begun
            };
            match tokio::spawn(begun).await? {
                // Somebody else planned at the same moment and was first: this one waits behind.
                Ok(None) => {}
                Ok(Some(operation)) => return Ok(operation),
                Err(error) => return Err(error),
            }
        }
    }

    /// Writes an operation to the journal and begins it; `None`, and nothing is written, when somebody else has taken some of it since it
    /// was planned and it may wait.
    async fn begin(
        &self,
        (request, references): (Request, Vec<String>),
        author: Author,
        idempotency: Option<(String, Vec<u8>)>,
        planning: Planning,
        may_wait: bool,
    ) -> Result<Option<Operation>, OperationError> {
        let Planning { mut planned, place, .. } = planning;
        let gone = self.gone(&planned);
        let (reservation, is_taken) =
            self.active.reserve(&mut planned, gone, (request.kind(), &author.member))?;
        if is_taken && may_wait {
            return Ok(None);
        }
        drop(place);
        hold_together(&request, &mut planned);
        let now = self.clock.now();
        let whole = match &request {
            Request::Apply(apply) => Some(apply.stack.clone()),
            Request::RemoveStack(remove) => Some(remove.stack.clone()),
            Request::Run(run) => Some(format!("{}/{}", run.stack, run.service)),
            _ => None,
        };
        let references = if let Some(whole) = whole {
            // What is changed is the stack; that it was named by its host says too little afterwards.
            references.iter().map(|host| format!("{host}/{whole}")).collect()
        } else if references.is_empty() {
            planned.iter().take(MOST_REFERENCES).map(|p| p.plan.reference()).collect()
        } else {
            references
        };
        let (targets, inputs): (Vec<Target>, Vec<StepInputs>) =
            planned.into_iter().map(|p| (target(p.plan, now), p.inputs)).unzip();
        let (operation, is_new) = {
            let author = author.clone();
            self.db
                .run(move |store| {
                    store.add_operation(NewOperation {
                        request: &request,
                        references: &references,
                        author: &author.member,
                        address: &author.address,
                        created: now,
                        targets,
                        idempotency: idempotency.as_ref().map(|(k, h)| (k.as_str(), h.as_slice())),
                    })
                })
                .await?
        };
        if !is_new {
            drop(reservation);
            let id = operation.id;
            return Ok(Some(self.active.operation(id).unwrap_or(operation)));
        }
        if operation.state == OperationState::Running {
            self.executor.begin(operation.clone(), author, inputs);
        } else {
            // Nothing had to be done; the text may be another all the same.
            if operation.state == OperationState::Succeeded && operation.request.kind() == Kind::Apply {
                let id = operation.id;
                self.db.run(move |store| store.decide(id, &[], now)).await?;
            }
            self.executor.conclude(&operation, &author).await;
        }
        drop(reservation);
        self.active.tell(operation.clone());
        Ok(Some(operation))
    }

    /// Asks once more for the targets of an operation that failed.
    ///
    /// # Errors
    /// When it is still under way, when nothing of it failed, or as [`Runner::submit`].
    pub(crate) async fn retry(
        self: &Arc<Self>,
        operation: &Operation,
        author: Author,
    ) -> Result<Operation, OperationError> {
        let number = operation.id;
        if operation.state == OperationState::Running {
            return Err(OperationError::NotOver(number));
        }
        let request = self.db.run(move |store| store.whole_request(number)).await?;
        let request = request.ok_or_else(|| OperationError::NotFound {
            field: None,
            sentence: "the request of this operation is no longer available".to_owned(),
        })?;
        let Some((request, references)) = gubernum_core::plan::retry(request, &operation.targets) else {
            return Err(OperationError::NothingToRetry(number));
        };
        self.submit(request, references, author, None, None, Duration::ZERO).await
    }

    /// The turn of a request with this key: a repeat is told what the first came to.
    fn turn_of(&self, member: &str, key: &str) -> Arc<tokio::sync::Mutex<()>> {
        let mut turns = self.turns.lock();
        turns.retain(|_, turn| turn.strong_count() > 0);
        let place = turns.entry((member.to_owned(), key.to_owned())).or_default();
        place.upgrade().unwrap_or_else(|| {
            let turn = Arc::default();
            *place = Arc::downgrade(&turn);
            turn
        })
    }

    async fn repeated(&self, author: &Author, idempotency: &Option<(String, Vec<u8>)>) -> Option<Operation> {
        let (key, hash) = idempotency.clone()?;
        let member = author.member.clone();
        self.db.run(move |store| store.operation_by_key(&member, &key, &hash)).await.ok().flatten()
    }
}

/// A stack is changed as a whole or not at all.
fn hold_together(request: &Request, planned: &mut [Planned]) {
    if request.kind().is_whole() {
        gubernum_core::stack::whole_or_not(planned.iter_mut().map(|p| &mut p.plan));
    }
}

fn target(plan: TargetPlan, now: jiff::Timestamp) -> Target {
    let state = match (&plan.refused, &plan.unchanged) {
        (None, Some(_)) => TargetState::Unchanged,
        _ if plan.steps.is_empty() => TargetState::Refused,
        _ => TargetState::Waiting,
    };
    Target {
        host: plan.host,
        object: plan.object,
        id: plan.id,
        name: plan.name,
        after: plan.after,
        steps: plan.steps,
        at: None,
        progress: None,
        bytes: plan.bytes,
        state,
        sentence: plan.refused.or(plan.unchanged),
        began: None,
        ended: state.is_final().then_some(now),
    }
}
