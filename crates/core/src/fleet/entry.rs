//! One host of the fleet: how each observation changes it, and which changes that makes.
//!
//! The fleet as a whole, and which observation goes where, is in the parent.

use std::collections::{HashMap, HashSet, VecDeque};
use std::sync::Arc;

use jiff::{SignedDuration, Timestamp};

use super::{HostEntry, LOOP_WINDOW};
use crate::assets::{AssetKind, Assets, Disk, bare_id};
use crate::container::{Container, ContainerRole, ONE_OFF_LABEL, Reason, RoleKind, Severity, State};
use crate::delta::Change;
use crate::host::{AssetCounts, EngineFacts, LinkProblem, LinkState, MachineFacts, PastProblem};
use crate::image_name::ImageName;
use crate::plan::PINNED_LABEL;
use crate::reason;

/// The most starts that are remembered for one container.
const MAX_STARTS: usize = 32;
/// The most troubles of a link that are remembered.
const MAX_PROBLEMS: usize = 5;
/// A stop that is told within this span after an end is taken to have led to it.
const TOLD_LATE: SignedDuration = SignedDuration::from_secs(30);
/// An end that comes within this span after somebody asked for it is taken to be that end.
const ASKED_SPAN: SignedDuration = SignedDuration::from_mins(10);

/// Memory that ran out within this span of an end is taken to be the cause of it, by the engine's clock.
const MEMORY_SPAN: SignedDuration = SignedDuration::from_secs(10);
/// The most containers of a host for which it is remembered that memory ran out.
const MAX_OUT_OF_MEMORY: usize = 2000;

/// The most things whose last user is remembered before those that are used again are let go.
const MAX_LAST_USERS: usize = 20_000;

impl HostEntry {
    /// Re-evaluates the host and returns it as a change.
    pub(super) fn put(&mut self) -> Change {
        self.host.attention = reason::judge_host(&self.host);
        Change::HostPut { host: Box::new(self.host.clone()) }
    }

    pub(super) fn machine(&mut self, machine: MachineFacts, disk: Disk) -> Vec<Change> {
        let disk_differs = Disk { measured: None, ..disk } != Disk { measured: None, ..self.host.disk };
        if machine == self.host.machine && !disk_differs {
            return Vec::new();
        }
        self.host.machine = machine;
        self.host.disk = disk;
        vec![self.put()]
    }

    pub(super) fn holds(&mut self, assets: Assets, now: Timestamp) -> Vec<Change> {
        let differs = self.assets != assets;
        self.assets = assets;
        let idle = self.note_unused(now);
        if !(differs || idle) {
            return Vec::new();
        }
        let count = |n: usize| u32::try_from(n).unwrap_or(u32::MAX);
        self.host.assets = AssetCounts {
            images: count(self.assets.images.len()),
            volumes: count(self.assets.volumes.len()),
            networks: count(self.assets.networks.len()),
        };
        self.host.assets_revision += 1;
        let architectures: HashMap<&str, &str> = self
            .assets
            .images
            .iter()
            .filter_map(|i| Some((i.id.as_str(), i.architecture.as_deref()?)))
            .collect();
        let mut changes = Vec::new();
        for c in self.containers.values_mut() {
            let of_image = architectures.get(bare_id(&c.image_id)).map(|a| (*a).to_owned());
            let newer = is_outdated(c, &self.assets, &self.newest);
            if c.architecture != of_image || c.newer_image != newer {
                c.architecture = of_image;
                c.newer_image = newer;
                c.attention = reason::judge(c, &self.host);
                changes.push(Change::ContainerPut { container: Box::new(c.clone()) });
            }
        }
        changes.push(self.put());
        changes
    }

    /// Notes what has no user since now, and lets go of what has one or is gone; whether that changed.
    pub(super) fn note_unused(&mut self, now: Timestamp) -> bool {
        let mut idle: HashSet<(AssetKind, String)> = HashSet::new();
        let users = || self.containers.values().chain(self.aside.values());
        let images: HashSet<&str> = users().map(|c| bare_id(&c.image_id)).collect();
        let mounts = users().flat_map(|c| &c.mounts);
        let volumes: HashSet<&str> =
            mounts.filter(|m| m.kind == "volume").map(|m| m.source.as_str()).collect();
        let networks: HashSet<&str> = users().flat_map(|c| &c.networks).map(String::as_str).collect();
        let assets = &self.assets;
        let unused_images = assets.images.iter().filter(|i| !images.contains(i.id.as_str()));
        idle.extend(unused_images.map(|i| (AssetKind::Image, i.id.clone())));
        let unused_volumes = assets.volumes.iter().filter(|v| !volumes.contains(v.name.as_str()));
        idle.extend(unused_volumes.map(|v| (AssetKind::Volume, v.name.clone())));
        let unused_networks =
            assets.networks.iter().filter(|n| !n.is_built_in() && !networks.contains(n.name.as_str()));
        idle.extend(unused_networks.map(|n| (AssetKind::Network, n.id.clone())));
        let before = self.unused.len();
        self.unused.retain(|key, _| idle.contains(key));
        let mut changed = self.unused.len() != before;
        for key in idle {
            self.unused.entry(key).or_insert_with(|| {
                changed = true;
                now
            });
        }
        changed
    }

