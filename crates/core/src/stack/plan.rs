//! Plans a stack's deployment: from its desired and present state to steps, their order and their consequences.
//!
//! Each piece is a plan for one network, volume, image or container, as those that are asked for one by one; what comes
//! before what is written into it. The same function with nothing asked for tells what has drifted.

use std::collections::{BTreeMap, BTreeSet};

use crate::assets::bare_id;
use crate::compose::model::{Condition, FailureAction};
use crate::definition::check::Finding;
use crate::definition::difference::Difference;
use crate::definition::{Definition, PullPolicy};
use crate::plan::lifecycle::blank;
use crate::plan::make::{NewContainer, Replacement, plan_deploy, plan_edit, plan_exchange};
use crate::plan::request::{DeployRequest, EditRequest};
use crate::plan::{After, DEFAULT_WATCH_SECONDS, ObjectKind, Step, TargetPlan, Until};

use super::build::DesiredBuild;
use super::desired::{Desired, DesiredContainer, PlacedFile};
use super::labels;
use super::present::{Present, PresentContainer, comparable};

/// How a stack is to be applied.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct ApplySettings {
    /// Seconds that a container without a health check must stay up; 10 when absent.
    pub watch_seconds: Option<u32>,
    /// Containers of services that the text does not have any more are removed.
    pub remove_rest: bool,
}

/// One thing that has to be done, or is as it should be.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct PlannedPart {
    /// What is done, and after what.
    pub plan: TargetPlan,
    /// What the container is to be.
    pub next: Option<Definition>,
    /// What is put into it before it starts.
    pub files: Vec<PlacedFile>,
    /// Which of the containers that are there it takes the place of.
    pub current: Option<usize>,
    /// How its image is built.
    pub build: Option<DesiredBuild>,
    /// What is done when it fails, where the text says.
    pub on_failure: Option<FailureAction>,
}

/// Plans how a stack becomes what it is to be. Where one piece is refused, all are: a stack is changed as a whole or not at
/// all.
pub fn plan_stack(desired: &Desired, present: &Present<'_>, settings: ApplySettings) -> Vec<PlannedPart> {
    let mut planner = Planner {
        desired,
        present,
        settings,
        pieces: Vec::new(),
        made: BTreeMap::new(),
        images: BTreeMap::new(),
        services: BTreeMap::new(),
        recreated: BTreeSet::new(),
    };
    for network in &desired.networks {
        planner.network(network);
    }
    for volume in &desired.volumes {
        planner.volume(volume);
    }
    for container in &desired.containers {
        planner.container(container);
    }
    planner.rest();
    let mut pieces = planner.pieces;
    whole_or_not(pieces.iter_mut().map(|p| &mut p.plan));
    pieces
}

/// Refuses all plans of a stack when one of them is refused.
pub fn whole_or_not<'a>(plans: impl Iterator<Item = &'a mut TargetPlan>) {
    let mut plans: Vec<&mut TargetPlan> = plans.collect();
    let Some(first) = plans.iter().find(|p| p.refused.is_some()).map(|p| p.name.clone()) else { return };
    for plan in plans.iter_mut().filter(|p| !p.steps.is_empty()) {
        plan.refuse(format!("not run: {first} is refused"));
        plan.dependent = true;
    }
}

/// What a container's differences are to a reader: labels that stand for something else are not among them.
fn labels_in_words(differences: &mut Vec<Difference>) {
    for (label, setting, to) in
        [(labels::FILES, "configs and secrets", "other contents"), (labels::HOOKS, "hooks", "other commands")]
    {
        let label = format!("labels {label}");
        let told = differences.iter().any(|d| d.setting == label);
        differences.retain(|d| d.setting != label);
        if told {
            differences.push(Difference { setting: setting.to_owned(), from: None, to: Some(to.to_owned()) });
        }
    }
}

pub(super) struct Planner<'a> {
    desired: &'a Desired,
    pub(super) present: &'a Present<'a>,
    settings: ApplySettings,
    pieces: Vec<PlannedPart>,
    /// Networks and volumes that are made, by their names: the piece.
    pub(super) made: BTreeMap<(ObjectKind, String), u32>,
    /// Images that are fetched: the piece.
    pub(super) images: BTreeMap<String, u32>,
    /// The pieces of each service.
    services: BTreeMap<String, Vec<u32>>,
    /// Services of which a container is recreated.
    recreated: BTreeSet<String>,
}

