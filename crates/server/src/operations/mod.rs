//! The runner: the one way in for every change.
//!
//! A request becomes a plan, the plan is written to the journal, and only then are engines asked: a
//! few at once on each host, each target with an outcome of its own. No two operations work on the
//! same container; the second hears who is at it. Requests become plans in `prepare`, plans are carried
//! out in `course` and `carry`. What an earlier run of the service left unfinished is settled in `settle`.

pub(crate) mod catch_up;
mod check_context;
pub(crate) mod claims;
mod error;
pub(crate) mod executor;
pub(crate) mod http;
pub(crate) mod planner;
mod readiness;
pub(crate) mod recovery;
pub(crate) mod settling;
pub(crate) mod target_run;
mod tidying;
pub(crate) use claims::Claims;
pub(crate) use error::OperationError;

use std::collections::{BTreeMap, HashMap, VecDeque};
use std::sync::{Arc, Weak};
use std::time::Duration;

use gubernum_core::container::Container;
use gubernum_core::journal::{Operation, OperationState, Target, TargetState};
use gubernum_core::plan::digest::{difference, digest};
use gubernum_core::plan::{Kind, ObjectKind, Request, TargetPlan};
use gubernum_core::reference::Reference;
use gubernum_store::journal::NewOperation;
use parking_lot::Mutex;
use tokio::sync::broadcast;
use tokio_util::sync::CancellationToken;
use tokio_util::task::TaskTracker;

use crate::clock::Clock;
use crate::fleet::Hub;
use crate::fleet::Links;
use crate::images::Registries;
use crate::logs::Followers;
use crate::storage::Db;
use planner::{Prepared, Work};

/// The most targets of one operation.
pub(crate) const MOST_TARGETS: usize = 20_000;
/// The most references of one request.
pub(crate) const MOST_REFERENCES: usize = 1000;
/// The most operations under way at once.
pub(crate) const MOST_RUNNING: usize = 64;
/// How many previews are remembered, to tell what differs.
const KEPT_PREVIEWS: usize = 200;
/// How often an operation under way is told to those who watch.
const TELL_EVERY: Duration = Duration::from_millis(100);

/// Who asks for a change, and from where.
#[derive(Debug, Clone)]
pub(crate) struct Author {
    /// The member.
    pub member: String,
    /// The address.
    pub address: String,
}

pub(crate) struct Active {
    pub(crate) operation: Mutex<Operation>,
    pub(crate) cancel: CancellationToken,
    author: Author,
    /// What each target takes besides its steps; taken when it begins.
    work: Mutex<Vec<Work>>,
}

/// What no two operations work on at once: a container by its id, anything else, and what is to be made, by name.
fn busy_key(object: ObjectKind, host: &str, id: &str, name: &str) -> (String, String) {
    let what = match object {
        ObjectKind::Container if !id.is_empty() => id.to_owned(),
        object => format!("{} {name}", object.word()),
    };
    (host.to_owned(), what)
}

/// A container (host, id) or a thing, as [`busy_key`] names it.
type BusyKey = (String, String);

/// What operations work on.
#[derive(Default)]
struct Busy {
    /// The operation that holds each object; [`BEGINNING`] while it is being written.
    held: HashMap<BusyKey, u64>,
    /// Operations that are being written.
    beginning: usize,
}

/// Stands for an operation that has no number yet.
const BEGINNING: u64 = 0;

/// Objects that are reserved for an operation which is being written. Given back when dropped, unless it began.
struct Reservation<'a> {
    runner: &'a Runner,
    keys: Vec<BusyKey>,
}

impl Drop for Reservation<'_> {
    fn drop(&mut self) {
        let mut busy = self.runner.busy.lock();
        busy.beginning = busy.beginning.saturating_sub(1);
        for key in &self.keys {
            if busy.held.get(key) == Some(&BEGINNING) {
                busy.held.remove(key);
            }
        }
    }
}

/// Whose turn it is among requests with one key.
type Turn = Weak<tokio::sync::Mutex<()>>;

