//! What an earlier run of the service left in the middle: finished or explained.
//!
//! What had not begun is closed at once. What had begun is judged by what the engine shows after its
//! first listing; a host that is not back in time leaves it unknown, and says so.

use std::sync::Arc;
use std::time::Duration;

use gubernum_core::host::LinkState;
use gubernum_core::journal::{Operation, TargetState, host_unreachable, never_begun, settle, settle_thing};
use gubernum_core::plan::ObjectKind;

use crate::operations::recovery::{needs_care, put_right};
use crate::operations::{Active, Author, Runner};

/// How long a host may take to come back.
const WAIT: Duration = Duration::from_secs(60);
const LOOK_EVERY: Duration = Duration::from_millis(100);

/// Begins to settle what is open in the journal.
pub(crate) async fn begin(runner: &Arc<Runner>, open: Vec<Operation>) {
    for operation in open {
        tracing::warn!(operation = operation.id, "was interrupted by the end of an earlier run; settling it");
        let id = operation.id;
        let address = runner.db.run(move |store| store.operation_address(id)).await;
        let address = address.unwrap_or_else(|_| "-".to_owned());
        let author = Author { member: operation.author.clone(), address };
        let active = runner.activate(operation, author, Vec::new());
        let runner = runner.clone();
        let tasks = runner.tasks.clone();
        tasks.spawn(async move {
            close(&runner, &active).await;
            runner.finish(&active).await;
        });
    }
}

async fn close(runner: &Runner, active: &Active) {
    let targets = active.operation.lock().targets.clone();
    let kind = active.operation.lock().request.kind;
    for (position, target) in targets.iter().enumerate() {
        if target.state == TargetState::Waiting {
            let (state, sentence) = never_begun();
            runner.set(active, position, state, Some(sentence)).await;
        }
    }
    let deadline = tokio::time::Instant::now() + WAIT;
    for (position, target) in targets.iter().enumerate().filter(|(_, t)| t.state == TargetState::Running) {
        let (state, sentence) = loop {
            if needs_care(&target.steps) {
                match runner.links.get(&target.host).and_then(|link| link.live()) {
                    Some(engine) => {
                        let (id, member) = {
                            let operation = active.operation.lock();
                            (operation.id, operation.author.clone())
                        };
                        break put_right(runner, &engine, id, &member, target).await;
                    }
                    None if tokio::time::Instant::now() > deadline => break host_unreachable(),
                    None => {
                        tokio::time::sleep(LOOK_EVERY).await;
                        continue;
                    }
                }
            }
            if target.object != ObjectKind::Container {
                break settle_thing();
            }
            let seen = runner.hub.look(|fleet| {
                let live = fleet.host(&target.host).map(|h| h.state == LinkState::Live);
                live.map(|live| live.then(|| fleet.container(&target.host, &target.id).cloned()))
            });
            match seen {
                Some(Some(container)) => break settle(kind, target.began, container.as_ref()),
                None => break host_unreachable(),
                Some(None) if tokio::time::Instant::now() > deadline => break host_unreachable(),
                Some(None) => tokio::time::sleep(LOOK_EVERY).await,
            }
        };
        runner.set(active, position, state, Some(sentence)).await;
    }
}
