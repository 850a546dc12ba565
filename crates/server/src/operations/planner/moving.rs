//! Plans for moving and cloning to another host: the state of both hosts is gathered, and core puts the parts of both
//! into one graph.

use std::collections::{BTreeMap, BTreeSet};

use gubernum_core::assets::{Assets, bare_id};
use gubernum_core::container::Container;
use gubernum_core::definition::PullPolicy;
use gubernum_core::definition::check::Weight;
use gubernum_core::moving::prepare::{Copies, bring_external, of_container, of_stack, of_volume};
use gubernum_core::moving::{Destination, Original, plan_move, ports};
use gubernum_core::plan::request::{MoveKind, MoveRequest};
use gubernum_core::stack::labels::{self, FilesMark};
use gubernum_core::stack::remove::UsedByOthers;
use gubernum_core::stack::{ApplySettings, Desired, Present, PresentContainer, plan_stack};
use gubernum_core::text::shown;
use gubernum_engine::Engine;

use crate::operations::OperationError;
use crate::operations::planner::{Planned, Planner, StepInputs};

/// What is moved or copied, with all that its own host reports about it.
struct Gathered<'a> {
    present: Present<'a>,
    desired: Desired,
    copies: Copies,
}

impl Planner {
    /// Plans a move (`moves`) or a copy. The service has said where it comes from ([`MoveRequest::from`]).
    pub(super) async fn move_or_clone(
        &self,
        request: &MoveRequest,
        moves: bool,
        references: &[String],
    ) -> Result<Vec<Planned>, OperationError> {
        let [reference] = references else {
            let text = "only one object can be moved or cloned at a time, such as 'packhouse/frost-api'";
            return Err(OperationError::invalid("/targets", text));
        };
        let (hosts, name) = self.host_and_name(reference, 0)?;
        let [from] = &hosts[..] else {
            return Err(OperationError::invalid(
                "/targets/0",
                "name the one host that it is on, without '*'",
            ));
        };
        let to = request.to.as_str();
        if !self.view.look(|fleet| fleet.host(to).is_some()) {
            let sentence = format!("no host '{}' in the fleet", shown(to, 60));
            return Err(OperationError::NotFound { field: Some("/to".to_owned()), sentence });
        }
        if from == to && moves {
            return Err(OperationError::invalid(
                "/to",
                format!("it is on {to} already; choose another host"),
            ));
        }
        let (engine, engine_there) = (self.links.engine(from)?, self.links.engine(to)?);
        let Gathered { present, mut desired, mut copies } = match request.what {
            MoveKind::Container => self.container_there(request, moves, from, &engine, reference).await?,
            MoveKind::Stack => self.stack_there(request, moves, from, &name).await?,
            MoveKind::Volume => self.volume_there(request, moves, from, &engine, &name).await?,
        };
        let images = copied_images(request, &present);
        let there = self.checked_there(&mut desired, &images, to, &engine_there).await?;
        if request.what == MoveKind::Stack {
            bring_external(&mut desired, &present.assets, &there.assets, &mut copies);
        }
        let settings = ApplySettings { watch_seconds: request.watch_seconds, remove_rest: false };
        let pieces = plan_stack(&desired, &there, settings);
        let ids: BTreeSet<&str> = present.containers.iter().map(|c| c.container.id.as_str()).collect();
        let (others, users) = self.used_beside(from, &ids);
        let tells_owners = engine.facts().kind != "podman";
        let original = Original { present: &present, others: &others, users, tells_owners };
        let (architecture, free) = self.hub.look(|fleet| {
            let host = fleet.host(to);
            let disk = host.map(|h| h.disk).unwrap_or_default();
            let architecture = host.and_then(|h| h.engine.as_ref()).map(|e| e.architecture.clone());
            (architecture.unwrap_or_default(), disk.total.zip(disk.used).map(|(t, u)| t.saturating_sub(u)))
        });
        let target = Destination { host: to, assets: &there.assets, architecture: &architecture, free };
        let pieces = plan_move(request, moves, &original, &target, pieces, &copies);
        Ok(pieces
            .into_iter()
            .map(|piece| {
                let inputs =
                    StepInputs { definition: piece.next, files: piece.files, ..StepInputs::default() };
                Planned { plan: piece.plan, inputs }
            })
            .collect())
    }

