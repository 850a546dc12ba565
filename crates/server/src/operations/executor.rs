//! Executes an operation: which targets run at once, what is written of each to the journal and when, and how it is
//! closed. The steps of one target are in `target_run`.

use std::collections::{BTreeMap, BTreeSet, HashSet};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

use futures_util::StreamExt;
use gubernum_core::assets::Image;
use gubernum_core::container::{ContainerRole, RoleKind};
use gubernum_core::fleet::Observation;
use gubernum_core::journal::{Operation, Target, TargetState, overall};
use gubernum_core::plan::steps::{aside_name, beside_name};
use gubernum_core::plan::{Kind, ObjectKind, Request, Rolling, Step};
use gubernum_core::tidy::shares_of_images;
use gubernum_store::audit::NewEntry;
use tokio_util::task::TaskTracker;

use crate::clock::Clock;
use crate::fleet::Hub;
use crate::fleet::Links;
use crate::images::Registries;
use crate::logs::Followers;
use crate::operations::active::{Active, ActiveOperations};
use crate::operations::catch_up::wait_until_seen;
use crate::operations::definition_checker::DefinitionChecker;
use crate::operations::job_steps::note_not_run;
use crate::operations::planner::StepInputs;
use crate::operations::target_run::TargetRun;
use crate::operations::{Author, Claims};
use crate::storage::Db;

/// How often an operation under way is told to those who watch.
const TELL_EVERY: Duration = Duration::from_millis(100);
/// How many targets of one host are at work together.
const TARGETS_AT_ONCE: usize = 4;

/// Carries operations out.
pub(super) struct Executor {
    pub(super) hub: Arc<Hub>,
    pub(super) links: Arc<Links>,
    pub(super) db: Db,
    pub(super) clock: Clock,
    pub(super) tasks: TaskTracker,
    pub(super) registries: Arc<Registries>,
    /// Who follows which log: last lines are read before a container is removed.
    pub(super) followers: Arc<Followers>,
    /// What operations work on, for the timeline.
    pub(super) claims: Arc<Claims>,
    /// What it remembers of a host's paths is not true any more when something was made there.
    pub(super) checker: Arc<DefinitionChecker>,
    pub(super) active: Arc<ActiveOperations>,
}

impl Executor {
    /// Takes an operation into the active ones and marks its containers as busy.
    pub(super) fn activate(
        &self,
        operation: Operation,
        author: Author,
        inputs: Vec<StepInputs>,
    ) -> Arc<Active> {
        self.claims.claim(&operation);
        for target in operation.targets.iter().filter(|t| !t.state.is_final()) {
            self.hold(operation.id, target);
        }
        self.active.add(operation, author, inputs)
    }

    /// Gives the containers their roles that an operation makes beside and aside while it replaces one.
    fn hold(&self, operation: u64, target: &Target) {
        if !target.steps.contains(&Step::CreateBeside) {
            return;
        }
        let role = |kind| ContainerRole { kind, of: target.name.clone(), operation: Some(operation) };
        let names = vec![
            (beside_name(&target.name, operation), role(RoleKind::Next)),
            (aside_name(&target.name, operation), role(RoleKind::Previous)),
        ];
        self.hub.observe(Observation::RolesAssigned { host: target.host.clone(), names }, self.clock.now());
    }

    /// Begins an operation that is in the journal.
    pub(super) fn begin(self: &Arc<Self>, operation: Operation, author: Author, inputs: Vec<StepInputs>) {
        let active = self.activate(operation, author, inputs);
        let executor = self.clone();
        self.tasks.spawn(async move {
            tokio::select! {
                () = executor.run(&active) => {}
                () = executor.tell(&active) => {}
            }
            executor.finish(&active).await;
        });
    }

    /// Tells those who watch the state of the operation, now and then; never returns.
    async fn tell(&self, active: &Active) {
        loop {
            tokio::time::sleep(TELL_EVERY).await;
            if self.active.is_watched() {
                self.active.tell(active.operation.lock().clone());
            }
        }
    }

