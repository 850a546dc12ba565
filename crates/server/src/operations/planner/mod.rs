//! From a request to plans: what is meant, what only engines and registries can tell of it is gathered here, and then the
//! pure planning in core. With each plan come the inputs of its steps.
//!
//! New containers are in `deploy`, those that take another's place in `replace`, images, volumes and networks in `objects`,
//! what is unused in `tidy`, whole stacks in `stack`, what goes to another host in `moving`, runs of jobs in
//! `run`.

mod deploy;
mod job_changes;
mod moving;
mod objects;
mod replace;
mod run;
mod stack;
mod tidy;

pub(in crate::operations) use job_changes::JobChange;

use std::collections::BTreeMap;
use std::sync::Arc;

use gubernum_core::compose::model::FailureAction;
use gubernum_core::container::Container;
use gubernum_core::definition::Definition;
use gubernum_core::plan::lifecycle::{
    plan_connect, plan_disconnect, plan_kill, plan_pause, plan_remove, plan_restart, plan_resume, plan_start,
    plan_stop,
};
use gubernum_core::plan::objects::{
    plan_create_network, plan_create_volume, plan_pull, plan_push, plan_remove_image, plan_remove_network,
    plan_remove_volume, plan_tag,
};
use gubernum_core::plan::{ObjectKind, Request, TargetPlan};
use gubernum_core::reference::{Reference, wildcard};
use gubernum_core::rights::Access;
use gubernum_core::stack::PlacedFile;
use gubernum_core::stack::build::DesiredBuild;
use gubernum_core::text::shown;
use gubernum_engine::Defined;

use crate::clock::Clock;
use crate::fleet::{Hub, Links, View};
use crate::images::Registries;
use crate::operations::definition_checker::DefinitionChecker;
use crate::operations::{MOST_REFERENCES, MOST_TARGETS, OperationError};
use crate::storage::Db;

/// What the steps of a plan take. May hold secrets: never shown, never written in the clear.
#[derive(Default, Clone)]
pub(super) struct StepInputs {
    /// The container's settings.
    pub(super) definition: Option<Definition>,
    /// What it is now.
    pub(super) current: Option<Defined>,
    /// The image it must be made from, when its name means another by now.
    pub(super) image_id: Option<String>,
    /// Configs and secrets that are put into it.
    pub(super) files: Vec<PlacedFile>,
    /// How its image is built.
    pub(super) build: Option<DesiredBuild>,
    /// What is done when it fails, where a stack's files say.
    pub(super) on_failure: Option<FailureAction>,
}

/// A plan with the inputs of its steps.
pub(super) struct Planned {
    pub(super) plan: TargetPlan,
    pub(super) inputs: StepInputs,
}

impl From<TargetPlan> for Planned {
    fn from(plan: TargetPlan) -> Self {
        Self { plan, inputs: StepInputs::default() }
    }
}

/// Makes plans of requests. Changes nothing.
#[derive(Clone)]
pub(super) struct Planner {
    /// The whole fleet: what is in the way is in the way, whoever sees it.
    pub(super) hub: Arc<Hub>,
    /// What the caller sees: only that can be named.
    pub(super) view: View,
    pub(super) links: Arc<Links>,
    pub(super) db: Db,
    pub(super) clock: Clock,
    pub(super) registries: Arc<Registries>,
    pub(super) checker: Arc<DefinitionChecker>,
}

impl Planner {
    /// The same for somebody who sees less.
    pub(super) fn through(&self, access: &Arc<Access>) -> Self {
        Self { view: View::new(self.hub.clone(), access.clone()), ..self.clone() }
    }