impl Planner<'_> {
    pub(super) fn blank(&self, object: ObjectKind, name: &str) -> TargetPlan {
        TargetPlan {
            host: self.present.host.to_owned(),
            object,
            name: name.to_owned(),
            ..TargetPlan::default()
        }
    }

    pub(super) fn push(&mut self, piece: PlannedPart) -> u32 {
        self.pieces.push(piece);
        u32::try_from(self.pieces.len() - 1).unwrap_or(u32::MAX)
    }

    fn container(&mut self, wanted: &DesiredContainer) {
        let there = self.present.position(wanted);
        let findings = self.present.findings.get(&wanted.definition.name).cloned().unwrap_or_default();
        let mut piece = match there {
            None => self.new_container(wanted, findings),
            Some(at) => self.there(wanted, at, findings),
        };
        let is_anew = piece.plan.steps.iter().any(|s| matches!(s, Step::Create | Step::CreateBeside));
        if is_anew {
            if let Some(image) = self.image(wanted) {
                piece.plan.after.push(After { target: image, until: Until::Over });
            }
            let d = &wanted.definition;
            let volumes = d.mounts.iter().filter_map(|m| m.source.clone()).map(|v| (ObjectKind::Volume, v));
            let networks = d.network.networks.iter().map(|n| (ObjectKind::Network, n.name.clone()));
            let used: Vec<u32> =
                volumes.chain(networks).filter_map(|needed| self.made.get(&needed).copied()).collect();
            piece.plan.after.extend(used.into_iter().map(|target| After { target, until: Until::Over }));
            put_files(&mut piece, wanted);
        }
        if wanted.is_job {
            wait_for_end(&mut piece.plan);
        } else if wanted.starts_first {
            start_first(&mut piece.plan);
        }
        if !piece.plan.steps.is_empty() {
            self.order(wanted, &mut piece);
            piece.plan = piece.plan.finished();
        }
        piece.on_failure = wanted.on_failure;
        if is_anew && there.is_some() {
            self.recreated.insert(wanted.service.clone());
        }
        let at = self.push(piece);
        self.services.entry(wanted.service.clone()).or_default().push(at);
    }

    /// After what a container begins.
    fn order(&self, wanted: &DesiredContainer, piece: &mut PlannedPart) {
        for (service, need) in &wanted.needs {
            let until = match need.condition {
                Condition::ServiceStarted => Until::Started,
                Condition::ServiceHealthy | Condition::ServiceCompletedSuccessfully => Until::Over,
            };
            let pieces = self.services.get(service).into_iter().flatten();
            let pieces =
                pieces.filter(|at| self.pieces.get(**at as usize).is_some_and(|p| !p.plan.steps.is_empty()));
            piece.plan.after.extend(pieces.map(|target| After { target: *target, until }));
        }
        // Those of one service that take another's place do so a few at a time.
        let at_once = wanted.at_once as usize;
        if piece.current.is_some() && at_once > 0 {
            let before: Vec<u32> = self.services.get(&wanted.service).cloned().unwrap_or_default();
            let before: Vec<u32> = before
                .into_iter()
                .filter(|at| self.pieces.get(*at as usize).is_some_and(|p| !p.plan.steps.is_empty()))
                .collect();
            if let Some(target) = before.len().checked_sub(at_once).and_then(|n| before.get(n)) {
                piece.plan.after.push(After { target: *target, until: Until::Over });
                if wanted.pause_seconds > 0 {
                    piece.plan.steps.insert(0, Step::Delay { seconds: wanted.pause_seconds });
                }
            }
        }
        piece.plan.after.sort();
        piece.plan.after.dedup();
    }

    /// Names of volumes that are there or are made before any container.
    fn volumes(&self) -> Vec<&str> {
        let there = self.present.assets.volumes.iter().map(|v| v.name.as_str());
        there.chain(self.desired.volumes.iter().map(|v| v.name.as_str())).collect()
    }

    /// What is found wrong with a container, without what the stack itself brings.
    fn of_stack(&self, wanted: &DesiredContainer, findings: Vec<Finding>) -> Vec<Finding> {
        let is_made = |finding: &Finding| {
            let place = finding.field.strip_prefix("/network/networks/");
            let at = place.and_then(|rest| rest.split('/').next()).and_then(|n| n.parse::<usize>().ok());
            let joined = at.and_then(|n| wanted.definition.network.networks.get(n));
            joined.is_some_and(|j| self.made.contains_key(&(ObjectKind::Network, j.name.clone())))
        };
        // Whose network it shares may be made a moment before it.
        let is_bound = |f: &Finding| f.field == "/network/mode" && !wanted.bound_to.is_empty();
        // An image that is built is not there before.
        let is_built = wanted.build.as_ref().is_some_and(|build| !self.present.has_image(&build.image));
        let is_image = |f: &Finding| f.field == "/image" && is_built;
        findings.into_iter().filter(|f| !is_made(f) && !is_bound(f) && !is_image(f)).collect()
    }

    fn watch(&self, wanted: &DesiredContainer) -> Option<u32> {
        wanted.watch_seconds.or(self.settings.watch_seconds)
    }

    fn new_container(&self, wanted: &DesiredContainer, findings: Vec<Finding>) -> PlannedPart {
        let request = DeployRequest { watch_seconds: self.watch(wanted), ..DeployRequest::default() };
        let next = &once(&wanted.definition);
        let findings = self.of_stack(wanted, findings);
        let new = NewContainer { host: self.present.host, next, findings, volumes: self.volumes() };
        PlannedPart { plan: plan_deploy(&request, new), next: Some(next.clone()), ..PlannedPart::default() }
    }

    fn there(&self, wanted: &DesiredContainer, at: usize, findings: Vec<Finding>) -> PlannedPart {
        let Some(present) = self.present.containers.get(at) else { return PlannedPart::default() };
        let c = &present.container;
        let (current, next) = comparable(wanted, present, self.present);
        let next = once(&next);
        let with = Replacement {
            container: c,
            current: &current,
            next: &next,
            findings: self.of_stack(wanted, findings),
            volumes: self.volumes().into_iter().chain(c.mounts.iter().map(|m| m.source.as_str())).collect(),
            changes_in_place: self.present.changes_in_place && c.state.is_alive(),
        };
        let watch_seconds = self.watch(wanted);
        let request = EditRequest { watch_seconds, ..EditRequest::default() };
        let mut plan = plan_edit(&request, with.clone());
        let is_same = plan.differences.is_empty() && plan.refused.is_none();
        if is_same && let Some(why) = self.recreation(wanted, present) {
            plan = plan_exchange(watch_seconds, with, why.consequence);
            plan.differences.extend(why.difference);
        } else if is_same {
            plan = self.unchanged(wanted, present, plan);
        }
        labels_in_words(&mut plan.differences);
        start_what_ended(&mut plan, c.state.is_alive(), watch_seconds);
        // The same steps tell it better for one of many.
        PlannedPart { plan, next: Some(next), current: Some(at), ..PlannedPart::default() }
    }

    /// Why a container is recreated whose settings are as they should be.
    fn recreation(&self, wanted: &DesiredContainer, present: &PresentContainer) -> Option<Recreation> {
        let c = &present.container;
        let image = &wanted.definition.image;
        let here = self.present.image_id(image).filter(|_| wanted.definition.pull != PullPolicy::Never);
        let is_newer = here.is_some_and(|id| id != bare_id(&c.image_id));
        if is_newer || (wanted.definition.pull == PullPolicy::Always && c.newer_image) {
            return Some(Recreation {
                consequence: format!(
                    "Recreates it from the newer image of {image}. If the new one does not come up, the previous container is restored."
                ),
                difference: Some(Difference {
                    setting: "image".to_owned(),
                    from: Some(format!("{image} as it was")),
                    to: Some(format!("{image} as it is now")),
                }),
            });
        }
        let bound = wanted.bound_to.iter().find(|s| self.recreated.contains(*s))?;
        Some(Recreation {
            consequence: format!("Recreated with {bound}, whose namespace or volumes it shares."),
            difference: None,
        })
    }

    /// A container whose settings are as they should be: it only has to run.
    fn unchanged(
        &self,
        wanted: &DesiredContainer,
        present: &PresentContainer,
        plan: TargetPlan,
    ) -> TargetPlan {
        let c = &present.container;
        let mut plan = TargetPlan { unchanged: None, ..plan };
        let watch = Step::Watch { seconds: self.watch(wanted).unwrap_or(DEFAULT_WATCH_SECONDS) };
        let follows = wanted.needs.iter().find(|(s, need)| need.restart && self.recreated.contains(*s));
        if wanted.is_job && present.is_done() {
            plan.consequence = "Has exited with code 0.".to_owned();
            plan.nothing_to_do("No change: has exited with code 0.");
        } else if !c.state.is_alive() {
            plan.consequence = "Settings unchanged: starts it.".to_owned();
            plan.steps = vec![Step::Start, watch];
        } else if let Some((service, _)) = follows {
            plan.consequence = format!("Restarts it, because {service}, which it depends on, is recreated.");
            plan.downtime = Some("while it restarts".to_owned());
            plan.steps = vec![Step::Restart { grace_seconds: None }, watch];
        } else {
            plan.consequence = "No change: its settings are the same.".to_owned();
            plan.nothing_to_do("No change: its settings are the same.");
        }
        plan
    }

    /// Containers of the stack that the text does not have.
    fn rest(&mut self) {
        let wanted: BTreeSet<usize> =
            self.desired.containers.iter().filter_map(|c| self.present.position(c)).collect();
        let all = self.desired.containers.iter().chain(&self.desired.jobs);
        let services: BTreeSet<&str> = all.map(|c| c.service.as_str()).collect();
        for (at, present) in self.present.containers.iter().enumerate() {
            if wanted.contains(&at) || present.is_one_off() {
                continue;
            }
            let c = &present.container;
            let mut plan = blank(c);
            // One too many of a service goes with the number that is wanted of it.
            if !self.settings.remove_rest && !services.contains(present.service()) {
                plan.consequence =
                    "Its service is no longer in the file; it stays unless orphans are removed too."
                        .to_owned();
                plan.nothing_to_do("No change: its service is no longer in the file.");
            } else if c.is_self {
                plan.refuse("Gubernum runs in this container, so it is not removed");
            } else {
                if c.state.is_alive() {
                    plan.steps.push(Step::Stop { grace_seconds: None });
                    plan.downtime = Some("for good".to_owned());
                }
                plan.steps.push(Step::Remove { force: true, volumes: false });
                plan.removes = vec![format!("container {}", c.name)];
                plan.data_at_risk = vec!["files written outside its mounts are lost".to_owned()];
                plan.consequence = "Stopped, and removed at the end; its volumes stay.".to_owned();
                plan = plan.finished();
            }
            self.push(PlannedPart { plan, current: Some(at), ..PlannedPart::default() });
        }
    }
}

