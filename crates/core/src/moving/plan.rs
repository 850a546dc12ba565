//! The plan of a move or clone to another host with its data: parts of both hosts in one graph.
//!
//! What is needed there is made first and the data is copied a first time where that is wanted; then the original stops, what
//! changed is copied, and the copy starts. The original is removed once the copy is well: until then all of it can come back.
//! What has to be made there is planned as for any stack ([`crate::stack::plan_stack`]); here it is put into its
//! place, with what goes along before (`resources`).

use std::collections::BTreeMap;

use crate::assets::Assets;
use crate::definition::MountKind;
use crate::definition::check::{Finding, Weight};
use crate::plan::lifecycle::blank;
use crate::plan::request::{MoveKind, MoveRequest, RemoveStackRequest};
use crate::plan::{After, ObjectKind, Pass, Step, TargetPlan, Until};
use crate::stack::remove::{UsedByOthers, plan_remove_stack};
use crate::stack::{PlannedPart, Present, PresentContainer, whole_or_not};

/// What is moved or copied, where it is.
#[derive(Debug, Clone)]
pub struct Original<'a> {
    /// Its containers, and what its host has. Of a copied volume the containers that use it.
    pub present: &'a Present<'a>,
    /// What others use there.
    pub others: &'a UsedByOthers,
    /// The names of running containers that are not part of it, by the volumes that they use.
    pub users: BTreeMap<String, Vec<String>>,
    /// Its engine tells who owns a file of a volume.
    pub tells_owners: bool,
}

/// The host that it goes to.
#[derive(Debug, Clone)]
pub struct Destination<'a> {
    /// Its name.
    pub host: &'a str,
    /// What it has.
    pub assets: &'a Assets,
    /// Its processor architecture; empty when it is not known.
    pub architecture: &'a str,
    /// Bytes that are free for its engine's data, where that is known.
    pub free: Option<u64>,
}

/// Plans a move (`moves`) or a copy. `pieces` are what has to be made there; `copies` the volumes whose data goes along, the name
/// there with the name here.
pub fn plan_move(
    request: &MoveRequest,
    moves: bool,
    original: &Original<'_>,
    there: &Destination<'_>,
    pieces: Vec<PlannedPart>,
    copies: &BTreeMap<String, String>,
) -> Vec<PlannedPart> {
    let planner = Planner { request, moves, original, there, copies, out: Vec::new(), places: Vec::new() };
    let mut pieces = planner.whole(pieces);
    whole_or_not(pieces.iter_mut().map(|p| &mut p.plan));
    pieces
}

pub(super) struct Planner<'a> {
    pub(super) request: &'a MoveRequest,
    pub(super) moves: bool,
    pub(super) original: &'a Original<'a>,
    pub(super) there: &'a Destination<'a>,
    pub(super) copies: &'a BTreeMap<String, String>,
    pub(super) out: Vec<PlannedPart>,
    /// Where each of the given pieces went.
    places: Vec<u32>,
}

fn over(target: u32) -> After {
    After { target, until: Until::Over }
}

