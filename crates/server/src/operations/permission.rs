//! Whether the caller may make a change: the rights that its kind needs, on each of its targets. Which rights those
//! are is in core's table; the scope of each target, and what a definition asks of its host, is found here.
//!
//! What somebody does not see cannot be named (the planner resolves names in their view), so that here only what they see
//! and may not touch is left.

use gubernum_core::assets::AssetKind;
use gubernum_core::container::Container;
use gubernum_core::definition::Definition;
use gubernum_core::fleet::Fleet;
use gubernum_core::journal::Operation;
use gubernum_core::plan::request::MoveKind;
use gubernum_core::plan::{ObjectKind, Request, TargetPlan};
use gubernum_core::reference::wildcard;
use gubernum_core::rights::table::of_kind;
use gubernum_core::rights::{Access, Place, Right, Rights, host_access};
use gubernum_core::text::shown;

use crate::fleet::View;
use crate::operations::OperationError;
use crate::operations::planner::{JobChange, Planned};

/// Refuses a change of a whole stack, or of something that goes to another host, before anything of it is read: the kept text
/// of a stack holds secrets.
///
/// # Errors
/// When the caller may not, or does not see what is named.
pub(super) fn early(request: &Request, references: &[String], view: &View) -> Result<(), OperationError> {
    if view.access().on_fleet() == Rights::all() {
        return Ok(());
    }
    let rights = of_kind(request.kind());
    match request {
        Request::Apply(_) | Request::RemoveStack(_) | Request::Run(_) => {
            on_stacks(request.stack().unwrap_or_default(), references, rights, view)
        }
        Request::Move(wish) | Request::Clone(wish) => {
            let Some((from, name)) = references.first().and_then(|r| r.split_once('/')) else {
                return Ok(());
            };
            let (here, there) = match wish.what {
                MoveKind::Stack => {
                    let new = wish.name.as_deref().unwrap_or(name);
                    (view.on_stack(from, name), view.on_stack(&wish.to, new))
                }
                MoveKind::Volume => (view.on_asset(from, AssetKind::Volume, name), view.on_host(&wish.to)),
                MoveKind::Container => {
                    // What the name means is found out when it is planned.
                    let Ok(container) = view.find_on(from, name) else { return Ok(()) };
                    let place = |fleet: &Fleet, access: &Access| {
                        let groups = fleet.groups_of(&wish.to);
                        access.at(&Place { host: &wish.to, ..Place::container(&container, groups) })
                    };
                    (view.on(&container), view.judge(place))
                }
            };
            if !here.has(Right::See) {
                let sentence = format!("there is no '{}'", shown(&references[0], 120));
                return Err(OperationError::NotFound { field: Some("/targets/0".to_owned()), sentence });
            }
            demand(here, rights, &references[0])?;
            demand(there, rights, &wish.to)
        }
        _ => Ok(()),
    }
}

fn on_stacks(
    stack: &str,
    references: &[String],
    rights: &[Right],
    view: &View,
) -> Result<(), OperationError> {
    let hosts: Vec<String> = view.look(|fleet| {
        let names = fleet.hosts().map(|h| h.name.clone());
        names.filter(|name| references.iter().any(|r| wildcard(r, name))).collect()
    });
    for host in hosts {
        demand(view.on_stack(&host, stack), rights, &format!("{host}/{stack}"))?;
    }
    Ok(())
}

/// Refuses to call another's operation off for whoever may not make such a change on each of its targets.
///
/// # Errors
/// When they may not.
pub(super) fn call_off(operation: &Operation, view: &View) -> Result<(), OperationError> {
    if view.access().on_fleet() == Rights::all() {
        return Ok(());
    }
    let rights = of_kind(operation.request.kind());
    let stack = operation.request.stack();
    for target in &operation.targets {
        let reference = format!("{}/{}", target.host, target.name);
        let allowed = match (stack, target.object) {
            (Some(stack), _) => view.on_stack(&target.host, stack),
            (None, ObjectKind::Volume) => view.on_asset(&target.host, AssetKind::Volume, &target.name),
            (None, ObjectKind::Network) => view.on_asset(&target.host, AssetKind::Network, &target.name),
            (None, ObjectKind::Image | ObjectKind::Cache) => view.on_host(&target.host),
            (None, ObjectKind::Container) => match view.find_on(&target.host, &target.name) {
                Ok(container) => view.on(&container),
                Err(_) => view.on_host(&target.host),
            },
        };
        demand(allowed, rights, &reference)?;
    }
    Ok(())
}

fn demand(allowed: Rights, rights: &[Right], on: &str) -> Result<(), OperationError> {
    match rights.iter().find(|right| !allowed.has(**right)) {
        Some(right) => Err(OperationError::NotAllowed(right.refusal(on))),
        None => Ok(()),
    }
}