struct Recreation {
    consequence: String,
    difference: Option<Difference>,
}

/// A definition whose image is fetched by a piece of its own.
fn once(definition: &Definition) -> Definition {
    let pull = match definition.pull {
        PullPolicy::Always => PullPolicy::Missing,
        other => other,
    };
    Definition { pull, ..definition.clone() }
}

/// Puts the files in after the container is made.
fn put_files(piece: &mut PlannedPart, wanted: &DesiredContainer) {
    if wanted.files.is_empty() {
        return;
    }
    let made = piece.plan.steps.iter().position(|s| matches!(s, Step::Create | Step::CreateBeside));
    if let Some(made) = made {
        let paths = wanted.files.iter().map(|f| f.path.clone()).collect();
        piece.plan.steps.insert(made + 1, Step::PutFiles { paths });
    }
    piece.files.clone_from(&wanted.files);
}

/// The new one runs and is well before the old one is stopped.
fn start_first(plan: &mut TargetPlan) {
    let is_exchange = |s: &Step| matches!(s, Step::Stop { .. } | Step::Exchange);
    if !plan.steps.contains(&Step::CreateBeside) || !plan.steps.iter().any(|s| matches!(s, Step::Stop { .. }))
    {
        return;
    }
    let (exchange, mut steps): (Vec<Step>, Vec<Step>) = plan.steps.drain(..).partition(is_exchange);
    let retires = steps.iter().position(|s| *s == Step::Retire).unwrap_or(steps.len());
    steps.splice(retires..retires, exchange);
    plan.steps = steps;
    plan.downtime = None;
    plan.consequence = "Starts the new container before the old one is stopped. If it does not come up, it is removed again.".to_owned();
}

/// What runs to its end is waited for instead of watched.
fn wait_for_end(plan: &mut TargetPlan) {
    for step in &mut plan.steps {
        if matches!(step, Step::Watch { .. }) {
            *step = Step::WaitForEnd;
        }
    }
}

/// One that does not run and is replaced starts too: the text wants it to run.
fn start_what_ended(plan: &mut TargetPlan, is_alive: bool, watch_seconds: Option<u32>) {
    if is_alive {
        return;
    }
    if let Some(at) = plan.steps.iter().position(|s| matches!(s, Step::Exchange)) {
        let watch = Step::Watch { seconds: watch_seconds.unwrap_or(DEFAULT_WATCH_SECONDS) };
        plan.steps.splice(at + 1..at + 1, [Step::StartNew, watch]);
        plan.consequence = "Not running: recreates and starts it.".to_owned();
    }
}
