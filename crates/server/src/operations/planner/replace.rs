//! Plans for containers that are replaced: edited, updated, rolled back.

use std::time::{Duration, Instant};

use futures_util::{StreamExt, TryStreamExt};
use gubernum_core::assets::bare_id;
use gubernum_core::container::Container;
use gubernum_core::definition::Definition;
use gubernum_core::definition::check::Finding;
use gubernum_core::image_name::ImageName;
use gubernum_core::plan::lifecycle::blank;
use gubernum_core::plan::make::{Replacement, UpdateImage, plan_edit, plan_rollback, plan_update};
use gubernum_core::plan::request::{EditRequest, RollbackRequest, UpdateRequest};
use gubernum_core::plan::{PINNED_LABEL, TargetPlan};
use gubernum_engine::{Defined, Engine};

use crate::images::RegistryError;
use crate::operations::OperationError;
use crate::operations::planner::deploy::unmask;
use crate::operations::planner::{Planned, Planner, StepInputs, need_targets};

/// How many containers' settings are read at once.
const AT_ONCE: usize = 8;
/// How far what is known of a container may be behind its engine, and how often it is looked at again.
const BEHIND: Duration = Duration::from_secs(3);
const LOOK_AGAIN: Duration = Duration::from_millis(100);

/// What was gathered of a container that is to be replaced.
struct Gathered {
    container: Container,
    engine: Engine,
    defined: Defined,
}

impl Gathered {
    /// Plans the replacement by what is `next`.
    fn plan(
        self,
        next: Definition,
        findings: Vec<Finding>,
        volumes: &[String],
        plan: impl FnOnce(Replacement<'_>) -> TargetPlan,
    ) -> Planned {
        let held = self.container.mounts.iter().map(|m| m.source.as_str());
        let plan = plan(Replacement {
            container: &self.container,
            current: &self.defined.definition,
            next: &next,
            findings,
            volumes: volumes.iter().map(String::as_str).chain(held).collect(),
            changes_in_place: self.engine.changes_in_place(),
        });
        let inputs =
            StepInputs { definition: Some(next), current: Some(self.defined), ..StepInputs::default() };
        Planned { plan, inputs }
    }
}

fn refused(container: &Container, why: impl Into<String>) -> Planned {
    let mut plan = blank(container);
    plan.refuse(why);
    plan.into()
}

/// Plans each of these, a few at once, in their order.
async fn each<Planning>(
    targets: Vec<Container>,
    plan: impl Fn(Container) -> Planning,
) -> Result<Vec<Planned>, OperationError>
where
    Planning: Future<Output = Result<Planned, OperationError>>,
{
    futures_util::stream::iter(targets).map(plan).buffered(AT_ONCE).try_collect().await
}

impl Planner {
    /// The one container that a reference means, with its definition.
    pub(in crate::operations) async fn defined(
        &self,
        reference: &str,
    ) -> Result<(Container, Defined), OperationError> {
        let until = Instant::now() + BEHIND;
        loop {
            let found = self.resolve(&[reference.to_owned()])?;
            let [container] = &found[..] else {
                return Err(OperationError::invalid("/targets/0", "name one container, without '*'"));
            };
            match self.links.engine(&container.host)?.defined(&container.id).await {
                Ok(defined) => return Ok((container.clone(), defined)),
                // It was replaced a moment ago, and the word of that is still on its way.
                Err(e) if e.status() == Some(404) && Instant::now() < until => {
                    tokio::time::sleep(LOOK_AGAIN).await;
                }
                Err(error) => return Err(error.into()),
            }
        }
    }

    /// The settings of a container; why not, in words.
    async fn gather(&self, container: Container) -> Result<Gathered, Planned> {
        let engine = match self.links.engine(&container.host) {
            Ok(engine) => engine,
            Err(error) => return Err(refused(&container, error.to_string())),
        };
        match engine.defined(&container.id).await {
            Ok(defined) => Ok(Gathered { container, engine, defined }),
            Err(error) => Err(refused(&container, error.to_string())),
        }
    }

