//! Running and queued operations: their state, the objects they hold, and their subscribers.
//!
//! It plans nothing and asks no engine; the journal is the executor's.

use std::collections::{BTreeMap, HashMap, HashSet};
use std::sync::Arc;

use gubernum_core::journal::{Operation, OperationState, Target};
use gubernum_core::plan::{Kind, ObjectKind, TargetPlan};
use parking_lot::Mutex;
use tokio::sync::broadcast;
use tokio_util::sync::CancellationToken;

use crate::operations::copying::FirstPass;
use crate::operations::planner::{Planned, StepInputs};
use crate::operations::queue::{ObjectKey, OperationQueue, Waiter};
use crate::operations::{Author, MOST_RUNNING, OperationError};

/// An operation under way.
pub(crate) struct Active {
    pub(super) operation: Mutex<Operation>,
    pub(super) cancel: CancellationToken,
    pub(super) author: Author,
    /// What the steps of each target take; taken when it begins.
    pub(super) inputs: Mutex<Vec<StepInputs>>,
    /// What first passes over volumes found, by the volumes' names.
    pub(super) first_passes: Mutex<HashMap<String, FirstPass>>,
}

/// Everything is known by its name; a container also by its id. Its name alone would miss the old one that has been moved aside,
/// its id alone the new one that already has the name.
fn object_keys(object: ObjectKind, host: &str, id: &str, name: &str) -> Vec<ObjectKey> {
    let id = (object == ObjectKind::Container && !id.is_empty()).then(|| id.to_owned());
    let name = format!("{} {name}", object.word());
    id.into_iter().chain([name]).map(|what| (host.to_owned(), what)).collect()
}

fn keys_of_plan(plan: &TargetPlan) -> Vec<ObjectKey> {
    object_keys(plan.object, &plan.host, &plan.id, &plan.name)
}

fn keys_of_target(target: &Target) -> Vec<ObjectKey> {
    object_keys(target.object, &target.host, &target.id, &target.name)
}

/// What operations work on.
#[derive(Default)]
struct Busy {
    /// What holds each object.
    held: HashMap<ObjectKey, Holder>,
    /// Operations that are being written.
    beginning: usize,
}

/// What holds an object.
#[derive(Clone)]
enum Holder {
    /// An operation that is being written, and has no number yet.
    InitialState { kind: Kind, member: Arc<str> },
    /// An operation, and how many of its targets that have not ended are this object.
    Operation { id: u64, targets: usize },
}

/// Objects that are reserved for an operation which is being written. Given back when dropped, unless it began.
pub(super) struct Reservation<'a> {
    active: &'a ActiveOperations,
    keys: HashSet<ObjectKey>,
}

impl Drop for Reservation<'_> {
    fn drop(&mut self) {
        let mut busy = self.active.busy.lock();
        busy.beginning = busy.beginning.saturating_sub(1);
        for key in &self.keys {
            if matches!(busy.held.get(key), Some(Holder::InitialState { .. })) {
                busy.held.remove(key);
            }
        }
        drop(busy);
        self.active.queue.free();
    }
}

fn waiter_words(waiter: &Waiter) -> String {
    format!(
        "{} by {} is queued for it since {}; queue behind it",
        waiter.kind,
        waiter.member,
        waiter.since.strftime("%H:%M UTC")
    )
}

/// All operations under way.
pub(super) struct ActiveOperations {
    all: Mutex<BTreeMap<u64, Arc<Active>>>,
    /// What each operation works on; reserved before the operation is written.
    busy: Mutex<Busy>,
    /// Operations that ended since the start, by kind and outcome.
    ended: Mutex<BTreeMap<(Kind, OperationState), u64>>,
    sender: broadcast::Sender<Arc<Operation>>,
    /// Who waits for what is worked on.
    queue: Arc<OperationQueue>,
}

impl ActiveOperations {
    pub(super) fn new(queue: Arc<OperationQueue>) -> Self {
        let (sender, _) = broadcast::channel(256);
        Self { all: Mutex::default(), busy: Mutex::default(), ended: Mutex::default(), sender, queue }
    }

    /// Operations queued behind others.
    pub(super) fn queue(&self) -> &Arc<OperationQueue> {
        &self.queue
    }

    /// Hears of operations as they move.
    pub(super) fn subscribe(&self) -> broadcast::Receiver<Arc<Operation>> {
        self.sender.subscribe()
    }

    /// Whether anybody hears.
    pub(super) fn is_watched(&self) -> bool {
        self.sender.receiver_count() > 0
    }

    /// Tells those who hear the state of an operation.
    pub(super) fn tell(&self, operation: Operation) {
        let _ = self.sender.send(Arc::new(operation));
    }

    /// All of them as they stand.
    pub(super) fn running(&self) -> Vec<Operation> {
        self.all.lock().values().map(|a| a.operation.lock().clone()).collect()
    }

    /// One as it stands.
    pub(super) fn operation(&self, id: u64) -> Option<Operation> {
        self.all.lock().get(&id).map(|a| a.operation.lock().clone())
    }

    /// How many ended since the service started, by kind and outcome.
    pub(super) fn ended(&self) -> BTreeMap<(Kind, OperationState), u64> {
        self.ended.lock().clone()
    }

    /// Counts one that ended.
    pub(super) fn count_end(&self, operation: &Operation) {
        *self.ended.lock().entry((operation.request.kind(), operation.state)).or_default() += 1;
    }

    /// Cancels one: what has not begun will not. `None` when it is not under way.
    pub(super) fn cancel(&self, id: u64) -> Option<Operation> {
        let active = self.all.lock().get(&id).cloned()?;
        active.cancel.cancel();
        let mut operation = active.operation.lock();
        operation.cancel_requested = true;
        Some(operation.clone())
    }