    /// Some engines tell of the stop only after the end that it led to: that end is judged again.
    pub(super) fn asked_to_end(&mut self, id: String, now: Timestamp) -> Option<Change> {
        let changed = self.containers.get_mut(&id).filter(|c| {
            let lately = c.finished.is_some_and(|at| now.duration_since(at) <= TOLD_LATE);
            c.state == State::Exited && c.asked_to_end == Some(false) && lately
        });
        let change = changed.map(|c| {
            c.asked_to_end = Some(true);
            c.attention = reason::judge(c, &self.host);
            Change::ContainerPut { container: Box::new(c.clone()) }
        });
        self.asked_to_end.insert(id, now);
        change
    }

    /// Memory ran out for a container; engines tell of it before or after the end that it led to.
    pub(super) fn out_of_memory(&mut self, id: String, time: Timestamp, now: Timestamp) -> Option<Change> {
        let known = self.containers.get(&id).cloned();
        if self.out_of_memory.len() >= MAX_OUT_OF_MEMORY {
            // What runs or is not known has no end that it could explain.
            let containers = &self.containers;
            let ended = |id: &str| containers.get(id).is_some_and(|c| c.state != State::Running);
            self.out_of_memory.retain(|id, _| ended(id));
        }
        if self.out_of_memory.len() < MAX_OUT_OF_MEMORY {
            self.out_of_memory.insert(id, time);
        }
        // Seen again with that knowledge.
        self.see(known?, now, false)
    }

    pub(super) fn newest(&mut self, digests: Arc<HashMap<String, String>>) -> Vec<Change> {
        self.newest = digests;
        let mut changes = Vec::new();
        for c in self.containers.values_mut() {
            let newer = is_outdated(c, &self.assets, &self.newest);
            if c.newer_image != newer {
                c.newer_image = newer;
                c.attention = reason::judge(c, &self.host);
                changes.push(Change::ContainerPut { container: Box::new(c.clone()) });
            }
        }
        changes
    }

    pub(super) fn start_failed(&mut self, id: &str, error: String, now: Timestamp) -> Option<Change> {
        let known = self.containers.get(id)?.clone();
        self.start_errors.insert(id.to_owned(), (error, known.started));
        // Seen again with that knowledge.
        self.see(Container { error: None, ..known }, now, false)
    }

    pub(super) fn last_lines(&mut self, id: &str, lines: Vec<String>) -> Option<Change> {
        let c = self.containers.get_mut(id)?;
        if c.last_lines == lines {
            return None;
        }
        c.last_lines = lines;
        c.attention = reason::judge(c, &self.host);
        Some(Change::ContainerPut { container: Box::new(c.clone()) })
    }

    pub(super) fn listing(
        &mut self,
        engine: EngineFacts,
        containers: Vec<Container>,
        now: Timestamp,
    ) -> Vec<Change> {
        let mut changes = Vec::new();
        let engine_differs = self.host.engine.as_ref() != Some(&engine);
        self.host.engine = Some(engine);
        let woke = self.alive(now);
        if woke.is_empty() && engine_differs {
            changes.push(self.put());
        }
        changes.extend(woke);
        let present: HashSet<&str> = containers.iter().map(|c| c.id.as_str()).collect();
        let known = self.containers.keys().chain(self.aside.keys());
        let gone: Vec<String> = known.filter(|id| !present.contains(id.as_str())).cloned().collect();
        changes.extend(gone.iter().filter_map(|id| self.gone(id)));
        for container in containers {
            changes.extend(self.see(container, now, false));
        }
        changes
    }

    /// Notes that the engine answered; a change only when the link was not live before, because
    /// `last_seen` of a live host is "now" to everybody.
    pub(super) fn alive(&mut self, now: Timestamp) -> Vec<Change> {
        self.host.last_seen = Some(now);
        if self.host.state == LinkState::Live {
            return Vec::new();
        }
        self.host.state = LinkState::Live;
        self.host.problem = None;
        vec![self.put()]
    }

    pub(super) fn lost(&mut self, problem: LinkProblem, now: Timestamp) -> Vec<Change> {
        if self.host.state == LinkState::Stale && self.host.problem.as_ref() == Some(&problem) {
            return Vec::new();
        }
        // The same trouble again is the same trouble; another one is worth remembering.
        self.host.past_problems.insert(0, PastProblem { time: now, problem: problem.clone() });
        self.host.past_problems.truncate(MAX_PROBLEMS);
        self.host.state = LinkState::Stale;
        self.host.problem = Some(problem);
        vec![self.put()]
    }