/// Refuses the targets of a plan that the caller may not change.
///
/// # Errors
/// When they may change none of them, or a change that is made as a whole not all.
pub(super) fn judge(request: &Request, planned: &mut [Planned], view: &View) -> Result<(), OperationError> {
    if view.access().on_fleet() == Rights::all() {
        return Ok(());
    }
    let refusals: Vec<Option<String>> = view.judge(|fleet, access| {
        let judge = Judge { request, fleet, access };
        planned.iter().map(|p| judge.refusal(p)).collect()
    });
    let refused = refusals.iter().flatten().count();
    if let Some(first) = refusals.iter().flatten().next()
        && (refused == planned.len() || request.kind().is_whole())
    {
        return Err(OperationError::NotAllowed(first.clone()));
    }
    for (planned, refusal) in planned.iter_mut().zip(refusals) {
        if let Some(sentence) = refusal {
            planned.plan.refuse(sentence);
        }
    }
    Ok(())
}

/// Refuses a stack whose jobs ask for more than what the caller may change.
///
/// # Errors
/// With the first that does.
pub(super) fn judge_jobs(request: &Request, jobs: &[JobChange], view: &View) -> Result<(), OperationError> {
    if view.access().on_fleet() == Rights::all() {
        return Ok(());
    }
    let refusal = view.judge(|fleet, access| {
        let judge = Judge { request, fleet, access };
        jobs.iter().find_map(|job| judge.refusal_of_job(job))
    });
    refusal.map_or(Ok(()), |sentence| Err(OperationError::NotAllowed(sentence)))
}

