//! From a request to plans: what is meant, what only the engines can tell of it, and then the pure planning in
//! core. With each plan comes its work: what it takes to carry it out that must not be shown.

use std::collections::{BTreeMap, BTreeSet};
use std::time::{Duration, Instant};

use futures_util::StreamExt;
use gubernum_core::assets::bare_id;
use gubernum_core::container::Container;
use gubernum_core::definition::Definition;
use gubernum_core::fleet::Fleet;
use gubernum_core::image_name::{ImageName, same};
use gubernum_core::plan::make::{Making, plan_make};
use gubernum_core::plan::things::{Thing, plan_thing};
use gubernum_core::plan::{Kind, ObjectKind, PINNED_LABEL, Request, TargetPlan, plan};
use gubernum_core::reference::wildcard;
use gubernum_core::text::shown;
use gubernum_engine::{Defined, Engine};

use super::{MOST_TARGETS, Runner};
use crate::http::problem::ApiError;
use crate::links::Link;

/// How many containers' settings are read at once.
const AT_ONCE: usize = 8;
/// How far what is known of a container may be behind its engine, and how often it is looked at again.
const BEHIND: Duration = Duration::from_secs(3);
const LOOK_AGAIN: Duration = Duration::from_millis(100);

/// What it takes to carry a plan out, besides its steps. May hold secrets: never shown, never written in the clear.
#[derive(Default, Clone)]
pub(crate) struct Work {
    /// What the container is to be.
    pub(crate) definition: Option<Definition>,
    /// What it is now.
    pub(crate) current: Option<Defined>,
    /// The image it must be made from, when its name means another by now.
    pub(crate) image_id: Option<String>,
}

/// A plan with its work.
pub(crate) type Prepared = (TargetPlan, Work);

impl Runner {
    /// Plans a request.
    pub(super) async fn prepare(
        &self,
        request: &Request,
        references: &[String],
    ) -> Result<Vec<Prepared>, ApiError> {
        request.check().map_err(ApiError::from)?;
        let mut prepared = match request.kind {
            Kind::Deploy => self.deploys(request, references).await?,
            Kind::Edit => vec![self.edit(request, references).await?],
            Kind::Update => self.updates(request, references).await?,
            Kind::Rollback => self.rollbacks(request, references).await?,
            Kind::Tidy => self.tidying(request).await?,
            kind if kind.is_of_containers() => {
                let targets = self.resolve(references)?;
                let plans =
                    plan(request, &targets).into_iter().map(|p| (rolling(request, p), Work::default()));
                plans.collect()
            }
            _ => self.things(request, references).await?,
        };
        let busy = self.busy.lock();
        for (plan, _) in &mut prepared {
            if let Some(id) = busy.get(&super::busy_key(plan.object, &plan.host, &plan.id, &plan.name)) {
                plan.refuse(self.busy_words(*id));
            }
        }
        Ok(prepared)
    }

    fn reachable(&self, host: &str) -> Result<Engine, String> {
        self.links.get(host).as_ref().and_then(Link::live).ok_or_else(|| self.out_of_reach(host))
    }

    /// Why a host cannot be asked, in words.
    pub(super) fn out_of_reach(&self, host: &str) -> String {
        let why = self.hub.look(|fleet| {
            fleet.host(host).map(|h| match &h.problem {
                Some(problem) => format!("the host is out of reach: {}", problem.sentence),
                None => "the host has not been reached yet; try again in a moment".to_owned(),
            })
        });
        why.unwrap_or_else(|| "the host was taken out of the fleet".to_owned())
    }

    /// The hosts that a pattern means.
    fn hosts(&self, pattern: &str, at: usize) -> Result<Vec<String>, ApiError> {
        let found: Vec<String> = self
            .hub
            .look(|fleet| fleet.hosts().map(|h| h.name.clone()).filter(|h| wildcard(pattern, h)).collect());
        if found.is_empty() {
            let text = format!("there is no host `{}` in the fleet", shown(pattern, 60));
            return Err(ApiError::not_found(text).at(format!("/targets/{at}")));
        }
        Ok(found)
    }