    pub(super) fn gone(&mut self, id: &str) -> Option<Change> {
        self.starts.remove(id);
        self.asked_to_end.remove(id);
        self.out_of_memory.remove(id);
        self.start_errors.remove(id);
        if let Some(gone) = self.aside.remove(id) {
            self.note_last_user(&gone);
            return None;
        }
        let gone = self.containers.remove(id)?;
        self.note_last_user(&gone);
        Some(Change::ContainerGone { host: self.host.name.clone(), id: id.to_owned() })
    }

    /// Remembers who used what, for the day when it is asked why it is still there.
    fn note_last_user(&mut self, gone: &Container) {
        let volumes = gone.mounts.iter().filter(|m| m.kind == "volume");
        let mut used: Vec<(AssetKind, String)> =
            volumes.map(|m| (AssetKind::Volume, m.source.clone())).collect();
        used.push((AssetKind::Image, bare_id(&gone.image_id).to_owned()));
        let networks = self.assets.networks.iter().filter(|n| gone.networks.contains(&n.name));
        used.extend(networks.map(|n| (AssetKind::Network, n.id.clone())));
        let name = gone.role.as_ref().map_or(&gone.name, |role| &role.of);
        self.last_users.extend(used.into_iter().map(|key| (key, name.clone())));
        if self.last_users.len() > MAX_LAST_USERS {
            // What is used again, or gone, needs no memory.
            let unused = &self.unused;
            self.last_users.retain(|key, _| unused.contains_key(key));
        }
    }

    /// Judges a container with what its siblings tell.
    fn judged(&self, c: &Container) -> Option<Reason> {
        let reason = reason::judge(c, &self.host)?;
        Some(reason::links::relate(reason, c, self.containers.values()))
    }

    /// Judges those that need a person once more: a sibling of theirs has changed.
    pub(super) fn relate(&mut self) -> Vec<Change> {
        let troubled = self
            .containers
            .values()
            .filter(|c| c.attention.as_ref().is_some_and(|r| r.severity != Severity::Notice));
        let changed: Vec<(String, Option<Reason>)> = troubled
            .map(|c| (c.id.clone(), self.judged(c)))
            .filter(|(id, reason)| self.containers.get(id).is_some_and(|c| c.attention != *reason))
            .collect();
        let mut changes = Vec::new();
        for (id, reason) in changed {
            if let Some(c) = self.containers.get_mut(&id) {
                c.attention = reason;
                changes.push(Change::ContainerPut { container: Box::new(c.clone()) });
            }
        }
        changes
    }

    /// `watched` when an event told of it: what was missed meanwhile cannot be known otherwise.
    pub(super) fn see(&mut self, mut container: Container, now: Timestamp, watched: bool) -> Option<Change> {
        container.host.clone_from(&self.host.name);
        container.role = self.role_of(&container).map(Box::new);
        if container.role.is_some() {
            let id = container.id.clone();
            let shown = self.containers.remove(&id).is_some();
            self.aside.insert(id.clone(), container);
            return shown.then(|| Change::ContainerGone { host: self.host.name.clone(), id });
        }
        let back = self.aside.remove(&container.id);
        let known = self.containers.get(&container.id).or(back.as_ref());
        if known.is_none() {
            self.starts.extend(looping_before(&container, now).map(|starts| (container.id.clone(), starts)));
        }
        if let Some(started) = container.started
            && known.and_then(|k| k.started) != Some(started)
        {
            let starts = self.starts.entry(container.id.clone()).or_default();
            starts.push_back(started);
            if starts.len() > MAX_STARTS {
                starts.pop_front();
            }
        }
        container.recent_starts = recent(self.starts.get_mut(&container.id), now);
        self.complete(&mut container, known, now, watched);
        container.attention = self.judged(&container);
        if known == Some(&container) {
            return None;
        }
        self.containers.insert(container.id.clone(), container.clone());
        Some(Change::ContainerPut { container: Box::new(container) })
    }