    /// Takes one in and marks what it works on.
    pub(super) fn add(&self, operation: Operation, author: Author, inputs: Vec<StepInputs>) -> Arc<Active> {
        let id = operation.id;
        {
            let mut busy = self.busy.lock();
            for key in operation.targets.iter().filter(|t| !t.state.is_final()).flat_map(keys_of_target) {
                match busy.held.get_mut(&key) {
                    Some(Holder::Operation { id: holder, targets }) if *holder == id => *targets += 1,
                    _ => {
                        busy.held.insert(key, Holder::Operation { id, targets: 1 });
                    }
                }
            }
        }
        let active = Arc::new(Active {
            operation: Mutex::new(operation),
            cancel: CancellationToken::new(),
            author,
            inputs: Mutex::new(inputs),
            first_passes: Mutex::default(),
        });
        self.all.lock().insert(id, active.clone());
        active
    }

    /// A target has ended: others may change it, unless a later target of the same operation is the same object.
    pub(super) fn release(&self, target: &Target) {
        {
            let mut busy = self.busy.lock();
            for key in keys_of_target(target) {
                match busy.held.get_mut(&key) {
                    Some(Holder::Operation { targets, .. }) if *targets > 1 => *targets -= 1,
                    _ => {
                        busy.held.remove(&key);
                    }
                }
            }
        }
        self.queue.free();
    }

    /// An operation is over.
    pub(super) fn remove(&self, id: u64) {
        self.all.lock().remove(&id);
        self.queue.free();
    }

    /// Refuses plans whose objects another operation is changing, or for which an earlier one is queued. A queued one has the number of
    /// its place. Tells whether any was refused.
    pub(super) fn refuse_busy(&self, planned: &mut [Planned], place: Option<u64>) -> bool {
        let mut is_taken = false;
        for Planned { plan, .. } in planned.iter_mut().filter(|p| !p.plan.steps.is_empty()) {
            let keys = keys_of_plan(plan);
            let holder = {
                let busy = self.busy.lock();
                keys.iter().find_map(|key| busy.held.get(key)).cloned()
            };
            let waiter = || keys.iter().find_map(|key| self.queue.before(key, place));
            let words = match holder {
                Some(holder) => Some(self.holder_words(&holder)),
                None => waiter().map(|waiter| waiter_words(&waiter)),
            };
            if let Some(words) = words {
                plan.refuse(words);
                plan.busy = true;
                is_taken = true;
            }
        }
        is_taken
    }

    /// Whether no other operation is changing any of these or is ahead in the queue for one.
    pub(super) fn is_free(&self, keys: &[ObjectKey], place: u64) -> bool {
        let is_held = {
            let busy = self.busy.lock();
            keys.iter().any(|key| busy.held.contains_key(key))
        };
        !is_held && keys.iter().all(|key| self.queue.before(key, Some(place)).is_none())
    }

    /// What plans work on.
    pub(super) fn keys(planned: &[Planned]) -> Vec<ObjectKey> {
        planned.iter().flat_map(|p| keys_of_plan(&p.plan)).collect()
    }

    fn holder_words(&self, holder: &Holder) -> String {
        let id = match holder {
            Holder::InitialState { kind, member } => {
                return format!("{kind} by {member} is about to change it; queue behind it");
            }
            Holder::Operation { id, .. } => *id,
        };
        match self.operation(id) {
            Some(op) => format!(
                "operation {id} ({} by {}, since {}) is changing it; queue behind it, or cancel it",
                op.request.kind(),
                op.author,
                op.created.strftime("%H:%M UTC")
            ),
            None => format!("operation {id} is changing it; wait for it"),
        }
    }

    /// Reserves what plans work on, all at one moment. What somebody else has taken since it was planned, or what is
    /// `gone` since (one word for each plan), is refused. Tells whether somebody else has taken something.
    ///
    /// # Errors
    /// When too many operations are under way.
    pub(super) fn reserve(
        &self,
        planned: &mut [Planned],
        gone: Vec<bool>,
        (kind, member): (Kind, &str),
    ) -> Result<(Reservation<'_>, bool), OperationError> {
        let running = self.all.lock().len();
        let mut busy = self.busy.lock();
        if running + busy.beginning >= MOST_RUNNING {
            return Err(OperationError::TooMany);
        }
        let mut keys = HashSet::new();
        let mut taken = Vec::new();
        for (Planned { plan, .. }, gone) in planned.iter_mut().zip(gone) {
            if plan.steps.is_empty() {
                continue;
            }
            let of_plan = keys_of_plan(plan);
            // An operation may change one object twice, e.g. pause it and resume it.
            let holder = of_plan.iter().filter(|&key| !keys.contains(key)).find_map(|key| busy.held.get(key));
            match holder {
                Some(holder) => taken.push((plan, holder.clone())),
                None if gone => {
                    plan.refuse("it was replaced or removed meanwhile; check the preview again");
                }
                None => {
                    for key in of_plan {
                        let holder = Holder::InitialState { kind, member: member.into() };
                        if keys.insert(key.clone()) {
                            busy.held.insert(key, holder);
                        }
                    }
                }
            }
        }
        busy.beginning += 1;
        drop(busy);
        let is_taken = !taken.is_empty();
        for (plan, holder) in taken {
            plan.refuse(self.holder_words(&holder));
        }
        Ok((Reservation { active: self, keys }, is_taken))
    }
}

#[cfg(test)]
#[path = "active_tests.rs"]
mod tests;