impl Planner<'_> {
    fn whole(mut self, pieces: Vec<PlannedPart>) -> Vec<PlannedPart> {
        self.places = vec![0; pieces.len()];
        let (others, containers): (Vec<_>, Vec<_>) =
            pieces.into_iter().enumerate().partition(|(_, p)| p.plan.object != ObjectKind::Container);
        for (at, piece) in others {
            let plan = self.moved_along(piece.plan);
            self.places[at] = self.push(PlannedPart { plan, ..piece });
        }
        let images: BTreeMap<String, u32> = self.images(containers.iter().map(|(_, p)| p));
        self.room();
        let stopped = if self.moves { self.stop() } else { self.pause() };
        let copied = self.copy(&stopped);
        if !self.moves {
            self.resume(&stopped, &copied);
        }
        for (at, piece) in containers {
            let piece = self.container(piece, &images, &stopped, &copied);
            self.places[at] = self.push(piece);
        }
        self.out
    }

    pub(super) fn push(&mut self, piece: PlannedPart) -> u32 {
        self.out.push(piece);
        u32::try_from(self.out.len() - 1).unwrap_or(u32::MAX)
    }

    pub(super) fn here(&self) -> &str {
        self.original.present.host
    }

    /// All that was planned so far and has to be over before the original stops.
    fn before(&self) -> Vec<After> {
        let made = (0..).zip(&self.out).filter(|(_, p)| !p.plan.steps.is_empty());
        made.map(|(at, _)| over(at)).collect()
    }

    /// The original stops; it goes once the copy is well.
    fn stop(&mut self) -> Vec<u32> {
        let before = self.before();
        let offset = u32::try_from(self.out.len()).unwrap_or(u32::MAX);
        let remove = RemoveStackRequest {
            stack: if self.request.what == MoveKind::Stack {
                self.request.origin().1.to_owned()
            } else {
                String::new()
            },
            volumes: self.request.remove_volumes,
            images: false,
        };
        let mut stopped = Vec::new();
        let there = self.there.host;
        let mut plans = match self.request.what {
            MoveKind::Volume => Vec::new(),
            _ => plan_remove_stack(&remove, self.original.present, self.original.others),
        };
        plans.extend(self.volumes_that_go());
        for (at, mut plan) in (offset..).zip(plans) {
            plan.after.iter_mut().for_each(|a| a.target = a.target.saturating_add(offset));
            let is_container = plan.object == ObjectKind::Container;
            if self.request.keep {
                plan.steps.retain(|s| matches!(s, Step::Stop { .. }));
                plan.removes.clear();
                plan.data_at_risk.clear();
                if plan.steps.is_empty() && plan.refused.is_none() {
                    plan.nothing_to_do("Stays as it is.");
                }
            }
            let ends = if self.request.keep { "it stays, stopped" } else { "it is removed" };
            if is_container && !plan.steps.is_empty() {
                plan.consequence = format!(
                    "Stopped once {there} has everything else; when its copy there is healthy, {ends}."
                );
                plan.downtime = plan.downtime.map(|_| format!("until the copy on {there} runs"));
                plan.after.extend(before.iter().copied());
                if plan.steps.iter().any(|s| matches!(s, Step::Stop { .. })) {
                    stopped.push(at);
                }
            }
            let plan = if plan.steps.is_empty() { plan } else { plan.finished() };
            self.push(PlannedPart { plan, ..PlannedPart::default() });
        }
        stopped
    }

    /// The original's volumes that are not marked as its stack's and go with it.
    fn volumes_that_go(&self) -> Vec<TargetPlan> {
        let goes = match self.request.what {
            MoveKind::Volume => !self.request.keep,
            MoveKind::Container => self.request.remove_volumes,
            MoveKind::Stack => false,
        };
        let names = self.copies.values().filter(|_| goes);
        let plan = |name: &String| {
            let mut plan = TargetPlan {
                host: self.here().to_owned(),
                object: ObjectKind::Volume,
                id: name.clone(),
                name: name.clone(),
                ..TargetPlan::default()
            };
            if self.original.others.volumes.contains(name) {
                plan.nothing_to_do("Stays: other containers use it.");
                return plan;
            }
            plan.steps = vec![Step::RemoveVolume { force: false }];
            plan.removes = vec![format!("volume {name}")];
            plan.data_at_risk = vec![format!(
                "everything in the volume {name} on {}, once it is on {}",
                self.here(),
                self.there.host
            )];
            plan.consequence = format!("Removed once {} has all its data.", self.there.host);
            plan.finished()
        };
        names.map(plan).collect()
    }

    /// Running containers whose data is copied hold still meanwhile.
    fn pause(&mut self) -> Vec<u32> {
        if self.request.running {
            return Vec::new();
        }
        let before = self.before();
        let original = self.original;
        let all = original
            .present
            .containers
            .iter()
            .filter(|c| c.container.state == crate::container::State::Running);
        let mut paused = Vec::new();
        for c in all.filter(|c| self.copies.values().any(|volume| uses(c, volume))) {
            let mut plan = blank(&c.container);
            if c.container.is_self {
                plan.refuse("Gubernum runs in this container and it cannot be paused; copy it while it runs");
            } else {
                plan.steps = vec![Step::Pause];
                plan.consequence = "Paused while its data is copied, then resumed.".to_owned();
                plan.downtime = Some("while its data is copied".to_owned());
                plan.after.clone_from(&before);
                plan = plan.finished();
            }
            paused.push(self.push(PlannedPart { plan, ..PlannedPart::default() }));
        }
        paused
    }

    fn resume(&mut self, paused: &[u32], copied: &[u32]) {
        for at in paused {
            let Some(first) = self.out.get(*at as usize).map(|p| p.plan.clone()) else { continue };
            let plan = TargetPlan {
                after: copied.iter().chain([at]).map(|at| over(*at)).collect(),
                steps: vec![Step::Resume],
                consequence: "Resumed.".to_owned(),
                downtime: None,
                steps_in_words: Vec::new(),
                ..first
            };
            if plan.refused.is_none() {
                self.push(PlannedPart { plan: plan.finished(), ..PlannedPart::default() });
            }
        }
    }

    /// What has to be copied while nothing changes it.
    fn copy(&mut self, stopped: &[u32]) -> Vec<u32> {
        let made: Vec<(u32, String, String)> = (0..)
            .zip(&self.out)
            .filter(|(_, p)| p.plan.steps.iter().any(|s| matches!(s, Step::CreateVolume { .. })))
            .filter_map(|(at, p)| Some((at, p.plan.name.clone(), self.copies.get(&p.plan.name)?.clone())))
            .collect();
        let mut copied = Vec::new();
        for (at, name, source) in made {
            let is_local =
                self.original.present.assets.volumes.iter().any(|v| v.name == source && v.driver == "local");
            if !self.has_users(&source) || self.request.running || !is_local {
                continue;
            }
            let pass = if self.request.first_pass { Pass::Rest } else { Pass::Whole };
            let plan = TargetPlan {
                host: self.there.host.to_owned(),
                object: ObjectKind::Volume,
                name,
                after: stopped.iter().chain([&at]).map(|at| over(*at)).collect(),
                steps: vec![self.copy_step(&source, pass)],
                consequence: "Copies the data while nothing changes it.".to_owned(),
                ..TargetPlan::default()
            };
            copied.push(self.push(PlannedPart { plan: plan.finished(), ..PlannedPart::default() }));
        }
        copied
    }

    fn container(
        &self,
        mut piece: PlannedPart,
        images: &BTreeMap<String, u32>,
        stopped: &[u32],
        copied: &[u32],
    ) -> PlannedPart {
        let plan = &mut piece.plan;
        for after in &mut plan.after {
            after.target = self.places.get(after.target as usize).copied().unwrap_or(after.target);
        }
        if plan.unchanged.is_some() || piece.current.is_some() {
            plan.unchanged = None;
            plan.refuse(format!(
                "{} already has one of this name; remove it there, or choose another name",
                self.there.host
            ));
            return piece;
        }
        let Some(next) = &piece.next else { return piece };
        plan.after.extend(images.get(&next.image).map(|at| over(*at)));
        plan.after.extend(copied.iter().map(|at| over(*at)));
        if self.moves {
            plan.after.extend(stopped.iter().map(|at| over(*at)));
        }
        plan.after.sort();
        plan.after.dedup();
        let here = self.here();
        for mount in next.mounts.iter().filter(|m| m.kind == MountKind::Bind) {
            let Some(path) = &mount.source else { continue };
            let text = format!("files in {path} on {here} are not copied: paths on a host stay there");
            plan.findings.push(warning("/mounts", text));
        }
        let one = &self.original.present.containers;
        let rests =
            self.request.what == MoveKind::Container && one.iter().all(|c| !c.container.state.is_alive());
        if rests {
            plan.steps.retain(|s| !s.starts() && !matches!(s, Step::Watch { .. }));
            plan.consequence = "Created and not started, as the original is not running.".to_owned();
        }
        if plan.refused.is_none() {
            plan.steps_in_words.clear();
            piece.plan = piece.plan.finished();
        }
        piece
    }
}

pub(super) fn uses(c: &PresentContainer, volume: &str) -> bool {
    c.container.mounts.iter().any(|m| m.kind == "volume" && m.source == volume)
}

pub(super) fn warning(field: &str, sentence: String) -> Finding {
    Finding { field: field.to_owned(), weight: Weight::Warning, sentence, proposal: None }
}

#[cfg(test)]
#[path = "plan_tests.rs"]
mod tests;
