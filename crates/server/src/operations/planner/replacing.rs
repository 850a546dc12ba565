//! Plans for containers that take another's place: edited, updated, taken back to an earlier state.

use std::time::{Duration, Instant};

use futures_util::{StreamExt, TryStreamExt};
use gubernum_core::assets::bare_id;
use gubernum_core::container::Container;
use gubernum_core::definition::Definition;
use gubernum_core::image_name::ImageName;
use gubernum_core::plan::make::{Making, plan_make};
use gubernum_core::plan::{Kind, PINNED_LABEL, Request, TargetPlan};
use gubernum_engine::Defined;

use crate::operations::OperationError;
use crate::operations::planner::making::unmask;
use crate::operations::planner::{Prepared, Runner, Work};

/// How many containers' settings are read at once.
const AT_ONCE: usize = 8;
/// How far what is known of a container may be behind its engine, and how often it is looked at again.
const BEHIND: Duration = Duration::from_secs(3);
const LOOK_AGAIN: Duration = Duration::from_millis(100);

/// Plans each of these, a few at once, in their order.
async fn planned<Planning>(
    targets: Vec<Container>,
    plan: impl Fn(Container) -> Planning,
) -> Result<Vec<Prepared>, OperationError>
where
    Planning: Future<Output = Result<Prepared, OperationError>>,
{
    futures_util::stream::iter(targets).map(plan).buffered(AT_ONCE).try_collect().await
}

impl Runner {
    /// The one container that a reference means, with its definition.
    pub(crate) async fn defined_of(&self, reference: &str) -> Result<(Container, Defined), OperationError> {
        let until = Instant::now() + BEHIND;
        loop {
            let found = self.resolve(&[reference.to_owned()])?;
            let [container] = &found[..] else {
                return Err(OperationError::invalid("/targets/0", "name one container, without `*`"));
            };
            let engine = self.reachable(&container.host).map_err(OperationError::HostUnreachable)?;
            match engine.defined(&container.id).await {
                Ok(defined) => return Ok((container.clone(), defined)),
                // It was replaced a moment ago, and the word of that is still on its way.
                Err(e) if e.status() == Some(404) && Instant::now() < until => {
                    tokio::time::sleep(LOOK_AGAIN).await;
                }
                Err(error) => return Err(error.into()),
            }
        }
    }

    pub(super) async fn edit(
        &self,
        request: &Request,
        references: &[String],
    ) -> Result<Prepared, OperationError> {
        Self::need_targets(references)?;
        if references.len() > 1 {
            return Err(OperationError::invalid("/targets", "one container is edited at a time"));
        }
        let (container, defined) = self.defined_of(&references[0]).await?;
        let Some(wish) = &request.definition else { return Ok((TargetPlan::default(), Work::default())) };
        let mut next = (**wish).clone();
        if next.name.is_empty() {
            next.name.clone_from(&container.name);
        }
        unmask(&mut next, Some(&defined.definition))?;
        self.replaced(request, container, defined, next, None, None).await
    }

    async fn replaced(
        &self,
        request: &Request,
        container: Container,
        defined: Defined,
        next: Definition,
        is_newest: Option<bool>,
        image_id: Option<String>,
    ) -> Result<Prepared, OperationError> {
        let engine = self.reachable(&container.host).map_err(OperationError::HostUnreachable)?;
        let findings = match request.kind {
            // An earlier state and a newer image were fine before: only what can have changed is looked at.
            Kind::Edit => self.judge(&container.host, &engine, &next, Some(&container)).await,
            _ => Vec::new(),
        };
        let volumes = self.volumes_of(&container.host);
        let held: Vec<String> = container.mounts.iter().map(|m| m.source.clone()).collect();
        let making = Making {
            host: &container.host,
            replaces: Some((&container, &defined.definition)),
            next: &next,
            findings,
            volumes: volumes.iter().chain(&held).map(String::as_str).collect(),
            changes_in_place: engine.changes_in_place(),
            is_newest,
            pinned: (request.kind == Kind::Update).then(|| pinned(request, &container, &defined)).flatten(),
        };
        let plan = plan_make(request, making);
        Ok((plan, Work { definition: Some(next), current: Some(defined), image_id }))
    }

