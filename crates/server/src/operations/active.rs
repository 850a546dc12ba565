//! What is under way: each operation as it stands, what it works on, and who hears of it.
//!
//! It plans nothing and asks no engine; the journal is the executor's.

use std::collections::{BTreeMap, HashMap};
use std::sync::Arc;

use gubernum_core::journal::{Operation, OperationState, Target};
use gubernum_core::plan::{Kind, ObjectKind, TargetPlan};
use parking_lot::Mutex;
use tokio::sync::broadcast;
use tokio_util::sync::CancellationToken;

use crate::operations::copying::FirstPass;
use crate::operations::planner::{Planned, StepInputs};
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

/// A host and what is worked on there: a container by its id, anything else, and what is to be made, by name.
type ObjectKey = (String, String);

fn object_key(object: ObjectKind, host: &str, id: &str, name: &str) -> ObjectKey {
    let what = match object {
        ObjectKind::Container if !id.is_empty() => id.to_owned(),
        object => format!("{} {name}", object.word()),
    };
    (host.to_owned(), what)
}

fn key_of_plan(plan: &TargetPlan) -> ObjectKey {
    object_key(plan.object, &plan.host, &plan.id, &plan.name)
}

fn key_of_target(target: &Target) -> ObjectKey {
    object_key(target.object, &target.host, &target.id, &target.name)
}

/// What operations work on.
#[derive(Default)]
struct Busy {
    /// The operation that holds each object; [`BEGINNING`] while it is being written.
    held: HashMap<ObjectKey, u64>,
    /// Operations that are being written.
    beginning: usize,
}

/// Stands for an operation that has no number yet.
const BEGINNING: u64 = 0;

/// Objects that are reserved for an operation which is being written. Given back when dropped, unless it began.
pub(super) struct Reservation<'a> {
    active: &'a ActiveOperations,
    keys: Vec<ObjectKey>,
}

impl Drop for Reservation<'_> {
    fn drop(&mut self) {
        let mut busy = self.active.busy.lock();
        busy.beginning = busy.beginning.saturating_sub(1);
        for key in &self.keys {
            if busy.held.get(key) == Some(&BEGINNING) {
                busy.held.remove(key);
            }
        }
    }
}

/// All operations under way.
pub(super) struct ActiveOperations {
    all: Mutex<BTreeMap<u64, Arc<Active>>>,
    /// What each operation works on; reserved before the operation is written.
    busy: Mutex<Busy>,
    /// Operations that ended since the start, by kind and outcome.
    ended: Mutex<BTreeMap<(Kind, OperationState), u64>>,
    sender: broadcast::Sender<Arc<Operation>>,
}

impl Default for ActiveOperations {
    fn default() -> Self {
        let (sender, _) = broadcast::channel(256);
        Self { all: Mutex::default(), busy: Mutex::default(), ended: Mutex::default(), sender }
    }
}

impl ActiveOperations {
    /// Hears of operations as they move.
    pub(super) fn subscribe(&self) -> broadcast::Receiver<Arc<Operation>> {
        self.sender.subscribe()
    }

    /// Whether anybody hears.
    pub(super) fn is_watched(&self) -> bool {
        self.sender.receiver_count() > 0
    }

    /// Tells those who hear how an operation stands.
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
            for target in operation.targets.iter().filter(|t| !t.state.is_final()) {
                busy.held.insert(key_of_target(target), id);
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

    /// A target is over: others may work on it.
    pub(super) fn release(&self, target: &Target) {
        self.busy.lock().held.remove(&key_of_target(target));
    }

    /// An operation is over.
    pub(super) fn remove(&self, id: u64) {
        self.all.lock().remove(&id);
    }

    /// Refuses plans whose objects somebody is at work on.
    pub(super) fn refuse_busy(&self, planned: &mut [Planned]) {
        for Planned { plan, .. } in planned.iter_mut().filter(|p| !p.plan.steps.is_empty()) {
            let holder = self.busy.lock().held.get(&key_of_plan(plan)).copied();
            if let Some(id) = holder {
                plan.refuse(self.holder_words(id));
            }
        }
    }

    fn holder_words(&self, id: u64) -> String {
        if id == BEGINNING {
            return "another operation is about to begin on it; try again in a moment".to_owned();
        }
        match self.operation(id) {
            Some(op) => format!(
                "operation {id} ({} by {}) is at work on it; wait for it or cancel it",
                op.request.kind(),
                op.author
            ),
            None => format!("operation {id} is at work on it; wait for it"),
        }
    }

    /// Reserves what plans work on, all at one moment. What somebody else has taken since it was planned, or what is
    /// `gone` since (one word for each plan), is refused.
    ///
    /// # Errors
    /// When too many operations are under way.
    pub(super) fn reserve(
        &self,
        planned: &mut [Planned],
        gone: Vec<bool>,
    ) -> Result<Reservation<'_>, OperationError> {
        let running = self.all.lock().len();
        let mut busy = self.busy.lock();
        if running + busy.beginning >= MOST_RUNNING {
            return Err(OperationError::TooMany);
        }
        let mut keys = Vec::new();
        let mut taken = Vec::new();
        for (Planned { plan, .. }, gone) in planned.iter_mut().zip(gone) {
            if plan.steps.is_empty() {
                continue;
            }
            let key = key_of_plan(plan);
            match busy.held.get(&key) {
                // One thing may be worked on twice in an operation, e.g. paused and let go on.
                Some(_) if keys.contains(&key) => {}
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
            plan.refuse(self.holder_words(id));
        }
        Ok(Reservation { active: self, keys })
    }
}
