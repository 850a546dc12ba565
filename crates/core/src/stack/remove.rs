//! The plan to remove a stack from a host: its containers and networks, and its volumes and images if requested.
//!
//! Nothing is removed before all of it has stopped: until then it can be called off, and what was stopped runs again.

use std::collections::{BTreeMap, BTreeSet};

use super::labels;
use super::present::{Present, PresentContainer};
use crate::container::STACK_LABEL;
use crate::plan::lifecycle::blank;
use crate::plan::request::RemoveStackRequest;
use crate::plan::{After, ObjectKind, Step, TargetPlan, Until};

/// What containers that are not of the stack use on the host: it stays.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct UsedByOthers {
    /// Names of networks.
    pub networks: BTreeSet<String>,
    /// Names of volumes.
    pub volumes: BTreeSet<String>,
    /// Ids of images.
    pub images: BTreeSet<String>,
}

/// Plans that a stack goes. Targets come after those that have to go before them.
pub fn plan_remove_stack(
    request: &RemoveStackRequest,
    present: &Present<'_>,
    others: &UsedByOthers,
) -> Vec<TargetPlan> {
    let mut plans = Vec::new();
    let mut of_service: BTreeMap<&str, Vec<u32>> = BTreeMap::new();
    for (container, users) in in_order(present) {
        let users = users.iter().filter_map(|service| of_service.get(service)).flatten();
        let after = users.map(|target| After { target: *target, until: Until::Over }).collect();
        let at = u32::try_from(plans.len()).unwrap_or(u32::MAX);
        plans.push(removed(request, container, after));
        of_service.entry(container.service()).or_default().push(at);
    }
    // What containers use goes after all of them.
    let all: Vec<After> = (0..).zip(&plans).map(|(target, _)| After { target, until: Until::Over }).collect();
    let resources = resources(request, present, others);
    plans.extend(resources.into_iter().map(|mut plan| {
        if !plan.steps.is_empty() {
            plan.after.clone_from(&all);
        }
        plan
    }));
    super::whole_or_not(plans.iter_mut());
    plans
}

fn removed(request: &RemoveStackRequest, container: &PresentContainer, after: Vec<After>) -> TargetPlan {
    let c = &container.container;
    let mut plan = blank(c);
    if c.is_self {
        plan.refuse("Gubernum runs in this container, so it is not removed");
        return plan;
    }
    if c.state.is_alive() {
        plan.steps.push(Step::Stop { grace_seconds: None });
        plan.downtime = Some("for good".to_owned());
    }
    plan.steps.push(Step::Remove { force: true, volumes: request.volumes });
    plan.removes = vec![format!("container {}", c.name)];
    plan.data_at_risk = vec!["files written outside its mounts are lost".to_owned()];
    for mount in c.mounts.iter().filter(|m| m.anonymous && request.volumes) {
        plan.data_at_risk.push(format!("everything in the anonymous volume at {}", mount.target));
    }
    plan.consequence = "Stopped first; removed once the whole stack has stopped.".to_owned();
    plan.after = after;
    plan.finished()
}

