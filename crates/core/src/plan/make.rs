//! Plans for containers that are made or replaced: deploy, edit, update, rollback.
//!
//! A container is replaced so that the old one can always come back: the new one is made beside it, the old one
//! is stopped and kept aside, and only when the new one is well is the old one taken away.

use crate::container::Container;
use crate::definition::check::{Finding, Weight};
use crate::definition::difference::{difference, only_in_place};
use crate::definition::{Definition, MountKind, PullPolicy};

use super::request::{Kind, Request};
use super::{DEFAULT_GRACE_SECONDS, Step, TargetPlan, VolumeWish};

/// Seconds that a new container without a health check must stay up, unless told otherwise.
pub const DEFAULT_WATCH_SECONDS: u32 = 10;

/// What is known of a container that is to be made.
#[derive(Debug, Clone)]
pub struct Making<'a> {
    /// The host.
    pub host: &'a str,
    /// The container that is replaced, with its settings now.
    pub replaces: Option<(&'a Container, &'a Definition)>,
    /// What it is to be; nothing hidden in it.
    pub next: &'a Definition,
    /// Mistakes that were found.
    pub findings: Vec<Finding>,
    /// Names of volumes that are on the host.
    pub volumes: Vec<&'a str>,
    /// Whether the engine can change limits and restart policy of what runs.
    pub changes_in_place: bool,
    /// For an update: the image that is there is the newest already.
    pub is_newest: Option<bool>,
    /// For an update: it is pinned, and why it is therefore left alone.
    pub pinned: Option<String>,
}

/// Plans the making.
pub fn plan_make(request: &Request, making: Making<'_>) -> TargetPlan {
    let plan = match making.replaces {
        None => deploy(request, making),
        Some((container, current)) => replace(request, making, container, current),
    };
    plan.finished()
}

fn watch(request: &Request) -> Step {
    Step::Watch { seconds: request.watch_seconds.unwrap_or(DEFAULT_WATCH_SECONDS) }
}