    async fn run(&self, active: &Active) {
        let (rolling, kind, as_whole, waiting) = {
            let operation = active.operation.lock();
            let waiting: Vec<(usize, String)> = operation
                .targets
                .iter()
                .enumerate()
                .filter(|(_, t)| t.state == TargetState::Waiting)
                .map(|(n, t)| (n, t.host.clone()))
                .collect();
            let as_whole = match &operation.request {
                Request::Apply(apply) => Some(apply.on_failure),
                Request::RemoveStack(_) | Request::Move(_) | Request::Clone(_) => {
                    Some(gubernum_core::plan::request::OnFailure::Return)
                }
                _ => None,
            };
            (operation.request.rolling(), operation.request.kind(), as_whole, waiting)
        };
        if let Some(on_failure) = as_whole {
            return self.run_as_whole(active, on_failure, waiting).await;
        }
        match rolling {
            Some(rolling) => self.run_rolling(active, rolling, waiting).await,
            None if kind == Kind::Tidy => {
                let before = self.images_of(&waiting);
                self.run_by_host(active, waiting, true).await;
                self.count_freed(active, &before).await;
            }
            None => self.run_by_host(active, waiting, false).await,
        }
    }

    /// One after another, over all hosts: after a failure the rest is not begun, unless it was requested otherwise.
    async fn run_rolling(&self, active: &Active, rolling: Rolling, waiting: Vec<(usize, String)>) {
        let failed = AtomicBool::new(false);
        let at_once = usize::try_from(rolling.at_once).unwrap_or(1).max(1);
        let run = async |(position, host): (usize, String)| {
            if failed.load(Ordering::Acquire) && !rolling.keep_going && !active.cancel.is_cancelled() {
                let why = "not started, because an earlier one failed".to_owned();
                self.set_target(active, position, TargetState::Cancelled, Some(why)).await;
                return;
            }
            self.run_target(active, &host, position).await;
            let state = active.operation.lock().targets[position].state;
            if !state.is_good() && state != TargetState::Cancelled {
                failed.store(true, Ordering::Release);
            }
        };
        futures_util::stream::iter(waiting).for_each_concurrent(at_once, run).await;
    }

    /// All hosts side by side, a few targets at once on each. Where containers go first, what they use waits for them.
    async fn run_by_host(&self, active: &Active, waiting: Vec<(usize, String)>, containers_first: bool) {
        let mut by_host: BTreeMap<String, Vec<usize>> = BTreeMap::new();
        for (position, host) in waiting {
            by_host.entry(host).or_default().push(position);
        }
        let hosts = by_host.into_iter().map(|(host, positions)| async move {
            let is_first = |p: &usize| {
                !containers_first || active.operation.lock().targets[*p].object == ObjectKind::Container
            };
            let (first, then): (Vec<usize>, Vec<usize>) = positions.into_iter().partition(is_first);
            for positions in [first, then] {
                futures_util::stream::iter(positions)
                    .for_each_concurrent(TARGETS_AT_ONCE, |position| self.run_target(active, &host, position))
                    .await;
            }
        });
        futures_util::future::join_all(hosts).await;
    }

    async fn run_target(&self, active: &Active, host: &str, position: usize) {
        let Some((state, sentence)) = self.came_to(active, host, position).await else { return };
        note_not_run(self, active, position, state, sentence.as_deref()).await;
        self.set_target(active, position, state, sentence).await;
    }

    /// Takes the steps of a target. `None` when the journal refuses.
    async fn came_to(
        &self,
        active: &Active,
        host: &str,
        position: usize,
    ) -> Option<(TargetState, Option<String>)> {
        // A job runs beside everything else, perhaps for hours: changes of its host do not wait for it.
        let is_job = active.operation.lock().request.kind() == Kind::Run;
        let link = self.links.get(host).filter(|_| !is_job);
        let _permit = match &link {
            Some(link) => tokio::select! {
                () = active.cancel.cancelled() => None,
                permit = link.changes.acquire() => permit.ok(),
            },
            None => None,
        };
        if active.cancel.is_cancelled() {
            return Some((TargetState::Cancelled, Some("cancelled before it began".to_owned())));
        }
        let engine = match self.links.engine(host) {
            Ok(engine) => engine,
            Err(error) => return Some((TargetState::Failed, Some(error.to_string()))),
        };
        let steps = active.operation.lock().targets[position].steps.clone();
        // In the journal before the engine hears of it.
        if !self.set_target(active, position, TargetState::Running, None).await {
            return None;
        }
        let came_to = TargetRun::new(self, active, position, engine.clone()).run(&steps).await;
        if steps.iter().any(|s| matches!(s, Step::Create | Step::CreateBeside)) {
            let name = active.operation.lock().targets[position].name.clone();
            wait_until_seen(&self.hub, &engine, host, &name).await;
        }
        Some(came_to)
    }

