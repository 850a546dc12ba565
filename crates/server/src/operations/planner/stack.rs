//! Plans for whole stacks: the files are read, the present state is gathered from the host, and core compares the
//! two.

use std::collections::BTreeMap;

use futures_util::StreamExt;
use gubernum_core::assets::{Image, bare_id};
use gubernum_core::compose::FileError;
use gubernum_core::compose::read::read;
use gubernum_core::compose::report::FileNote;
use gubernum_core::container::Container;
use gubernum_core::definition::Definition;
use gubernum_core::plan::TargetPlan;
use gubernum_core::plan::request::{ApplyRequest, RemoveStackRequest};
use gubernum_core::stack::remove::{UsedByOthers, plan_remove_stack};
use gubernum_core::stack::{
    ApplySettings, Desired, PlannedPart, Present, PresentContainer, StackDescription, desired, plan_stack,
};
use gubernum_core::text::shown;
use gubernum_engine::assets::Inside;
use gubernum_engine::{Defined, Engine};

use crate::operations::OperationError;
use crate::operations::planner::{Planned, Planner, StepInputs, limit_targets, need_targets};

/// How many questions to one engine are under way at once.
const AT_ONCE: usize = 8;

impl Planner {
    /// Plans that a stack becomes what its text says, on each host.
    pub(super) async fn apply(
        &self,
        request: &ApplyRequest,
        references: &[String],
    ) -> Result<Vec<Planned>, OperationError> {
        let hosts = self.hosts_of(references)?;
        if let Some(other) = request.host_variables.keys().find(|host| !hosts.contains(host)) {
            let text = format!("'{}' is not one of the target hosts", shown(other, 60));
            return Err(OperationError::invalid("/host_variables", text));
        }
        let mut desired = self.desired(&request.for_host(hosts.first().map_or("", String::as_str))).await?;
        let mut planned: Vec<Planned> = Vec::new();
        for (n, host) in hosts.into_iter().enumerate() {
            if n > 0 && !request.host_variables.is_empty() {
                desired = self.desired(&request.for_host(&host)).await?;
            }
            // What is waited for is one of the same host.
            let offset = u32::try_from(planned.len()).unwrap_or(u32::MAX);
            let mut on_host = self.apply_to(request, &desired, &host).await?;
            moved_by(offset, &mut on_host);
            planned.extend(on_host);
        }
        limit_targets(planned.len())?;
        Ok(planned)
    }

    /// Plans that a stack goes from each host.
    pub(super) async fn remove_stack(
        &self,
        request: &RemoveStackRequest,
        references: &[String],
    ) -> Result<Vec<Planned>, OperationError> {
        let mut planned: Vec<Planned> = Vec::new();
        for host in self.hosts_of(references)? {
            let present = self.stack_on(&host, &request.stack).await?;
            if present.containers.is_empty() {
                let stack = gubernum_core::text::shown(&request.stack, 60);
                let sentence = format!("no container of the stack '{stack}' is on {host}");
                return Err(OperationError::NotFound { field: Some("/stack".to_owned()), sentence });
            }
            let others = self.used_by_others(&host, &request.stack);
            let offset = u32::try_from(planned.len()).unwrap_or(u32::MAX);
            let plans = plan_remove_stack(request, &present, &others);
            let mut on_host: Vec<Planned> = plans.into_iter().map(Planned::from).collect();
            moved_by(offset, &mut on_host);
            planned.extend(on_host);
        }
        limit_targets(planned.len())?;
        Ok(planned)
    }

    /// What containers of a host use that are not of a stack.
    fn used_by_others(&self, host: &str, stack: &str) -> UsedByOthers {
        self.hub.look(|fleet| {
            let mut used = UsedByOthers::default();
            for c in fleet.containers_of(host).filter(|c| c.stack.as_deref() != Some(stack)) {
                used.networks.extend(c.networks.iter().cloned());
                used.volumes.extend(c.mounts.iter().filter(|m| m.kind == "volume").map(|m| m.source.clone()));
                used.images.insert(bare_id(&c.image_id).to_owned());
            }
            used
        })
    }

    /// The hosts that patterns mean, each once.
    pub(super) fn hosts_of(&self, references: &[String]) -> Result<Vec<String>, OperationError> {
        need_targets(references)?;
        let mut hosts = Vec::new();
        for (n, reference) in references.iter().enumerate() {
            for host in self.hosts(reference, n)? {
                if !hosts.contains(&host) {
                    hosts.push(host);
                }
            }
        }
        Ok(hosts)
    }