/// Folders and volumes that are made first.
fn prepare(d: &Definition, volumes: &[&str], plan: &mut TargetPlan) {
    for m in &d.mounts {
        match (m.kind, &m.source) {
            (MountKind::Bind, Some(path)) => {
                if let Some(folder) = &m.make {
                    plan.steps.push(Step::MakeFolder { path: path.clone(), folder: folder.clone() });
                    plan.creates.push(format!("folder {path}, if it is not there"));
                }
            }
            (MountKind::Volume, Some(name)) if !volumes.contains(&name.as_str()) => {
                let wish = VolumeWish {
                    driver: m.driver.clone(),
                    options: m.options.clone(),
                    ..VolumeWish::default()
                };
                plan.steps.push(Step::MakeVolume { name: name.clone(), wish });
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

fn deploy(request: &Request, making: Making<'_>) -> TargetPlan {
    let d = making.next;
    let mut plan = TargetPlan {
        host: making.host.to_owned(),
        name: d.name.clone(),
        creates: vec![format!("container {} from {}", d.name, d.image)],
        findings: making.findings,
        ..TargetPlan::default()
    };
    plan.steps.push(pull(d, d.pull));
    prepare(d, &making.volumes, &mut plan);
    plan.steps.extend([Step::Make, Step::StartNew, watch(request)]);
    let ports: Vec<String> = d
        .ports
        .iter()
        .map(|p| p.host_port.map_or_else(|| "a free one".to_owned(), |h| h.to_string()))
        .collect();
    let reach =
        if ports.is_empty() { String::new() } else { format!(" and listens on port {}", ports.join(", ")) };
    plan.consequence = format!(
        "It is made on {} and started{reach}; if it does not come up it is taken away again.",
        making.host
    );
    plan
}

fn replace(request: &Request, making: Making<'_>, c: &Container, current: &Definition) -> TargetPlan {
    let d = making.next;
    let mut plan = TargetPlan { findings: making.findings, ..super::life::blank(c) };
    let mut from = current.clone();
    from.pull = d.pull;
    plan.differences = difference(&from, d);
    if c.is_self {
        plan.refuse("this is the container that Gubernum itself runs in, so it does not replace it; use the engine's client for that");
        return plan;
    }
    if let Some(why) = making.pinned {
        plan.refuse(why);
        return plan;
    }
    if request.kind == Kind::Update && making.is_newest == Some(true) && plan.differences.is_empty() {
        plan.consequence = "It runs the newest image of its tag.".to_owned();
        plan.nothing_to_do("Up to date: nothing to do.");
        return plan;
    }
    let renamed = d.name != c.name;
    if request.kind == Kind::Edit {
        // Who wants the image fetched anew wants a container of what comes, whatever else differs.
        let anew = d.pull == PullPolicy::Always;
        if plan.differences.is_empty() && !anew {
            plan.consequence = "Nothing differs from its settings now.".to_owned();
            plan.nothing_to_do("No change: its settings are these already.");
            return plan;
        }
        let rest: Vec<_> = plan.differences.iter().filter(|x| x.setting != "name").cloned().collect();
        if !anew && only_in_place(&plan.differences) && (making.changes_in_place || rest.is_empty()) {
            if !rest.is_empty() {
                plan.steps.push(Step::ChangeInPlace);
            }
            if renamed {
                plan.steps.push(Step::Rename { to: d.name.clone() });
            }
            plan.consequence = "It is changed while it runs, without a restart.".to_owned();
            plan.keeps.push(format!("container {}", c.name));
            return plan;
        }
    }
    plan.steps.push(match request.kind {
        Kind::Update => pull(d, request.policy.unwrap_or(PullPolicy::Always)),
        Kind::Rollback => pull(d, PullPolicy::Missing),
        _ => pull(d, d.pull),
    });
    prepare(d, &making.volumes, &mut plan);
    plan.recreates.push(format!("container {}", c.name));
    kept(c, d, &mut plan);
    plan.steps.push(Step::MakeBeside);
    if c.state.is_alive() {
        plan.steps.push(Step::Stop { grace_seconds: request.grace_seconds });
    }
    plan.steps.push(Step::Exchange);
    if c.state.is_alive() {
        plan.steps.push(Step::StartNew);
        plan.steps.push(watch(request));
    }
    plan.steps.push(Step::Retire);
    if renamed {
        plan.steps.push(Step::Rename { to: d.name.clone() });
    }
    if c.state.is_alive() {
        let grace = request.grace_seconds.or(current.grace_seconds).unwrap_or(DEFAULT_GRACE_SECONDS);
        plan.downtime = Some(format!("while the old one ends (at most {grace} s) and the new one starts"));
        plan.consequence = match request.kind {
            Kind::Update => format!("It is replaced by a container of {} with the same settings; if that does not come up, the old one comes back by itself.", d.image),
            Kind::Rollback => "It is replaced by a container as it was before; if that does not come up, the old one comes back by itself.".to_owned(),
            _ => "It is replaced by a container with the new settings; if that does not come up, the old one comes back by itself.".to_owned(),
        };
    } else {
        plan.consequence =
            "It does not run; it is replaced and stays as it is until it is started.".to_owned();
    }
    if current.auto_remove {
        let sentence = "the engine takes this container away as soon as it ends, so it cannot come back if the new one fails".to_owned();
        plan.findings.push(Finding {
            field: "/auto_remove".into(),
            weight: Weight::Warning,
            sentence,
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
            plan.data_at_risk
                .push(format!("the anonymous volume at {} stays behind without an owner", m.target));
        } else if !stays {
            plan.data_at_risk
                .push(format!("the volume {} is not mounted any more; its data stays", m.source));
        }
    }
    let written = "what it wrote outside of its mounts is not carried over".to_owned();
    if !d.rights.read_only {
        plan.data_at_risk.push(written);
    }
    for network in &d.network.networks {
        let mut what = format!("its place in the network {}", network.name);
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
