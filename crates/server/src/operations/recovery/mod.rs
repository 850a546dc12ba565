//! Recovers operations that an earlier run of the service left unfinished: completed, rolled back, or explained.
//!
//! What had not begun is closed at once. What had begun is judged by what the engine shows after its first listing, and a
//! container that was being made or replaced is repaired (`container`); a host that is not back in time leaves it unknown,
//! and says so.

mod container;
mod job;
mod stack;

use std::sync::Arc;
use std::time::Duration;

use gubernum_core::host::LinkState;
use gubernum_core::journal::{
    Operation, Target, TargetState, host_unreachable, never_begun, settle, settle_object,
};
use gubernum_core::plan::{Kind, ObjectKind};
use gubernum_core::rights::Access;
use tokio::time::Instant;

use crate::fleet::Link;
use crate::operations::Author;
use crate::operations::active::Active;
use crate::operations::executor::Executor;
use container::{ContainerRecovery, makes_containers};

/// How long a host may take to come back.
const WAIT: Duration = Duration::from_secs(60);
pub(super) const LOOK_EVERY: Duration = Duration::from_millis(100);

/// Settles operations that an earlier run of the service left.
pub(super) struct Recovery {
    executor: Arc<Executor>,
}

impl Recovery {
    pub(super) fn new(executor: Arc<Executor>) -> Self {
        Self { executor }
    }

    /// Begins to settle what is open in the journal, each operation in a task of its own.
    pub(super) async fn begin(&self, open: Vec<Operation>) {
        for operation in open {
            tracing::warn!(
                operation = operation.id,
                "was interrupted when the service stopped; recovering it"
            );
            let executor = self.executor.clone();
            let id = operation.id;
            let address = executor.db.run(move |store| store.operation_address(id)).await;
            let address = address.unwrap_or_else(|_| "-".to_owned());
            // What was begun was allowed.
            let author =
                Author { address, ..Author::service(&operation.author, Access::everything(), String::new()) };
            let active = executor.activate(operation, author, Vec::new());
            self.executor.tasks.spawn(async move {
                settle_targets(&executor, &active).await;
                executor.finish(&active).await;
            });
        }
    }
}

async fn settle_targets(executor: &Executor, active: &Active) {
    let targets = active.operation.lock().targets.clone();
    let kind = active.operation.lock().request.kind();
    let of_state = |state| targets.iter().enumerate().filter(move |(_, t)| t.state == state);
    for (position, _) in of_state(TargetState::Waiting) {
        let (state, sentence) = never_begun();
        executor.set_target(active, position, state, Some(sentence)).await;
    }
    let deadline = Instant::now() + WAIT;
    if kind.is_whole() {
        return stack::settle(executor, active, deadline).await;
    }
    for (position, target) in of_state(TargetState::Running) {
        let (state, sentence) = if kind == Kind::Run {
            job::settle(executor, active, position, target, deadline).await
        } else if makes_containers(&target.steps) {
            recover_container(executor, active, target, deadline).await
        } else if target.object == ObjectKind::Container {
            settle_container(executor, kind, target, deadline).await
        } else {
            settle_object()
        };
        executor.set_target(active, position, state, Some(sentence)).await;
    }
}

/// Puts a container right that was being made or replaced, as soon as its host can be reached.
async fn recover_container(
    executor: &Executor,
    active: &Active,
    target: &Target,
    deadline: Instant,
) -> (TargetState, String) {
    loop {
        if let Some(engine) = executor.links.get(&target.host).as_ref().and_then(Link::live) {
            let (operation, member) = {
                let operation = active.operation.lock();
                (operation.id, operation.author.clone())
            };
            let (db, clock) = (&executor.db, &executor.clock);
            return ContainerRecovery { db, clock, engine: &engine, operation, member: &member, target }
                .run()
                .await;
        }
        if Instant::now() > deadline {
            return host_unreachable();
        }
        tokio::time::sleep(LOOK_EVERY).await;
    }
}

/// Judges a container that was to change by what its host shows, as soon as that is listed.
async fn settle_container(
    executor: &Executor,
    kind: Kind,
    target: &Target,
    deadline: Instant,
) -> (TargetState, String) {
    loop {
        let seen = executor.hub.look(|fleet| {
            let live = fleet.host(&target.host).map(|h| h.state == LinkState::Live);
            live.map(|live| live.then(|| fleet.container(&target.host, &target.id).cloned()))
        });
        match seen {
            Some(Some(container)) => return settle(kind, target.began, container.as_ref()),
            None => return host_unreachable(),
            Some(None) if Instant::now() > deadline => return host_unreachable(),
            Some(None) => tokio::time::sleep(LOOK_EVERY).await,
        }
    }
}
