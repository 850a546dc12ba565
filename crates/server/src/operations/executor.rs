//! The course of an operation: which targets are at work together, what is written of each to the journal and when, and
//! how it is closed. The steps of one target are in `carry`.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

use futures_util::StreamExt;
use gubernum_core::container::{ContainerRole, RoleKind};
use gubernum_core::fleet::Observation;
use gubernum_core::journal::{Operation, Target, TargetState, overall};
use gubernum_core::plan::steps::{aside_name, beside_name};
use gubernum_core::plan::{Kind, ObjectKind, Step};
use gubernum_store::audit::NewEntry;
use parking_lot::Mutex;
use tokio_util::sync::CancellationToken;

use crate::fleet::Link;
use crate::operations::planner::Work;
use crate::operations::target_run::TargetRun;
use crate::operations::{Active, Author, Runner, TELL_EVERY, busy_key};

impl Runner {
    /// Takes an operation into the active ones and marks its containers as busy.
    pub(crate) fn activate(&self, operation: Operation, author: Author, work: Vec<Work>) -> Arc<Active> {
        let id = operation.id;
        {
            let mut busy = self.busy.lock();
            for t in operation.targets.iter().filter(|t| !t.state.is_final()) {
                busy.held.insert(busy_key(t.object, &t.host, &t.id, &t.name), id);
            }
        }
        self.claims.claim(&operation);
        for target in operation.targets.iter().filter(|t| !t.state.is_final()) {
            self.hold(id, target);
        }
        let active = Arc::new(Active {
            operation: Mutex::new(operation),
            cancel: CancellationToken::new(),
            author,
            work: Mutex::new(work),
        });
        self.active.lock().insert(id, active.clone());
        active
    }

    /// Gives the containers their roles that an operation makes beside and aside while it replaces one.
    fn hold(&self, operation: u64, target: &Target) {
        if !target.steps.contains(&Step::MakeBeside) {
            return;
        }
        let role = |kind| ContainerRole { kind, of: target.name.clone(), operation: Some(operation) };
        let names = vec![
            (beside_name(&target.name, operation), role(RoleKind::Next)),
            (aside_name(&target.name, operation), role(RoleKind::Previous)),
        ];
        self.hub.observe(Observation::Held { host: target.host.clone(), names }, self.clock.now());
    }

    pub(super) fn begin(self: &Arc<Self>, operation: Operation, author: Author, work: Vec<Work>) {
        let active = self.activate(operation, author, work);
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
        let (rolling, waiting) = {
            let operation = active.operation.lock();
            let waiting: Vec<(usize, String)> = operation
                .targets
                .iter()
                .enumerate()
                .filter(|(_, t)| t.state == TargetState::Waiting)
                .map(|(n, t)| (n, t.host.clone()))
                .collect();
            (operation.request.rolling, waiting)
        };
        if let Some(rolling) = rolling {
            let failed = AtomicBool::new(false);
            let at_once = usize::try_from(rolling.at_once).unwrap_or(1).max(1);
            futures_util::stream::iter(waiting)
                .for_each_concurrent(at_once, |(position, host)| {
                    let failed = &failed;
                    async move {
                        if failed.load(Ordering::Acquire) && !rolling.go_on && !active.cancel.is_cancelled() {
                            let why = "not begun, because one before it failed".to_owned();
                            self.set(active, position, TargetState::Cancelled, Some(why)).await;
                            return;
                        }
                        self.one(active, &host, position).await;
                        let state = active.operation.lock().targets[position].state;
                        if !state.is_good() && state != TargetState::Cancelled {
                            failed.store(true, Ordering::Release);
                        }
                    }
                })
                .await;
            return;
        }
        let tidying = active.operation.lock().request.kind == Kind::Tidy;
        let held = tidying.then(|| self.held_before(&waiting));
        let mut by_host: BTreeMap<String, Vec<usize>> = BTreeMap::new();
        for (position, host) in waiting {
            by_host.entry(host).or_default().push(position);
        }
        let hosts = by_host.into_iter().map(|(host, positions)| async move {
            // In tidying, containers go before what they use.
            let is_first =
                |p: &usize| !tidying || active.operation.lock().targets[*p].object == ObjectKind::Container;
            let (first, then): (Vec<usize>, Vec<usize>) = positions.into_iter().partition(is_first);
            for positions in [first, then] {
                futures_util::stream::iter(positions)
                    .for_each_concurrent(4, |position| self.one(active, &host, position))
                    .await;
            }
        });
        futures_util::future::join_all(hosts).await;
        if let Some(held) = held {
            self.count_won(active, &held).await;
        }
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
            let why = "it was called off before it began".to_owned();
            self.set(active, position, TargetState::Cancelled, Some(why)).await;
            return;
        }
        let Some(engine) = link.as_ref().and_then(Link::live) else {
            let why = self.out_of_reach(host);
            self.set(active, position, TargetState::Failed, Some(why)).await;
            return;
        };
        let steps = active.operation.lock().targets[position].steps.clone();
        // In the journal before the engine hears of it.
        if !self.set(active, position, TargetState::Running, None).await {
            return;
        }
        let (state, sentence) = TargetRun::new(self, active, position, engine.clone()).carry(&steps).await;
        if steps.iter().any(|s| matches!(s, Step::Make | Step::MakeBeside)) {
            let name = active.operation.lock().targets[position].name.clone();
            self.seen(&engine, host, &name).await;
        }
        self.set(active, position, state, sentence).await;
    }

    /// Notes which step is taken next; `false` when the journal refuses.
    pub(super) async fn at(&self, active: &Active, position: usize, step: usize) -> bool {
        let (id, target) = {
            let mut operation = active.operation.lock();
            operation.targets[position].at = u32::try_from(step).ok();
            (operation.id, operation.targets[position].clone())
        };
        let written = self.db.run(move |store| store.set_target(id, position, &target)).await;
        if let Err(error) = &written {
            tracing::error!(operation = id, "the journal refused: {error}");
        }
        written.is_ok()
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
            target.at = (target.steps.len() > 1).then_some(0);
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
            target.progress = None;
            self.busy.lock().held.remove(&busy_key(target.object, &target.host, &target.id, &target.name));
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
        let hosts: BTreeSet<&String> = operation.targets.iter().map(|t| &t.host).collect();
        for host in hosts {
            let released = Observation::Released { host: host.clone(), operation: operation.id };
            self.hub.observe(released, self.clock.now());
        }
        self.claims.release(operation.id);
        self.conclude(&operation, &active.author).await;
        self.active.lock().remove(&operation.id);
        let _ = self.sender.send(Arc::new(operation));
    }

    pub(super) async fn conclude(&self, operation: &Operation, author: &Author) {
        *self.ended.lock().entry((operation.request.kind, operation.state)).or_default() += 1;
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