    /// Notes which step is taken next; `false` when the journal refuses.
    pub(super) async fn set_step(&self, active: &Active, position: usize, step: usize) -> bool {
        let (id, target) = {
            let mut operation = active.operation.lock();
            operation.targets[position].at = u32::try_from(step).ok();
            (operation.id, operation.targets[position].clone())
        };
        let written = self.db.run(move |store| store.set_target(id, position, &target)).await;
        if let Err(error) = &written {
            tracing::error!(operation = id, "the journal could not be written: {error}");
        }
        written.is_ok()
    }

    /// Moves a target on: first in the journal, then for everybody to see, so that nothing is told that a
    /// crash could take back. `false` when the journal refuses.
    pub(super) async fn set_target(
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
            tracing::error!(operation = id, "the journal could not be written: {error}");
            if state == TargetState::Running {
                target.state = TargetState::Failed;
                target.ended = Some(now);
                target.sentence =
                    Some("the journal could not be written, so the engine was not called".to_owned());
            }
        }
        if target.state.is_final() {
            target.progress = None;
            self.active.release(&target);
        }
        active.operation.lock().targets[position] = target;
        written.is_ok()
    }

    /// Closes an operation whose targets are all over.
    pub(super) async fn finish(&self, active: &Active) {
        let operation = {
            let mut operation = active.operation.lock().clone();
            operation.state = overall(operation.request.kind(), &operation.targets);
            operation.ended = Some(self.clock.now());
            operation
        };
        let hosts: BTreeSet<&String> = operation.targets.iter().map(|t| &t.host).collect();
        for host in hosts {
            let released = Observation::RolesReleased { host: host.clone(), operation: operation.id };
            self.hub.observe(released, self.clock.now());
        }
        self.claims.release(operation.id);
        self.conclude(&operation, &active.author).await;
        self.active.remove(operation.id);
        self.active.tell(operation);
    }

    /// Writes the outcome of an operation that is over.
    pub(super) async fn conclude(&self, operation: &Operation, author: &Author) {
        self.active.count_end(operation);
        let (kept, author, now) = (operation.clone(), author.clone(), self.clock.now());
        let written = self.db.run(move |store| {
            store.set_operation(&kept)?;
            store.audit(
                NewEntry {
                    member: &author.member,
                    address: &author.address,
                    action: kept.request.kind().word(),
                    object: &kept.references.join(" "),
                    outcome: &outcome_words(&kept),
                    via: &author.via,
                },
                now,
            )
        });
        if let Err(error) = written.await {
            tracing::error!(operation = operation.id, "the outcome could not be saved: {error}");
        }
    }

    /// The images of the hosts of a tidying before it begins.
    fn images_of(&self, waiting: &[(usize, String)]) -> BTreeMap<String, Vec<Image>> {
        let hosts: HashSet<&String> = waiting.iter().map(|(_, host)| host).collect();
        let images = |host: &String| {
            self.hub.look(|f| f.assets_of(host).map(|a| a.images.clone()).unwrap_or_default())
        };
        hosts.into_iter().map(|h| (h.clone(), images(h))).collect()
    }

    /// Writes down what was freed: of images only the layers that no image which stayed has.
    async fn count_freed(&self, active: &Active, held: &BTreeMap<String, Vec<Image>>) {
        let targets = active.operation.lock().targets.clone();
        for (host, images) in held {
            if let Some(link) = self.links.get(host) {
                link.measure.notify_one();
            }
            let gone: Vec<(usize, String)> = targets
                .iter()
                .enumerate()
                .filter(|(_, t)| t.host == *host && t.object == ObjectKind::Image && t.state.is_good())
                .map(|(n, t)| (n, t.id.clone()))
                .collect();
            let ids: Vec<String> = gone.iter().map(|(_, id)| id.clone()).collect();
            for ((n, _), share) in gone.iter().zip(shares_of_images(images, &ids)) {
                active.operation.lock().targets[*n].bytes = Some(share);
            }
        }
        for (n, target) in targets.iter().enumerate().filter(|(_, t)| t.bytes.is_some()) {
            let (id, target) = {
                let mut operation = active.operation.lock();
                if !target.state.is_good() {
                    operation.targets[n].bytes = None;
                }
                (operation.id, operation.targets[n].clone())
            };
            let written = self.db.run(move |store| store.set_target_bytes(id, n, target.bytes)).await;
            if let Err(error) = written {
                tracing::error!(operation = id, "the freed bytes could not be saved: {error}");
            }
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