    pub(super) async fn updates(
        &self,
        request: &Request,
        references: &[String],
    ) -> Result<Vec<Prepared>, OperationError> {
        let targets = self.resolve(references)?;
        planned(targets, |container| self.update_one(request, container)).await
    }

    async fn update_one(&self, request: &Request, container: Container) -> Result<Prepared, OperationError> {
        let host = container.host.clone();
        let refuse = |why: String| {
            let mut plan = TargetPlan {
                host: host.clone(),
                id: container.id.clone(),
                name: container.name.clone(),
                ..TargetPlan::default()
            };
            plan.refuse(why);
            Ok((plan, Work::default()))
        };
        let engine = match self.reachable(&container.host) {
            Ok(engine) => engine,
            Err(why) => return refuse(why),
        };
        let defined = match engine.defined(&container.id).await {
            Ok(defined) => defined,
            Err(error) => return refuse(error.to_string()),
        };
        let mut next = defined.definition.clone();
        if let Some(image) = &request.image {
            next.image.clone_from(image);
        }
        let meaning = if pinned(request, &container, &defined).is_some() {
            None
        } else {
            Some(self.registries.meaning(&next.image, true).await)
        };
        let is_newest = match &meaning {
            Some(Ok(meaning)) => self.runs(&container, &next.image, &meaning.digest),
            _ => None,
        };
        let missing = match &meaning {
            Some(Err(error @ crate::images::RegistryError::Missing { .. })) => Some(error.to_string()),
            _ => None,
        };
        if let Some(why) = missing {
            return refuse(why);
        }
        self.replaced(request, container, defined, next, is_newest, None).await
    }

    /// Whether a container runs the image that a digest of its repository stands for; `None` when the host does not
    /// tell digests.
    pub(crate) fn runs(&self, container: &Container, image: &str, digest: &str) -> Option<bool> {
        let name: ImageName = image.parse().ok()?;
        self.hub.look(|fleet| {
            fleet.assets_of(&container.host)?.is_image(bare_id(&container.image_id), &name, digest)
        })
    }

    pub(super) async fn rollbacks(
        &self,
        request: &Request,
        references: &[String],
    ) -> Result<Vec<Prepared>, OperationError> {
        let targets = self.resolve(references)?;
        planned(targets, |container| self.rollback_one(request, container)).await
    }

    async fn rollback_one(
        &self,
        request: &Request,
        container: Container,
    ) -> Result<Prepared, OperationError> {
        let (host, name, earlier) = (container.host.clone(), container.name.clone(), request.earlier);
        let state = self.db.run(move |store| store.earlier_state(&host, &name, earlier)).await?;
        let refuse = |why: String| {
            let mut plan = TargetPlan {
                host: container.host.clone(),
                id: container.id.clone(),
                name: container.name.clone(),
                ..TargetPlan::default()
            };
            plan.refuse(why);
            Ok((plan, Work::default()))
        };
        let Some((mut next, image_id)) = state else {
            return refuse("no earlier state of it is kept, so there is nothing to go back to".to_owned());
        };
        let defined = match self.reachable(&container.host) {
            Ok(engine) => engine.defined(&container.id).await.map_err(|e| e.to_string()),
            Err(why) => Err(why),
        };
        let defined = match defined {
            Ok(defined) => defined,
            Err(why) => return refuse(why),
        };
        next.name.clone_from(&container.name);
        // Its anonymous volumes are what they are now.
        let there = self.hub.look(|fleet| {
            let images = fleet.assets_of(&container.host).map_or(&[][..], |a| &a.images);
            images.iter().any(|i| i.id == bare_id(&image_id))
        });
        let image_id = there.then_some(image_id);
        self.replaced(request, container, defined, next, None, image_id).await
    }
}

/// Why an update leaves a container alone.
fn pinned(request: &Request, container: &Container, defined: &Defined) -> Option<String> {
    if container.labels.get(PINNED_LABEL).is_some_and(|v| v != "false") {
        return Some(format!("it is pinned by its label `{PINNED_LABEL}`; take the label away to update it"));
    }
    if request.image.is_some() {
        return None;
    }
    match defined.definition.image.parse::<ImageName>() {
        Ok(name) if name.is_pinned() => {
            Some("it is pinned to a digest, which never changes; give another image to update it".to_owned())
        }
        Err(_) => Some("its image is untagged, so no newer one can be looked up".to_owned()),
        Ok(_) => None,
    }
}