/// Refuses the targets of a plan that are frozen for the caller.
///
/// # Errors
/// When all of them are, or one of a change that is made as a whole.
pub(super) fn hold_off(
    request: &Request,
    planned: &mut [Planned],
    view: &View,
    refusal: impl Fn(&Place<'_>, &str) -> Option<String>,
) -> Result<(), OperationError> {
    let refusals: Vec<Option<String>> = view.judge(|fleet, _| {
        let held = |p: &Planned| with_place(request, p, fleet, |place| refusal(place, &p.plan.reference()));
        planned.iter().map(held).collect()
    });
    let frozen = refusals.iter().flatten().count();
    if let Some(first) = refusals.iter().flatten().next()
        && (frozen == planned.len() || request.kind().is_whole())
    {
        return Err(OperationError::Frozen(first.clone()));
    }
    for (planned, refusal) in planned.iter_mut().zip(refusals) {
        if let Some(sentence) = refusal {
            planned.plan.refuse(sentence);
        }
    }
    Ok(())
}

/// Where a target is, or will be.
fn with_place<T>(
    request: &Request,
    planned: &Planned,
    fleet: &Fleet,
    look: impl FnOnce(&Place<'_>) -> T,
) -> T {
    let plan = &planned.plan;
    let groups = fleet.groups_of(&plan.host);
    if let Some(stack) = request.stack() {
        return look(&Place::stack(&plan.host, groups, stack));
    }
    let assets = fleet.assets_of(&plan.host);
    let labels = match plan.object {
        ObjectKind::Container => {
            if let Some(container) = fleet.users_of(&plan.host).find(|c| c.id == plan.id) {
                return look(&Place::container(container, groups));
            }
            planned.inputs.definition.as_ref().map(|definition| &definition.labels)
        }
        ObjectKind::Volume => {
            assets.and_then(|a| a.volumes.iter().find(|v| v.name == plan.name)).map(|v| &v.labels)
        }
        ObjectKind::Network => {
            assets.and_then(|a| a.networks.iter().find(|n| n.name == plan.name)).map(|n| &n.labels)
        }
        ObjectKind::Image | ObjectKind::Cache => None,
    };
    match labels {
        Some(labels) => look(&Place::labelled(&plan.host, groups, labels)),
        None => look(&Place::host(&plan.host, groups)),
    }
}

fn beyond(reference: &str, what: &str, right: Right, host: &str) -> String {
    format!("'{reference}' asks for {what}, which needs the right '{right}' on the whole host {host}")
}

struct Judge<'a> {
    request: &'a Request,
    fleet: &'a Fleet,
    access: &'a Access,
}

impl Judge<'_> {
    /// Why a target may not be changed.
    fn refusal(&self, planned: &Planned) -> Option<String> {
        let plan = &planned.plan;
        let rights = of_kind(self.request.kind());
        let allowed = self.allowed(planned);
        if let Some(right) = rights.iter().find(|right| !allowed.has(**right)) {
            return Some(right.refusal(&plan.reference()));
        }
        // What a job asks for was judged when its stack was applied.
        if matches!(self.request, Request::Run(_)) {
            return None;
        }
        let right = *rights.first()?;
        let on_host = self.fleet.rights_on_host(self.access, &plan.host);
        if on_host.has(right) {
            return None;
        }
        self.reaches_beyond(planned).map(|what| beyond(&plan.reference(), &what, right, &plan.host))
    }

    /// Why a job may not become what it is to be.
    fn refusal_of_job(&self, job: &JobChange) -> Option<String> {
        if self.fleet.rights_on_host(self.access, &job.host).has(Right::Stacks) {
            return None;
        }
        let owns = |is_volume: bool, name: &str| self.owns(&job.host, is_volume, name);
        let before = job.current.as_ref().map(|current| host_access(current, owns)).unwrap_or_default();
        let found = host_access(&job.next, owns).into_iter().find(|what| !before.contains(what));
        found.map(|what| beyond(&job.reference, &what, Right::Stacks, &job.host))
    }

    /// What is allowed on a target.
    fn allowed(&self, planned: &Planned) -> Rights {
        let plan = &planned.plan;
        let groups = self.fleet.groups_of(&plan.host);
        let on_host = || self.fleet.rights_on_host(self.access, &plan.host);
        let made = |definition: &Definition| {
            self.access.at(&Place::labelled(&plan.host, groups, &definition.labels))
        };
        match self.request {
            Request::Apply(_) | Request::RemoveStack(_) | Request::Run(_) => {
                let stack = self.request.stack().unwrap_or_default();
                self.fleet.rights_on_stack(self.access, &plan.host, stack)
            }
            // Judged as a whole before it was planned.
            Request::Move(_) | Request::Clone(_) => Rights::all(),
            Request::Deploy(_) => planned.inputs.definition.as_ref().map_or_else(on_host, made),
            Request::Pull(_) | Request::Push(_) | Request::Tag(_) | Request::RemoveImage(_) => on_host(),
            Request::CreateVolume(r) => match &r.volume {
                Some(wish) if wish.options.is_empty() && wish.driver.is_none() => {
                    self.access.at(&Place::labelled(&plan.host, groups, &wish.labels))
                }
                // Options can make it any folder of the host.
                _ => on_host(),
            },
            Request::CreateNetwork(r) => match &r.network {
                Some(wish) if wish.options.is_empty() && wish.driver.is_none() => {
                    self.access.at(&Place::labelled(&plan.host, groups, &wish.labels))
                }
                _ => on_host(),
            },
            _ => match plan.object {
                ObjectKind::Container => {
                    let now = self.container(plan).map(|c| self.fleet.rights_on(self.access, c));
                    let next = planned.inputs.definition.as_ref().map(made);
                    // It may not leave the part of the fleet in which it may be changed.
                    now.unwrap_or_else(on_host).within(next.unwrap_or_else(Rights::all))
                }
                ObjectKind::Volume => self.on_asset(plan, AssetKind::Volume),
                ObjectKind::Network => self.on_asset(plan, AssetKind::Network),
                ObjectKind::Image | ObjectKind::Cache => on_host(),
            },
        }
    }

    fn container(&self, plan: &TargetPlan) -> Option<&Container> {
        self.fleet.users_of(&plan.host).find(|c| c.id == plan.id)
    }

    fn on_asset(&self, plan: &TargetPlan, kind: AssetKind) -> Rights {
        self.fleet.rights_on_asset(self.access, &plan.host, kind, &plan.name)
    }

    /// What of a target reaches beyond the part of the fleet on which the right is held, and did not before.
    fn reaches_beyond(&self, planned: &Planned) -> Option<String> {
        let plan = &planned.plan;
        let owns = |is_volume: bool, name: &str| self.owns(&plan.host, is_volume, name);
        if let Request::Connect(r) = self.request {
            return (!owns(false, &r.join.name)).then(|| format!("the network {}", shown(&r.join.name, 60)));
        }
        let next = host_access(planned.inputs.definition.as_ref()?, owns);
        let current = planned.inputs.current.as_ref().map(|c| host_access(&c.definition, owns));
        next.into_iter().find(|what| !current.as_ref().is_some_and(|current| current.contains(what)))
    }

    /// Whether a volume or a network may be used: it is not there yet, or may be changed itself.
    fn owns(&self, host: &str, is_volume: bool, name: &str) -> bool {
        let kind = if is_volume { AssetKind::Volume } else { AssetKind::Network };
        let is_there = self.fleet.assets_of(host).is_some_and(|assets| {
            if is_volume {
                assets.volumes.iter().any(|v| v.name == name)
            } else {
                assets.networks.iter().any(|n| n.name == name || n.id == name)
            }
        });
        let allowed = self.fleet.rights_on_asset(self.access, host, kind, name);
        !is_there || of_kind(self.request.kind()).iter().all(|right| allowed.has(*right))
    }
}
