//! Plans for containers that are created or replaced: deploy, edit, update, rollback.
//!
//! A container is replaced so that the old one can always come back: the new one is made beside it, the old one
//! is stopped and kept aside, and only when the new one is well is the old one removed.

use crate::container::Container;
use crate::definition::check::{Finding, Weight};
use crate::definition::difference::{difference, only_in_place};
use crate::definition::{Definition, MountKind, PullPolicy};

use super::lifecycle::blank;
use super::request::{DeployRequest, EditRequest, RollbackRequest, UpdateRequest};
use super::{DEFAULT_GRACE_SECONDS, DEFAULT_WATCH_SECONDS, Step, TargetPlan, VolumeSettings};

/// What is known of a container that is to be made where there is none yet.
#[derive(Debug, Clone)]
pub struct NewContainer<'a> {
    /// The host.
    pub host: &'a str,
    /// What it is to be; nothing hidden in it.
    pub next: &'a Definition,
    /// Errors that were found.
    pub findings: Vec<Finding>,
    /// Names of volumes that are on the host.
    pub volumes: Vec<&'a str>,
}

/// What is known of a container that is to take another's place.
#[derive(Debug, Clone)]
pub struct Replacement<'a> {
    /// The container that is replaced.
    pub container: &'a Container,
    /// Its settings now.
    pub current: &'a Definition,
    /// What it is to be; nothing hidden in it.
    pub next: &'a Definition,
    /// Errors that were found.
    pub findings: Vec<Finding>,
    /// Names of volumes that are on the host.
    pub volumes: Vec<&'a str>,
    /// Whether the engine can change limits and restart policy of what runs.
    pub changes_in_place: bool,
}

/// What is known of the image that an update would fetch.
#[derive(Debug, Clone, Default)]
pub struct UpdateImage {
    /// The image that is there is the newest already; `None` when nobody can tell.
    pub is_newest: Option<bool>,
    /// The container is pinned to its image, and why it is therefore left alone.
    pub pinned: Option<String>,
}

/// How the old container gives way to the new one.
struct Exchange {
    pull: PullPolicy,
    grace_seconds: Option<u32>,
    watch_seconds: Option<u32>,
    consequence: String,
}

/// Folders and volumes that are made first.
fn prepare(d: &Definition, volumes: &[&str], plan: &mut TargetPlan) {
    for m in &d.mounts {
        match (m.kind, &m.source) {
            (MountKind::Bind, Some(path)) => {
                if let Some(folder) = &m.make {
                    plan.steps.push(Step::CreateFolder { path: path.clone(), folder: folder.clone() });
                    plan.creates.push(format!("folder {path}, if it is missing"));
                }
            }
            (MountKind::Volume, Some(name)) if !volumes.contains(&name.as_str()) => {
                let wish = VolumeSettings {
                    driver: m.driver.clone(),
                    options: m.options.clone(),
                    labels: m.labels.clone(),
                };
                plan.steps.push(Step::CreateVolume { name: name.clone(), wish });
                plan.creates.push(format!("volume {name}"));
            }
            (MountKind::Volume, Some(name)) => plan.keeps.push(format!("volume {name} with its data")),
            (MountKind::Volume, None) => plan.creates.push(format!("an anonymous volume for {}", m.target)),
            _ => {}
        }
    }
}

fn pull(d: &Definition, policy: PullPolicy) -> Step {
    Step::Pull { image: d.image.clone(), policy, platform: d.platform.clone() }
}

fn watch(seconds: Option<u32>) -> Step {
    Step::Watch { seconds: seconds.unwrap_or(DEFAULT_WATCH_SECONDS) }
}

/// Plans that a container is made and started.
pub fn plan_deploy(request: &DeployRequest, new: NewContainer<'_>) -> TargetPlan {
    let d = new.next;
    let mut plan = TargetPlan {
        host: new.host.to_owned(),
        name: d.name.clone(),
        creates: vec![format!("container {} from {}", d.name, d.image)],
        findings: new.findings,
        ..TargetPlan::default()
    };
    plan.steps.push(pull(d, d.pull));
    prepare(d, &new.volumes, &mut plan);
    plan.steps.extend([Step::Create, Step::StartNew, watch(request.watch_seconds)]);
    let ports: Vec<String> = d
        .ports
        .iter()
        .map(|p| p.host_port.map_or_else(|| "a free one".to_owned(), |h| h.to_string()))
        .collect();
    let reach =
        if ports.is_empty() { String::new() } else { format!(" and listens on port {}", ports.join(", ")) };
    plan.consequence =
        format!("Creates and starts it on {}{reach}. If it does not come up, it is removed again.", new.host);
    plan.finished()
}

/// Plans that a container gets other settings: in place where the engine can, else by a new container.
pub fn plan_edit(request: &EditRequest, with: Replacement<'_>) -> TargetPlan {
    let mut plan = compared(&with);
    let (c, d) = (with.container, with.next);
    // With pull policy 'always' the container is recreated from the pulled image, whatever else differs.
    let always_pulls = d.pull == PullPolicy::Always;
    if plan.refused.is_some() {
        return plan.finished();
    }
    if plan.differences.is_empty() && !always_pulls {
        plan.consequence = "No change: its settings are the same.".to_owned();
        plan.nothing_to_do("No change: its settings are the same.");
        return plan.finished();
    }
    let rest = plan.differences.iter().filter(|x| x.setting != "name").count();
    if !always_pulls && only_in_place(&plan.differences) && (with.changes_in_place || rest == 0) {
        if rest > 0 {
            plan.steps.push(Step::ChangeInPlace);
        }
        if d.name != c.name {
            plan.steps.push(Step::Rename { to: d.name.clone() });
        }
        plan.consequence = "Changes it while it runs, without a restart.".to_owned();
        plan.keeps.push(format!("container {}", c.name));
        return plan.finished();
    }
    let exchange = Exchange {
        pull: d.pull,
        grace_seconds: request.grace_seconds,
        watch_seconds: request.watch_seconds,
        consequence: "Recreates it with the new settings. If the new one does not come up, the previous container is restored.".to_owned(),
    };
    replace(plan, &with, exchange).finished()
}