fn resources(request: &RemoveStackRequest, present: &Present<'_>, others: &UsedByOthers) -> Vec<TargetPlan> {
    let blank = |object, name: &str, id: &str| TargetPlan {
        host: present.host.to_owned(),
        object,
        id: id.to_owned(),
        name: name.to_owned(),
        ..TargetPlan::default()
    };
    let is_own = |labels: &BTreeMap<String, String>| labels.get(STACK_LABEL) == Some(&request.stack);
    let mut plans = Vec::new();
    for network in present.assets.networks.iter().filter(|n| is_own(&n.labels)) {
        let mut plan = blank(ObjectKind::Network, &network.name, &network.id);
        if others.networks.contains(&network.name) {
            plan.nothing_to_do("Stays: containers outside the stack are connected to it.");
        } else {
            plan.steps = vec![Step::RemoveNetwork];
            plan.removes = vec![format!("network {}", network.name)];
            plan.consequence = "Removed after the containers.".to_owned();
            plan = plan.finished();
        }
        plans.push(plan);
    }
    for volume in present.assets.volumes.iter().filter(|v| is_own(&v.labels)) {
        let mut plan = blank(ObjectKind::Volume, &volume.name, &volume.name);
        if !request.volumes {
            plan.keeps = vec![format!("volume {} with its data", volume.name)];
            plan.nothing_to_do("Stays with its data.");
        } else if others.volumes.contains(&volume.name) {
            plan.nothing_to_do("Stays: containers outside the stack use it.");
        } else {
            plan.steps = vec![Step::RemoveVolume { force: false }];
            plan.removes = vec![format!("volume {}", volume.name)];
            plan.data_at_risk = vec![format!("everything in the volume {}", volume.name)];
            plan.consequence = "Removed after the containers, with all its data.".to_owned();
            plan = plan.finished();
        }
        plans.push(plan);
    }
    if request.images {
        plans.extend(images(present, others).into_iter().map(|(name, id, stays)| {
            let mut plan = blank(ObjectKind::Image, &name, &id);
            if stays {
                plan.nothing_to_do("Stays: containers outside the stack use it.");
                return plan;
            }
            plan.steps = vec![Step::RemoveImage { image: name.clone(), force: false, keep_parents: false }];
            plan.removes = vec![format!("image {name}")];
            plan.consequence =
                "Removed after the containers; it can be pulled again while its registry has it.".to_owned();
            plan.finished()
        }));
    }
    plans
}

/// The images of a stack that are on the host: name, id, and whether others use them.
fn images(present: &Present<'_>, others: &UsedByOthers) -> Vec<(String, String, bool)> {
    let ids: BTreeMap<&str, &str> = present
        .containers
        .iter()
        .map(|c| (crate::assets::bare_id(&c.container.image_id), c.container.image.as_str()))
        .collect();
    let here = present.assets.images.iter().filter_map(|image| {
        let name = ids.get(image.id.as_str())?;
        Some(((*name).to_owned(), image.id.clone(), others.images.contains(&image.id)))
    });
    here.collect()
}

/// The containers of a stack, those that need others before these, each with the services that need its own.
fn in_order<'a>(present: &'a Present<'_>) -> Vec<(&'a PresentContainer, BTreeSet<&'a str>)> {
    let mut needs: BTreeMap<&str, BTreeSet<&str>> = BTreeMap::new();
    for container in &present.containers {
        let needed = needs.entry(container.service()).or_default();
        let label = container.container.labels.get(labels::DEPENDS_ON).map_or("", String::as_str);
        needed.extend(label.split(',').filter_map(|part| part.split(':').next()).filter(|s| !s.is_empty()));
        // Who shares a container's network or processes goes before it too.
        let d = &container.definition;
        for mode in [&d.network.mode, &d.rights.processes_of, &d.rights.memory_of] {
            let Some(of) = mode.as_deref().and_then(|m| m.strip_prefix("container:")) else { continue };
            let shared = present.containers.iter().find(|c| c.container.id == of || c.container.name == of);
            needed.extend(shared.map(PresentContainer::service));
        }
        needed.remove(container.service());
    }
    let users = |service: &str| -> BTreeSet<&'a str> {
        needs.iter().filter(|(_, needed)| needed.contains(service)).map(|(user, _)| *user).collect()
    };
    let mut left: BTreeSet<&str> = needs.keys().copied().collect();
    let mut order = Vec::new();
    while !left.is_empty() {
        let is_free = |service: &&str| users(service).iter().all(|user| !left.contains(user));
        let mut next: Vec<&str> = left.iter().copied().filter(is_free).collect();
        if next.is_empty() {
            // Labels that somebody wrote may go in a circle; then nobody is first.
            next = left.iter().copied().collect();
        }
        for service in next {
            left.remove(service);
            let of_service = present.containers.iter().filter(|c| c.service() == service);
            order.extend(of_service.map(|c| (c, users(service))));
        }
    }
    order
}