    /// What is on a host of a stack.
    ///
    /// # Errors
    /// When its host cannot be asked.
    pub(in crate::operations) async fn stack_on<'a>(
        &self,
        host: &'a str,
        name: &str,
    ) -> Result<Present<'a>, OperationError> {
        let engine = self.links.engine(host)?;
        let nothing = Desired { name: name.to_owned(), ..Desired::default() };
        Ok(self.present(&nothing, host, &engine).await?.0)
    }

    /// What the text means. Reading it takes a processor's time and nobody waits with it.
    pub(super) async fn desired(&self, request: &ApplyRequest) -> Result<Desired, OperationError> {
        let request = request.clone();
        let db = self.db.clone();
        let outcome = tokio::task::spawn_blocking(move || -> Result<Desired, OperationError> {
            let given = request.given();
            let wrong =
                |errors: Vec<FileError>| OperationError::Text(errors.iter().map(FileNote::from).collect());
            let (loaded, stack) = read(&given).map_err(wrong)?;
            let mark = |parts: &[&[u8]]| db.seal().mark("configs and secrets", parts);
            let (name, scale) = (&request.stack, &request.scale);
            let wish =
                StackDescription { loaded: &loaded, stack: &stack, name, scale, given: &given, mark: &mark };
            desired(&wish).map_err(wrong)
        });
        outcome.await?
    }

    async fn apply_to(
        &self,
        request: &ApplyRequest,
        desired: &Desired,
        host: &str,
    ) -> Result<Vec<Planned>, OperationError> {
        let engine = match self.links.engine(host) {
            Ok(engine) => engine,
            Err(error) => {
                let name = desired.name.clone();
                let mut plan = TargetPlan { host: host.to_owned(), name, ..TargetPlan::default() };
                plan.refuse(error.to_string());
                return Ok(vec![plan.into()]);
            }
        };
        let (present, records) = self.present(desired, host, &engine).await?;
        let settings =
            ApplySettings { watch_seconds: request.watch_seconds, remove_rest: request.remove_rest };
        let pieces = plan_stack(desired, &present, settings);
        let with_inputs = |piece: PlannedPart| {
            let current = piece.current.and_then(|at| records.get(at).cloned());
            let PlannedPart { plan, next: definition, files, build, on_failure, .. } = piece;
            Planned {
                plan,
                inputs: StepInputs { definition, current, files, build, on_failure, ..StepInputs::default() },
            }
        };
        Ok(pieces.into_iter().map(with_inputs).collect())
    }

    /// What is on a host of a stack, with the engine's records of its containers in the same order.
    pub(super) async fn present<'a>(
        &self,
        desired: &Desired,
        host: &'a str,
        engine: &Engine,
    ) -> Result<(Present<'a>, Vec<Defined>), OperationError> {
        let (of_stack, names, assets) = self.hub.look(|fleet| {
            let mut of_stack: Vec<Container> = Vec::new();
            let mut names = BTreeMap::new();
            for c in fleet.containers_of(host) {
                names.insert(c.id.clone(), c.name.clone());
                if c.stack.as_deref() == Some(desired.name.as_str()) && c.role.is_none() {
                    of_stack.push(c.clone());
                }
            }
            (of_stack, names, fleet.assets_of(host).cloned().unwrap_or_default())
        });
        // The fleet looks at these only now and then; a plan has to know what was made a moment ago.
        let inside = |i: &Image| {
            (i.id.clone(), Inside { architecture: i.architecture.clone(), layers: i.layers.clone() })
        };
        let assets = engine.holds(&assets.images.iter().map(inside).collect()).await?;
        let records: Vec<_> = futures_util::stream::iter(of_stack)
            .map(|container| async move {
                match engine.defined(&container.id).await {
                    Ok(defined) => Ok(Some((container, defined))),
                    Err(e) if e.status() == Some(404) => Ok(None),
                    Err(e) => Err(OperationError::from(e)),
                }
            })
            .buffered(AT_ONCE)
            .collect()
            .await;
        let mut containers = Vec::new();
        let mut defined = Vec::new();
        for record in records {
            if let Some((container, record)) = record? {
                containers.push(PresentContainer { container, definition: record.definition.clone() });
                defined.push(record);
            }
        }
        let changes_in_place = engine.changes_in_place();
        let findings = BTreeMap::new();
        let mut present = Present { host, containers, names, assets, changes_in_place, findings };
        let replaced =
            |wanted| present.containers.get(present.position(wanted)?).map(|c| c.container.clone());
        let asked: Vec<(Definition, Option<Container>)> =
            desired.containers.iter().map(|c| (c.definition.clone(), replaced(c))).collect();
        present.findings = futures_util::stream::iter(asked)
            .map(|(definition, replaces)| async move {
                let found = self.checker.check(host, engine, &definition, replaces.as_ref()).await;
                (definition.name, found)
            })
            .buffered(AT_ONCE)
            .collect()
            .await;
        Ok((present, defined))
    }
}

/// Moves what targets wait for: they are behind those of other hosts.
fn moved_by(offset: u32, planned: &mut [Planned]) {
    for after in planned.iter_mut().flat_map(|p| &mut p.plan.after) {
        after.target = after.target.saturating_add(offset);
    }
}