/// Carries operations out.
pub(crate) struct Runner {
    pub(crate) hub: Arc<Hub>,
    pub(crate) links: Arc<Links>,
    pub(crate) db: Db,
    pub(crate) clock: Clock,
    pub(crate) tasks: TaskTracker,
    pub(crate) registries: Arc<Registries>,
    /// Who follows which log: last lines are read before a container is removed.
    followers: Arc<Followers>,
    /// What operations work on, for the timeline.
    claims: Arc<Claims>,
    /// Whether the service runs in a container, where it cannot tell which ports its machine has.
    in_container: bool,
    paths: check_context::Paths,
    previews: Mutex<VecDeque<(String, Vec<TargetPlan>)>>,
    active: Mutex<BTreeMap<u64, Arc<Active>>>,
    /// What each operation works on; reserved before the operation is written.
    busy: Mutex<Busy>,
    /// Requests with an idempotency key that are being taken: a repeat waits for the first of its kind, and for no other.
    keys: Mutex<HashMap<(String, String), Turn>>,
    /// Operations that ended since the start, by kind and outcome.
    ended: Mutex<BTreeMap<(Kind, OperationState), u64>>,
    sender: broadcast::Sender<Arc<Operation>>,
}

/// What a runner works with.
pub(crate) struct RunnerParts {
    pub(crate) hub: Arc<Hub>,
    pub(crate) links: Arc<Links>,
    pub(crate) db: Db,
    pub(crate) clock: Clock,
    pub(crate) tasks: TaskTracker,
    pub(crate) registries: Arc<Registries>,
    pub(crate) followers: Arc<Followers>,
    pub(crate) claims: Arc<Claims>,
    pub(crate) in_container: bool,
}