/// Plans that a container is put on a newer image.
pub fn plan_update(request: &UpdateRequest, with: Replacement<'_>, image: UpdateImage) -> TargetPlan {
    let mut plan = compared(&with);
    if plan.refused.is_some() {
        return plan.finished();
    }
    if let Some(why) = image.pinned {
        plan.refuse(why);
        return plan.finished();
    }
    if image.is_newest == Some(true) && plan.differences.is_empty() {
        plan.consequence = "Runs the newest image of its tag.".to_owned();
        plan.nothing_to_do("Up to date: nothing to do.");
        return plan.finished();
    }
    let exchange = Exchange {
        pull: request.policy.unwrap_or(PullPolicy::Always),
        grace_seconds: request.grace_seconds,
        watch_seconds: request.watch_seconds,
        consequence: format!(
            "Recreates it from {} with the same settings. If the new one does not come up, the previous container is restored.",
            with.next.image
        ),
    };
    replace(plan, &with, exchange).finished()
}

/// Plans that a container is put back to an earlier state.
pub fn plan_rollback(request: &RollbackRequest, with: Replacement<'_>) -> TargetPlan {
    let plan = compared(&with);
    if plan.refused.is_some() {
        return plan.finished();
    }
    let exchange = Exchange {
        pull: PullPolicy::Missing,
        grace_seconds: request.grace_seconds,
        watch_seconds: request.watch_seconds,
        consequence:
            "Recreates it as it was before. If that does not come up, the current container is restored."
                .to_owned(),
    };
    replace(plan, &with, exchange).finished()
}

/// Plans that a container is replaced whose settings are as they should be.
pub fn plan_exchange(watch_seconds: Option<u32>, with: Replacement<'_>, consequence: String) -> TargetPlan {
    let plan = compared(&with);
    if plan.refused.is_some() {
        return plan.finished();
    }
    let pull = with.next.pull;
    let exchange = Exchange { pull, grace_seconds: None, watch_seconds, consequence };
    replace(plan, &with, exchange).finished()
}

/// The beginning of a replacement's plan: what differs. Refused where the container is Gubernum's own.
fn compared(with: &Replacement<'_>) -> TargetPlan {
    let mut plan = TargetPlan { findings: with.findings.clone(), ..blank(with.container) };
    let current = Definition { pull: with.next.pull, ..with.current.clone() };
    plan.differences = difference(&current, with.next);
    if with.container.is_self {
        plan.refuse(
            "Gubernum runs in this container and does not replace itself; use the engine's client for that",
        );
    }
    plan
}

/// The steps of a replacement: the old one can come back until the new one is well.
fn replace(mut plan: TargetPlan, with: &Replacement<'_>, exchange: Exchange) -> TargetPlan {
    let (c, d) = (with.container, with.next);
    let alive = c.state.is_alive();
    plan.steps.push(pull(d, exchange.pull));
    prepare(d, &with.volumes, &mut plan);
    plan.recreates.push(format!("container {}", c.name));
    kept(c, d, &mut plan);
    plan.steps.push(Step::CreateBeside);
    if alive {
        plan.steps.push(Step::Stop { grace_seconds: exchange.grace_seconds });
    }
    plan.steps.push(Step::Exchange);
    if alive {
        plan.steps.push(Step::StartNew);
        plan.steps.push(watch(exchange.watch_seconds));
    }
    plan.steps.push(Step::Retire);
    if d.name != c.name {
        plan.steps.push(Step::Rename { to: d.name.clone() });
    }
    if alive {
        let grace = exchange.grace_seconds.or(with.current.grace_seconds).unwrap_or(DEFAULT_GRACE_SECONDS);
        plan.downtime = Some(format!("while the old one stops (at most {grace} s) and the new one starts"));
        plan.consequence = exchange.consequence;
    } else {
        plan.consequence = "Not running: recreates it without starting it.".to_owned();
    }
    if with.current.auto_remove {
        plan.findings.push(Finding {
            field: "/auto_remove".into(),
            weight: Weight::Warning,
            sentence: "the engine removes this container when it exits, so it cannot be restored if the new one fails".to_owned(),
            proposal: None,
        });
    }
    plan
}

/// What becomes of the old container's data.
fn kept(c: &Container, d: &Definition, plan: &mut TargetPlan) {
    for m in c.mounts.iter().filter(|m| m.kind == "volume") {
        let stays = d
            .mounts
            .iter()
            .any(|n| n.kind == MountKind::Volume && n.source.as_deref() == Some(m.source.as_str()));
        if m.anonymous && stays {
            plan.keeps.push(format!("the anonymous volume at {} with its data", m.target));
        } else if m.anonymous {
            plan.data_at_risk.push(format!("the anonymous volume at {} stays behind, unused", m.target));
        } else if !stays {
            plan.data_at_risk.push(format!("the volume {} is no longer mounted; its data stays", m.source));
        }
    }
    let written = "files written outside its mounts are not kept".to_owned();
    if !d.rights.read_only {
        plan.data_at_risk.push(written);
    }
    for network in &d.network.networks {
        let mut what = format!("its connection to the network {}", network.name);
        if let Some(address) = &network.address {
            what.push_str(&format!(" with the address {address}"));
        }
        plan.keeps.push(what);
    }
    plan.keeps.dedup();
}

#[cfg(test)]
#[path = "make_tests.rs"]
mod tests;