    /// Plans a request for what its references mean.
    ///
    /// # Errors
    /// When the request is invalid as a whole; what goes wrong with one target is a refusal in its plan.
    pub(super) async fn plan(
        &self,
        request: &Request,
        references: &[String],
    ) -> Result<Vec<Planned>, OperationError> {
        request.check()?;
        match request {
            Request::Start(r) => self.containers(references, |c| plan_start(r, c)),
            Request::Stop(r) => self.containers(references, |c| plan_stop(r, c)),
            Request::Restart(r) => self.containers(references, |c| plan_restart(r, c)),
            Request::Kill(r) => self.containers(references, |c| plan_kill(r, c)),
            Request::Pause => self.containers(references, plan_pause),
            Request::Resume => self.containers(references, plan_resume),
            Request::Remove(r) => self.containers(references, |c| plan_remove(r, c)),
            Request::Connect(r) => self.containers(references, |c| plan_connect(r, c)),
            Request::Disconnect(r) => self.containers(references, |c| plan_disconnect(r, c)),
            Request::Deploy(r) => self.deploy(r, references).await,
            Request::Edit(r) => self.edit(r, references).await,
            Request::Update(r) => self.update(r, references).await,
            Request::Rollback(r) => self.rollback(r, references).await,
            Request::Pull(r) => self.image_on_hosts(references, &r.image, |t| plan_pull(r, t)).await,
            Request::Push(r) => self.image_on_hosts(references, &r.image, |t| plan_push(r, t)).await,
            Request::Tag(r) => self.image_on_hosts(references, &r.image, |t| plan_tag(r, t)).await,
            Request::RemoveImage(r) => {
                self.objects(references, ObjectKind::Image, |t| plan_remove_image(r, t)).await
            }
            Request::CreateVolume(r) => {
                self.objects(references, ObjectKind::Volume, |t| plan_create_volume(r, t)).await
            }
            Request::RemoveVolume(r) => {
                self.objects(references, ObjectKind::Volume, |t| plan_remove_volume(r, t)).await
            }
            Request::CreateNetwork(r) => {
                self.objects(references, ObjectKind::Network, |t| plan_create_network(r, t)).await
            }
            Request::RemoveNetwork => {
                self.objects(references, ObjectKind::Network, plan_remove_network).await
            }
            Request::Tidy(r) => self.tidy(r).await,
            Request::Apply(r) => self.apply(r, references).await,
            Request::RemoveStack(r) => self.remove_stack(r, references).await,
            Request::Move(r) => self.move_or_clone(r, true, references).await,
            Request::Clone(r) => self.move_or_clone(r, false, references).await,
            Request::Run(r) => self.run_job(r, references).await,
        }
    }

    /// Plans for containers that are there.
    fn containers(
        &self,
        references: &[String],
        plan: impl Fn(&Container) -> TargetPlan,
    ) -> Result<Vec<Planned>, OperationError> {
        Ok(self.resolve(references)?.iter().map(|c| plan(c).into()).collect())
    }

    /// The containers that references mean, each once.
    fn resolve(&self, references: &[String]) -> Result<Vec<Container>, OperationError> {
        need_targets(references)?;
        if references.len() > MOST_REFERENCES {
            let text =
                format!("{} references; the limit is {MOST_REFERENCES}. Use '*' instead", references.len());
            return Err(OperationError::invalid("/targets", text));
        }
        self.view.look(|fleet| {
            let mut found: BTreeMap<(String, String), &Container> = BTreeMap::new();
            for (n, text) in references.iter().enumerate() {
                let matched = text.parse::<Reference>().and_then(|r| r.resolve(fleet.containers()));
                let matched = matched.map_err(|source| OperationError::Reference { at: n, source })?;
                found.extend(matched.into_iter().map(|c| ((c.host.clone(), c.name.clone()), c)));
            }
            limit_targets(found.len())?;
            Ok(found.into_values().cloned().collect())
        })
    }

    /// The hosts that a pattern means.
    fn hosts(&self, pattern: &str, at: usize) -> Result<Vec<String>, OperationError> {
        let found: Vec<String> = self
            .view
            .look(|fleet| fleet.hosts().map(|h| h.name.clone()).filter(|h| wildcard(pattern, h)).collect());
        if found.is_empty() {
            let sentence = format!("no host '{}' in the fleet", shown(pattern, 60));
            return Err(OperationError::NotFound { field: Some(format!("/targets/{at}")), sentence });
        }
        Ok(found)
    }

    /// Splits `host/name` for objects that may not exist yet.
    fn host_and_name(&self, reference: &str, at: usize) -> Result<(Vec<String>, String), OperationError> {
        match reference.split_once('/') {
            Some((host, name)) if !host.is_empty() && !name.is_empty() => {
                Ok((self.hosts(host, at)?, name.to_owned()))
            }
            _ => {
                let text = format!("'{}' names no host: write 'host/name'", shown(reference, 80));
                Err(OperationError::invalid(format!("/targets/{at}"), text))
            }
        }
    }
}

fn need_targets(references: &[String]) -> Result<(), OperationError> {
    if references.is_empty() {
        return Err(OperationError::invalid(
            "/targets",
            "name at least one target, for example 'packhouse/frost-api'",
        ));
    }
    Ok(())
}

fn limit_targets(found: usize) -> Result<(), OperationError> {
    if found > MOST_TARGETS {
        let text = format!("{found} targets; the limit is {MOST_TARGETS}");
        return Err(OperationError::invalid("/targets", text));
    }
    Ok(())
}