impl Runner {
    pub(crate) fn new(parts: RunnerParts) -> Arc<Self> {
        let RunnerParts { hub, links, db, clock, tasks, registries, followers, claims, in_container } = parts;
        let (sender, _) = broadcast::channel(256);
        Arc::new(Self {
            hub,
            links,
            db,
            clock,
            tasks,
            registries,
            followers,
            claims,
            in_container,
            paths: check_context::Paths::default(),
            previews: Mutex::default(),
            active: Mutex::default(),
            busy: Mutex::default(),
            keys: Mutex::default(),
            ended: Mutex::default(),
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

    /// How many operations ended since the service started, by kind and outcome.
    pub(crate) fn ended(&self) -> BTreeMap<(Kind, OperationState), u64> {
        self.ended.lock().clone()
    }

    /// An operation under way.
    pub(crate) fn one_running(&self, id: u64) -> Option<Operation> {
        self.active.lock().get(&id).map(|a| a.operation.lock().clone())
    }

    /// What a request would do, with the digest that stands for it.
    pub(crate) async fn preview(
        &self,
        request: &Request,
        references: &[String],
    ) -> Result<(Vec<TargetPlan>, String), OperationError> {
        let plans: Vec<TargetPlan> =
            self.prepare(request, references).await?.into_iter().map(|(p, _)| p).collect();
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
    fn still_holds(&self, prepared: &[Prepared], seen: &str) -> Result<(), OperationError> {
        let now: Vec<TargetPlan> = prepared.iter().map(|(p, _)| p.clone()).collect();
        if digest(&now) == seen {
            return Ok(());
        }
        let before = self.previews.lock().iter().find(|(d, _)| d == seen).map(|(_, p)| p.clone());
        let what = match before.map(|before| difference(&before, &now)) {
            Some(words) if !words.is_empty() => words.join("; "),
            _ => "that preview is not known here any more".to_owned(),
        };
        Err(OperationError::ChangedSincePreview(what))
    }

    /// How many earlier states of each container are kept.
    pub(crate) async fn kept_earlier(&self) -> u32 {
        self.db.run(|store| store.preferences()).await.unwrap_or_default().kept_earlier
    }

    fn busy_words(&self, id: u64) -> String {
        if id == BEGINNING {
            return "another operation is about to begin on it; try again in a moment".to_owned();
        }
        match self.one_running(id) {
            Some(op) => format!(
                "operation {id} ({} by {}) is at work on it; wait for it or cancel it",
                op.request.kind, op.author
            ),
            None => format!("operation {id} is at work on it; wait for it"),
        }
    }

    fn resolve(&self, references: &[String]) -> Result<Vec<Container>, OperationError> {
        if references.is_empty() {
            return Err(OperationError::invalid(
                "/targets",
                "name at least one target, for example `packhouse/frost-api`",
            ));
        }
        if references.len() > MOST_REFERENCES {
            let text = format!(
                "{} references are too many, the most is {MOST_REFERENCES}; use `*`",
                references.len()
            );
            return Err(OperationError::invalid("/targets", text));
        }
        self.hub.look(|fleet| {
            let mut found: BTreeMap<(String, String), &Container> = BTreeMap::new();
            for (n, text) in references.iter().enumerate() {
                let matched = text.parse::<Reference>().and_then(|r| r.resolve(fleet.containers()));
                let matched = matched.map_err(|source| OperationError::Reference { at: n, source })?;
                found.extend(matched.into_iter().map(|c| ((c.host.clone(), c.name.clone()), c)));
            }
            if found.len() > MOST_TARGETS {
                let text = format!("{} targets are too many, the most is {MOST_TARGETS}", found.len());
                return Err(OperationError::invalid("/targets", text));
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
        seen: Option<&str>,
    ) -> Result<Operation, OperationError> {
        let turn = idempotency.as_ref().map(|(key, _)| self.turn_of(&author.member, key));
        let _turn = match &turn {
            Some(turn) => Some(turn.lock().await),
            None => None,
        };
        // A repeated request is answered with its operation even when its targets are gone or changed since.
        if let Some(known) = self.repeated(&author, &idempotency).await {
            return Ok(self.one_running(known.id).unwrap_or(known));
        }
        // Registries and engines are waited for here, and nobody else waits with us.
        let mut prepared = self.prepare(&request, &references).await?;
        if let Some(seen) = seen {
            self.still_holds(&prepared, seen)?;
        }
        let reservation = self.reserve(&mut prepared)?;
        let now = self.clock.now();
        let references = if references.is_empty() {
            prepared.iter().take(MOST_REFERENCES).map(|(p, _)| p.reference()).collect()
        } else {
            references
        };
        let (plans, work): (Vec<TargetPlan>, Vec<Work>) = prepared.into_iter().unzip();
        let targets = plans.into_iter().map(|p| target(p, now)).collect();
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
            return Ok(self.one_running(id).unwrap_or(operation));
        }
        if operation.state == OperationState::Running {
            self.begin(operation.clone(), author, work);
        } else {
            self.conclude(&operation, &author).await;
        }
        drop(reservation);
        let _ = self.sender.send(Arc::new(operation.clone()));
        Ok(operation)
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
            sentence: "the request of this operation is no longer kept".to_owned(),
        })?;
        let Some((request, references)) = gubernum_core::plan::retry(request, &operation.targets) else {
            return Err(OperationError::NothingToRetry(number));
        };
        self.submit(request, references, author, None, None).await
    }

    /// The turn of a request with this key: a repeat is told what the first came to.
    fn turn_of(&self, member: &str, key: &str) -> Arc<tokio::sync::Mutex<()>> {
        let mut keys = self.keys.lock();
        keys.retain(|_, turn| turn.strong_count() > 0);
        let place = keys.entry((member.to_owned(), key.to_owned())).or_default();
        place.upgrade().unwrap_or_else(|| {
            let turn = Arc::default();
            *place = Arc::downgrade(&turn);
            turn
        })
    }

    /// Reserves what plans work on, all at one moment. What somebody else has taken since it was planned, or what was
    /// replaced since, is refused.
    fn reserve(&self, prepared: &mut [Prepared]) -> Result<Reservation<'_>, OperationError> {
        let running = self.active.lock().len();
        let gone: Vec<bool> = self.hub.look(|fleet| {
            let is_gone = |plan: &TargetPlan| {
                plan.object == ObjectKind::Container
                    && !plan.id.is_empty()
                    && fleet.container(&plan.host, &plan.id).is_none()
            };
            prepared.iter().map(|(plan, _)| is_gone(plan)).collect()
        });
        let mut busy = self.busy.lock();
        if running + busy.beginning >= MOST_RUNNING {
            return Err(OperationError::TooMany);
        }
        let mut keys = Vec::new();
        let mut taken = Vec::new();
        for ((plan, _), gone) in prepared.iter_mut().zip(gone) {
            if plan.steps.is_empty() {
                continue;
            }
            let key = busy_key(plan.object, &plan.host, &plan.id, &plan.name);
            match busy.held.get(&key) {
                Some(id) => taken.push((plan, *id)),
                None if gone => {
                    plan.refuse("it was replaced or removed meanwhile; look at the preview again");
                }
                None => {
                    busy.held.insert(key.clone(), BEGINNING);
                    keys.push(key);
                }
            }
        }
        busy.beginning += 1;
        drop(busy);
        for (plan, id) in taken {
            plan.refuse(self.busy_words(id));
        }
        Ok(Reservation { runner: self, keys })
    }

    async fn repeated(&self, author: &Author, idempotency: &Option<(String, Vec<u8>)>) -> Option<Operation> {
        let (key, hash) = idempotency.clone()?;
        let member = author.member.clone();
        self.db.run(move |store| store.operation_by_key(&member, &key, &hash)).await.ok().flatten()
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