    pub(super) async fn edit(
        &self,
        request: &EditRequest,
        references: &[String],
    ) -> Result<Vec<Planned>, OperationError> {
        need_targets(references)?;
        if references.len() > 1 {
            return Err(OperationError::invalid("/targets", "only one container can be edited at a time"));
        }
        let (container, defined) = self.defined(&references[0]).await?;
        let mut next = (*request.definition).clone();
        if next.name.is_empty() {
            next.name.clone_from(&container.name);
        }
        unmask(&mut next, Some(&defined.definition))?;
        let engine = self.links.engine(&container.host)?;
        let findings = self.checker.check(&container.host, &engine, &next, Some(&container)).await;
        let volumes = self.volumes_of(&container.host);
        let gathered = Gathered { container, engine, defined };
        Ok(vec![gathered.plan(next, findings, &volumes, |with| plan_edit(request, with))])
    }

    pub(super) async fn update(
        &self,
        request: &UpdateRequest,
        references: &[String],
    ) -> Result<Vec<Planned>, OperationError> {
        let targets = self.resolve(references)?;
        each(targets, async |container| Ok(self.update_one(request, container).await)).await
    }

    async fn update_one(&self, request: &UpdateRequest, container: Container) -> Planned {
        let gathered = match self.gather(container).await {
            Ok(gathered) => gathered,
            Err(refused) => return refused,
        };
        let mut next = gathered.defined.definition.clone();
        if let Some(image) = &request.image {
            next.image.clone_from(image);
        }
        let mut image =
            UpdateImage { is_newest: None, pinned: pinned(request, &gathered.container, &gathered.defined) };
        if image.pinned.is_none() {
            match self.registries.meaning(&next.image, true).await {
                Ok(meaning) => {
                    image.is_newest = self.runs(&gathered.container, &next.image, &meaning.digest);
                }
                Err(error @ RegistryError::Missing { .. }) => {
                    return refused(&gathered.container, error.to_string());
                }
                // The host may reach what the service does not.
                Err(_) => {}
            }
        }
        let volumes = self.volumes_of(&gathered.container.host);
        gathered.plan(next, Vec::new(), &volumes, |with| plan_update(request, with, image))
    }

    /// Whether a container runs the image that a digest of its repository stands for; `None` when the host does not
    /// tell digests.
    pub(crate) fn runs(&self, container: &Container, image: &str, digest: &str) -> Option<bool> {
        let name: ImageName = image.parse().ok()?;
        self.hub.look(|fleet| {
            fleet.assets_of(&container.host)?.is_image(bare_id(&container.image_id), &name, digest)
        })
    }

    pub(super) async fn rollback(
        &self,
        request: &RollbackRequest,
        references: &[String],
    ) -> Result<Vec<Planned>, OperationError> {
        let targets = self.resolve(references)?;
        each(targets, async |container| self.rollback_one(request, container).await).await
    }

    async fn rollback_one(
        &self,
        request: &RollbackRequest,
        container: Container,
    ) -> Result<Planned, OperationError> {
        let (host, name, earlier) = (container.host.clone(), container.name.clone(), request.earlier);
        let state = self.db.run(move |store| store.earlier_state(&host, &name, earlier)).await?;
        let Some((mut next, image_id)) = state else {
            return Ok(refused(&container, "it has no earlier revision to roll back to"));
        };
        let gathered = match self.gather(container).await {
            Ok(gathered) => gathered,
            Err(refused) => return Ok(refused),
        };
        let (host, name) = (gathered.container.host.clone(), &gathered.container.name);
        next.name.clone_from(name);
        let there = self.hub.look(|fleet| {
            let images = fleet.assets_of(&host).map_or(&[][..], |a| &a.images);
            images.iter().any(|i| i.id == bare_id(&image_id))
        });
        let volumes = self.volumes_of(&host);
        let mut planned = gathered.plan(next, Vec::new(), &volumes, |with| plan_rollback(request, with));
        planned.inputs.image_id = there.then_some(image_id);
        Ok(planned)
    }
}

/// Why an update leaves a container alone.
fn pinned(request: &UpdateRequest, container: &Container, defined: &Defined) -> Option<String> {
    if container.labels.get(PINNED_LABEL).is_some_and(|v| v != "false") {
        return Some(format!("it is pinned by its label '{PINNED_LABEL}'; remove the label to update it"));
    }
    if request.image.is_some() {
        return None;
    }
    match defined.definition.image.parse::<ImageName>() {
        Ok(name) if name.is_pinned() => {
            Some("its image is pinned to a digest; give another image to update it".to_owned())
        }
        Err(_) => Some("its image is untagged, so no newer one can be looked up".to_owned()),
        Ok(_) => None,
    }
}