    /// Takes `host/name` apart for things that need not be there yet.
    fn host_and_name(&self, reference: &str, at: usize) -> Result<(Vec<String>, String), ApiError> {
        match reference.split_once('/') {
            Some((host, name)) if !host.is_empty() && !name.is_empty() => {
                Ok((self.hosts(host, at)?, name.to_owned()))
            }
            _ => {
                let text = format!("`{}` does not say where: write `host/name`", shown(reference, 80));
                Err(ApiError::invalid(format!("/targets/{at}"), text))
            }
        }
    }

    fn need_targets(references: &[String]) -> Result<(), ApiError> {
        if references.is_empty() {
            return Err(ApiError::invalid(
                "/targets",
                "name at least one target, for example `packhouse/frost-api`",
            ));
        }
        Ok(())
    }

    async fn deploys(&self, request: &Request, references: &[String]) -> Result<Vec<Prepared>, ApiError> {
        Self::need_targets(references)?;
        let Some(wish) = &request.definition else { return Ok(Vec::new()) };
        let mut definition = (**wish).clone();
        let from = match &request.from {
            Some(reference) => Some(self.defined_of(reference).await?.1.definition),
            None => None,
        };
        unmask(&mut definition, from.as_ref())?;
        let mut prepared = Vec::new();
        let mut seen = BTreeSet::new();
        for (n, reference) in references.iter().enumerate() {
            let (hosts, name) = if reference.contains('/') {
                self.host_and_name(reference, n)?
            } else {
                (self.hosts(reference, n)?, definition.name.clone())
            };
            for host in hosts {
                if !seen.insert((host.clone(), name.clone())) {
                    continue;
                }
                let next = Definition { name: name.clone(), ..definition.clone() };
                prepared.push(self.deploy_one(request, &host, next).await);
            }
        }
        Ok(prepared)
    }

    async fn deploy_one(&self, request: &Request, host: &str, next: Definition) -> Prepared {
        let engine = match self.reachable(host) {
            Ok(engine) => engine,
            Err(why) => {
                let mut plan = TargetPlan { host: host.to_owned(), name: next.name, ..TargetPlan::default() };
                plan.refuse(why);
                return (plan, Work::default());
            }
        };
        let findings = self.judge(host, &engine, &next, None).await;
        let volumes = self.volumes_of(host);
        let making = Making {
            host,
            replaces: None,
            next: &next,
            findings,
            volumes: volumes.iter().map(String::as_str).collect(),
            changes_in_place: false,
            is_newest: None,
            pinned: None,
        };
        let plan = plan_make(request, making);
        (plan, Work { definition: Some(next), ..Work::default() })
    }

    fn volumes_of(&self, host: &str) -> Vec<String> {
        self.hub.look(|fleet| {
            fleet
                .assets_of(host)
                .map(|a| a.volumes.iter().map(|v| v.name.clone()).collect())
                .unwrap_or_default()
        })
    }