    /// Adds what the engine's record of the container does not hold but was seen elsewhere.
    fn complete(&self, container: &mut Container, known: Option<&Container>, now: Timestamp, watched: bool) {
        container.architecture = match known {
            Some(known) if known.image_id == container.image_id => known.architecture.clone(),
            _ => {
                let id = bare_id(&container.image_id);
                self.assets.images.iter().find(|i| i.id == id).and_then(|i| i.architecture.clone())
            }
        };
        container.newer_image = is_outdated(container, &self.assets, &self.newest);
        if let Some(known) = known {
            let same_run = known.started == container.started && known.finished == container.finished;
            if same_run && !known.last_lines.is_empty() {
                container.last_lines.clone_from(&known.last_lines);
            }
        }
        if let Some((error, started)) = self.start_errors.get(&container.id)
            && container.error.is_none()
            && container.started == *started
            && matches!(container.state, State::Created | State::Exited)
        {
            container.error = Some(error.clone());
        }
        if let (Some(at), Some(end)) = (self.out_of_memory.get(&container.id), container.finished)
            && container.exit_code.is_some_and(|code| code != 0)
            && end.duration_since(*at).abs() <= MEMORY_SPAN
        {
            container.out_of_memory = true;
        }
        if container.state != State::Exited {
            return;
        }
        container.asked_to_end = match known {
            Some(known) if known.finished == container.finished => known.asked_to_end,
            _ if self
                .asked_to_end
                .get(&container.id)
                .is_some_and(|&at| now.duration_since(at) <= ASKED_SPAN) =>
            {
                Some(true)
            }
            // What is first seen by an event was made since the listing: its whole life was watched.
            None if watched => Some(false),
            Some(known) if watched && matches!(known.state, State::Created | State::Running) => Some(false),
            _ => None,
        };
    }

    /// The role of a container, from its label or its name.
    fn role_of(&self, container: &Container) -> Option<ContainerRole> {
        if container.labels.contains_key(ONE_OFF_LABEL) {
            let of = "one-off-command".to_owned();
            return Some(ContainerRole { kind: RoleKind::OneOff, of, operation: None });
        }
        self.roles.get(&container.name).cloned()
    }

    /// Gives roles to names. A container that has such a name already leaves the lists.
    pub(super) fn hold(&mut self, names: Vec<(String, ContainerRole)>, now: Timestamp) -> Vec<Change> {
        let mut changes = Vec::new();
        for (name, role) in names {
            self.roles.insert(name.clone(), role);
            let there: Vec<Container> =
                self.containers.values().filter(|c| c.name == name).cloned().collect();
            changes.extend(there.into_iter().filter_map(|c| self.see(c, now, false)));
        }
        changes
    }

    /// Takes the roles of an operation back. What is left of its containers comes into the lists.
    pub(super) fn release(&mut self, operation: u64, now: Timestamp) -> Vec<Change> {
        self.roles.retain(|_, role| role.operation != Some(operation));
        let of = |c: &&Container| c.role.as_ref().is_some_and(|r| r.operation == Some(operation));
        let left: Vec<Container> = self.aside.values().filter(of).cloned().collect();
        left.into_iter().filter_map(|c| self.see(c, now, false)).collect()
    }

    pub(super) fn age(&mut self, now: Timestamp) -> Vec<Change> {
        let mut changes = Vec::new();
        for (id, starts) in &mut self.starts {
            let Some(container) = self.containers.get_mut(id) else { continue };
            let count = recent(Some(starts), now);
            if count != container.recent_starts {
                container.recent_starts = count;
                container.attention = reason::judge(container, &self.host);
                changes.push(Change::ContainerPut { container: Box::new(container.clone()) });
            }
        }
        self.starts.retain(|_, starts| !starts.is_empty());
        self.asked_to_end.retain(|_, &mut at| now.duration_since(at) <= ASKED_SPAN);
        changes
    }
}

/// Whether the name that a container was made with means another image at its registry by now. A container that is
/// pinned is content with what it has, and of an image whose digests are not known nothing is said.
fn is_outdated(c: &Container, assets: &Assets, newest: &HashMap<String, String>) -> bool {
    let Some(digest) = newest.get(&c.image) else { return false };
    if c.labels.get(PINNED_LABEL).is_some_and(|v| v != "false") {
        return false;
    }
    let id = bare_id(&c.image_id);
    let Ok(name) = c.image.parse::<ImageName>() else { return false };
    assets.is_image(id, &name, digest) == Some(false)
}

/// An engine only tells the last end and how often it restarted. A container that is seen for the first
/// time, was restarted often and ended a moment ago is taken to be in a loop without waiting for more.
fn looping_before(container: &Container, now: Timestamp) -> Option<VecDeque<Timestamp>> {
    let ended = container.finished?;
    let often = container.restart_count >= u64::from(reason::LOOP_STARTS);
    let lately = now.duration_since(ended) <= LOOP_WINDOW && container.started.is_some_and(|s| s >= ended);
    (often && lately).then(|| std::iter::repeat_n(ended, reason::LOOP_STARTS as usize - 1).collect())
}

fn recent(starts: Option<&mut VecDeque<Timestamp>>, now: Timestamp) -> u32 {
    let Some(starts) = starts else { return 0 };
    starts.retain(|&start| now.duration_since(start) <= LOOP_WINDOW);
    u32::try_from(starts.len()).unwrap_or(u32::MAX)
}