    /// What is there, asked with images that are copied taken for granted.
    async fn checked_there<'a>(
        &self,
        desired: &mut Desired,
        images: &BTreeSet<String>,
        to: &'a str,
        engine: &Engine,
    ) -> Result<Present<'a>, OperationError> {
        let mut asked = desired.clone();
        for container in &mut asked.containers {
            if images.contains(&container.definition.image) {
                // Registries need not be asked for it.
                container.definition.pull = PullPolicy::Never;
            }
        }
        let (mut there, _) = self.present(&asked, to, engine).await?;
        for container in desired.containers.iter().filter(|c| images.contains(&c.definition.image)) {
            if let Some(findings) = there.findings.get_mut(&container.definition.name) {
                findings.retain(|f| f.field != "/image" || f.weight != Weight::Error);
            }
        }
        Ok(there)
    }

    async fn container_there<'a>(
        &self,
        request: &MoveRequest,
        moves: bool,
        from: &'a str,
        engine: &Engine,
        reference: &str,
    ) -> Result<Gathered<'a>, OperationError> {
        let (container, defined) = self.defined(reference).await?;
        let d = &defined.definition;
        if let Some(stack) = container.stack.as_ref().filter(|_| moves) {
            let text = format!("it belongs to the stack '{stack}'; move the stack, or clone this container");
            return Err(OperationError::invalid("/targets/0", text));
        }
        let modes = [&d.network.mode, &d.rights.processes_of, &d.rights.memory_of];
        if modes.into_iter().flatten().any(|mode| mode.starts_with("container:")) {
            let text = "it shares a namespace of another container, which stays; move both as a stack";
            return Err(OperationError::invalid("/targets/0", text));
        }
        unknown_ports(d.ports.iter(), request)?;
        let mark = d.labels.get(labels::FILES).and_then(|text| FilesMark::read(text));
        let files = match mark {
            Some(mark) => engine.placed_files(&container.id, &mark.paths).await?,
            None => Vec::new(),
        };
        let assets = self.assets_now(from, engine).await?;
        let original = PresentContainer { container, definition: defined.definition };
        let (desired, copies) = of_container(request, moves, &original, files, &assets);
        let present = Present { host: from, containers: vec![original], assets, ..Present::default() };
        Ok(Gathered { present, desired, copies })
    }

    async fn stack_there<'a>(
        &self,
        request: &MoveRequest,
        moves: bool,
        from: &'a str,
        name: &str,
    ) -> Result<Gathered<'a>, OperationError> {
        let Some(definition) = &request.definition else {
            let stack = shown(name, 60);
            let sentence =
                format!("the stack '{stack}' on {from} was not deployed with Gubernum; adopt it first");
            return Err(OperationError::NotFound { field: Some("/targets/0".to_owned()), sentence });
        };
        let mut present = self.stack_on(from, name).await?;
        if present.containers.is_empty() {
            let sentence = format!("no container of the stack '{}' is on {from}", shown(name, 60));
            return Err(OperationError::NotFound { field: Some("/targets/0".to_owned()), sentence });
        }
        self.measured(from, &mut present.assets);
        let mut desired = self.desired(definition).await?;
        // (The file with other ports says those already.)
        let new: BTreeMap<u16, u16> = request.ports.values().map(|port| (*port, *port)).collect();
        let rules = desired.containers.iter().flat_map(|c| &c.definition.ports);
        if let Some(port) = ports::unknown(rules, &new).first() {
            let old = request.ports.iter().find(|(_, to)| *to == port).map_or(0, |(from, _)| *from);
            return Err(not_published(old));
        }
        let copies = of_stack(request, moves, &mut desired, &present);
        Ok(Gathered { present, desired, copies })
    }

    async fn volume_there<'a>(
        &self,
        request: &MoveRequest,
        moves: bool,
        from: &'a str,
        engine: &Engine,
        name: &str,
    ) -> Result<Gathered<'a>, OperationError> {
        let assets = self.assets_now(from, engine).await?;
        let Some(volume) = assets.volumes.iter().find(|v| v.name == name) else {
            let sentence = format!("no volume '{}' on {from}", shown(name, 60));
            return Err(OperationError::NotFound { field: Some("/targets/0".to_owned()), sentence });
        };
        let (desired, copies) = of_volume(request, volume);
        // Whoever uses it is paused for a copy; a move waits until nobody does.
        let users: Vec<Container> = self.hub.look(|fleet| {
            let uses = |c: &&Container| c.mounts.iter().any(|m| m.kind == "volume" && m.source == name);
            fleet.containers_of(from).filter(uses).filter(|_| !moves).cloned().collect()
        });
        let mut containers = Vec::new();
        for container in users {
            let definition = engine.defined(&container.id).await?.definition;
            containers.push(PresentContainer { container, definition });
        }
        let present = Present { host: from, containers, assets, ..Present::default() };
        Ok(Gathered { present, desired, copies })
    }

    async fn assets_now(&self, host: &str, engine: &Engine) -> Result<Assets, OperationError> {
        let mut assets = engine.holds(&Default::default()).await?;
        self.measured(host, &mut assets);
        Ok(assets)
    }

    /// Sizes as the fleet measured them last: engines do not tell them with every list.
    fn measured(&self, host: &str, assets: &mut Assets) {
        let sizes: BTreeMap<String, u64> = self.hub.look(|fleet| {
            let volumes = fleet.assets_of(host).map_or(&[][..], |a| &a.volumes);
            volumes.iter().filter_map(|v| Some((v.name.clone(), v.size?))).collect()
        });
        for volume in &mut assets.volumes {
            volume.size = volume.size.or_else(|| sizes.get(&volume.name).copied());
        }
    }

    /// What containers of a host use that are not among these, and which running ones use which volumes.
    fn used_beside(&self, host: &str, ids: &BTreeSet<&str>) -> (UsedByOthers, BTreeMap<String, Vec<String>>) {
        self.hub.look(|fleet| {
            let mut used = UsedByOthers::default();
            let mut users: BTreeMap<String, Vec<String>> = BTreeMap::new();
            for c in fleet.containers_of(host).filter(|c| !ids.contains(c.id.as_str())) {
                used.networks.extend(c.networks.iter().cloned());
                used.images.insert(bare_id(&c.image_id).to_owned());
                for mount in c.mounts.iter().filter(|m| m.kind == "volume") {
                    used.volumes.insert(mount.source.clone());
                    if c.state.is_alive() {
                        users.entry(mount.source.clone()).or_default().push(c.name.clone());
                    }
                }
            }
            (used, users)
        })
    }
}

/// The images that are copied from host to host.
fn copied_images(request: &MoveRequest, present: &Present<'_>) -> BTreeSet<String> {
    if request.pull {
        return BTreeSet::new();
    }
    present.containers.iter().map(|c| c.definition.image.clone()).collect()
}

fn unknown_ports<'a>(
    rules: impl Iterator<Item = &'a gubernum_core::definition::PortRule>,
    request: &MoveRequest,
) -> Result<(), OperationError> {
    match ports::unknown(rules, &request.ports).first() {
        Some(port) => Err(not_published(*port)),
        None => Ok(()),
    }
}

fn not_published(port: u16) -> OperationError {
    let text = format!("port {port} is not published; use published ports, with the new one for each");
    OperationError::invalid("/ports", text)
}