    /// The one container that a reference means, with its definition.
    pub(crate) async fn defined_of(&self, reference: &str) -> Result<(Container, Defined), ApiError> {
        let until = Instant::now() + BEHIND;
        loop {
            let found = self.resolve(&[reference.to_owned()])?;
            let [container] = &found[..] else {
                return Err(ApiError::invalid("/targets/0", "name one container, without `*`"));
            };
            let engine = self.reachable(&container.host).map_err(|why| {
                ApiError::new("engine-unreachable", "The engine cannot be reached", 502, why)
            })?;
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

    async fn edit(&self, request: &Request, references: &[String]) -> Result<Prepared, ApiError> {
        Self::need_targets(references)?;
        if references.len() > 1 {
            return Err(ApiError::invalid("/targets", "one container is edited at a time"));
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
    ) -> Result<Prepared, ApiError> {
        let engine = self
            .reachable(&container.host)
            .map_err(|why| ApiError::new("engine-unreachable", "The engine cannot be reached", 502, why))?;
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

    async fn updates(&self, request: &Request, references: &[String]) -> Result<Vec<Prepared>, ApiError> {
        let targets = self.resolve(references)?;
        let prepared = futures_util::stream::iter(targets)
            .map(|c| async move { self.update_one(request, c).await })
            .buffered(AT_ONCE)
            .collect::<Vec<_>>()
            .await;
        prepared.into_iter().collect()
    }

    async fn update_one(&self, request: &Request, container: Container) -> Result<Prepared, ApiError> {
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
            Some(Err(error @ crate::registry::RegistryError::Missing { .. })) => Some(error.to_string()),
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
        self.hub.look(|fleet| runs_digest(fleet, container, &name, digest))
    }

    async fn rollbacks(&self, request: &Request, references: &[String]) -> Result<Vec<Prepared>, ApiError> {
        let targets = self.resolve(references)?;
        let mut prepared = Vec::new();
        for container in targets {
            let (host, name, earlier) = (container.host.clone(), container.name.clone(), request.earlier);
            let state = self.db.run(move |store| store.earlier_state(&host, &name, earlier)).await?;
            let mut plan = TargetPlan {
                host: container.host.clone(),
                id: container.id.clone(),
                name: container.name.clone(),
                ..TargetPlan::default()
            };
            let Some((mut next, image_id)) = state else {
                plan.refuse("no earlier state of it is kept, so there is nothing to go back to");
                prepared.push((plan, Work::default()));
                continue;
            };
            let defined = match self.reachable(&container.host) {
                Ok(engine) => engine.defined(&container.id).await.map_err(|e| e.to_string()),
                Err(why) => Err(why),
            };
            let defined = match defined {
                Ok(defined) => defined,
                Err(why) => {
                    plan.refuse(why);
                    prepared.push((plan, Work::default()));
                    continue;
                }
            };
            next.name.clone_from(&container.name);
            // Its anonymous volumes are what they are now.
            let there = self.hub.look(|fleet| {
                let images = fleet.assets_of(&container.host).map_or(&[][..], |a| &a.images);
                images.iter().any(|i| i.id == bare_id(&image_id))
            });
            let image_id = there.then_some(image_id);
            prepared.push(self.replaced(request, container, defined, next, None, image_id).await?);
        }
        Ok(prepared)
    }

    async fn things(&self, request: &Request, references: &[String]) -> Result<Vec<Prepared>, ApiError> {
        Self::need_targets(references)?;
        let object = request.kind.object();
        let mut found: BTreeMap<(String, String), Thing> = BTreeMap::new();
        for (n, reference) in references.iter().enumerate() {
            let (hosts, name) = match request.kind {
                Kind::Pull | Kind::Push | Kind::Tag => {
                    (self.hosts(reference, n)?, request.image.clone().unwrap_or_default())
                }
                _ => self.host_and_name(reference, n)?,
            };
            self.hub.look(|fleet| {
                for host in hosts {
                    for thing in things_called(fleet, &host, object, &name) {
                        found.insert((host.clone(), thing.name.clone()), thing);
                    }
                }
            });
            if found.len() > MOST_TARGETS {
                let text = format!("{} targets are too many, the most is {MOST_TARGETS}", found.len());
                return Err(ApiError::invalid("/targets", text));
            }
        }
        let mut found: Vec<Thing> = found.into_values().collect();
        for thing in found.iter_mut().filter(|t| !t.there && t.object == ObjectKind::Image) {
            // What was fetched a moment ago may not be in the lists yet.
            if let Ok(engine) = self.reachable(&thing.host)
                && let Ok(Some(id)) = engine.image_id_of(&thing.name).await
            {
                (thing.there, thing.id) = (true, id);
            }
        }
        Ok(found.iter().map(|t| (plan_thing(request, t), Work::default())).collect())
    }
}

/// A restart or start that goes one after another waits for the health of each.
fn rolling(request: &Request, mut plan: TargetPlan) -> TargetPlan {
    let waits = matches!(request.kind, Kind::Start | Kind::Restart) && request.rolling.is_some();
    if waits && !plan.steps.is_empty() {
        let step =
            gubernum_core::plan::Step::Watch { seconds: gubernum_core::plan::make::DEFAULT_WATCH_SECONDS };
        plan.course.push("Wait until it is healthy before the next one.".to_owned());
        plan.steps.push(step);
    }
    plan
}

fn unmask(definition: &mut Definition, from: Option<&Definition>) -> Result<(), ApiError> {
    definition.unmask(from).map_err(|(n, name)| {
        let text = format!("the value of `{}` is hidden and not known; write it out", shown(&name, 60));
        ApiError::invalid(format!("/definition/environment/{n}/value"), text)
    })
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
        Err(_) => {
            Some("it was made from an image without a name, so no newer one can be asked for".to_owned())
        }
        Ok(_) => None,
    }
}

fn runs_digest(fleet: &Fleet, container: &Container, name: &ImageName, digest: &str) -> Option<bool> {
    let images = &fleet.assets_of(&container.host)?.images;
    let image = images.iter().find(|i| i.id == bare_id(&container.image_id))?;
    let of_repository: Vec<&str> = image
        .digests
        .iter()
        .filter(|d| d.parse::<ImageName>().is_ok_and(|d| d.same_repository(name)))
        .filter_map(|d| d.split_once('@').map(|(_, d)| d))
        .collect();
    if of_repository.is_empty() {
        return None;
    }
    Some(of_repository.contains(&digest))
}

/// The images, volumes or networks of a host that a name with `*` means; one that is not there when it has none.
fn things_called(fleet: &Fleet, host: &str, object: ObjectKind, name: &str) -> Vec<Thing> {
    let Some(assets) = fleet.assets_of(host) else { return Vec::new() };
    let users = |wanted: &dyn Fn(&Container) -> bool| -> Vec<(String, bool)> {
        fleet.containers_of(host).filter(|c| wanted(c)).map(|c| (c.reference(), c.state.is_alive())).collect()
    };
    let base = Thing { host: host.to_owned(), object, name: name.to_owned(), ..Thing::default() };
    let mut found: Vec<Thing> = match object {
        ObjectKind::Image => assets
            .images
            .iter()
            .filter_map(|i| {
                let by_id = name.len() >= 8 && i.id.starts_with(bare_id(name));
                let tag = i.tags.iter().find(|t| same(t, name) || (name.contains('*') && wildcard(name, t)));
                let called =
                    tag.cloned().or_else(|| by_id.then(|| i.tags.first().cloned().unwrap_or_default()))?;
                Some(Thing {
                    id: i.id.clone(),
                    name: if called.is_empty() { i.id.clone() } else { called.clone() },
                    there: true,
                    users: users(&|c| bare_id(&c.image_id) == i.id),
                    other_names: i.tags.iter().filter(|t| **t != called).cloned().collect(),
                    size: Some(i.size.saturating_sub(i.shared.unwrap_or(0))),
                    ..base.clone()
                })
            })
            .collect(),
        ObjectKind::Volume => assets
            .volumes
            .iter()
            .filter(|v| wildcard(name, &v.name))
            .map(|v| Thing {
                id: v.name.clone(),
                name: v.name.clone(),
                there: true,
                users: users(&|c| c.mounts.iter().any(|m| m.kind == "volume" && m.source == v.name)),
                size: v.size,
                ..base.clone()
            })
            .collect(),
        ObjectKind::Network => assets
            .networks
            .iter()
            .filter(|n| wildcard(name, &n.name) || n.id == name)
            .map(|n| Thing {
                id: n.id.clone(),
                name: n.name.clone(),
                there: true,
                users: users(&|c| c.networks.contains(&n.name)),
                built_in: n.is_built_in(),
                ..base.clone()
            })
            .collect(),
        _ => Vec::new(),
    };
    if found.is_empty() && !name.contains('*') {
        found.push(base);
    }
    found
}
