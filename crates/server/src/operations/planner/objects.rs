//! Plans for images, volumes and networks: what a reference names on each host, and its users.

use std::collections::BTreeMap;

use gubernum_core::assets::bare_id;
use gubernum_core::container::Container;
use gubernum_core::fleet::Fleet;
use gubernum_core::image_name::same;
use gubernum_core::plan::objects::KnownObject;
use gubernum_core::plan::{ObjectKind, TargetPlan};
use gubernum_core::reference::wildcard;

use crate::operations::OperationError;
use crate::operations::planner::{Planned, Planner, limit_targets, need_targets};

/// Objects by host and name.
type Found = BTreeMap<(String, String), KnownObject>;

impl Planner {
    /// Plans for objects that references name as `host/name`.
    pub(super) async fn objects(
        &self,
        references: &[String],
        object: ObjectKind,
        plan: impl Fn(&KnownObject) -> TargetPlan,
    ) -> Result<Vec<Planned>, OperationError> {
        need_targets(references)?;
        let mut found = Found::new();
        for (n, reference) in references.iter().enumerate() {
            let (hosts, name) = self.host_and_name(reference, n)?;
            self.find_on_hosts(&hosts, object, &name, &mut found)?;
        }
        Ok(self.planned(found, plan).await)
    }

    /// Plans for one image on the hosts that references name.
    pub(super) async fn image_on_hosts(
        &self,
        references: &[String],
        image: &str,
        plan: impl Fn(&KnownObject) -> TargetPlan,
    ) -> Result<Vec<Planned>, OperationError> {
        need_targets(references)?;
        let mut found = Found::new();
        for (n, reference) in references.iter().enumerate() {
            self.find_on_hosts(&self.hosts(reference, n)?, ObjectKind::Image, image, &mut found)?;
        }
        Ok(self.planned(found, plan).await)
    }

    fn find_on_hosts(
        &self,
        hosts: &[String],
        object: ObjectKind,
        name: &str,
        found: &mut Found,
    ) -> Result<(), OperationError> {
        self.view.look(|fleet| {
            for host in hosts {
                for known in objects_called(fleet, host, object, name) {
                    found.insert((host.clone(), known.name.clone()), known);
                }
            }
        });
        limit_targets(found.len())
    }

    async fn planned(&self, found: Found, plan: impl Fn(&KnownObject) -> TargetPlan) -> Vec<Planned> {
        let mut found: Vec<KnownObject> = found.into_values().collect();
        for known in found.iter_mut().filter(|t| !t.there && t.object == ObjectKind::Image) {
            // What was fetched a moment ago may not be in the lists yet.
            if let Ok(engine) = self.links.engine(&known.host)
                && let Ok(Some(id)) = engine.image_id_of(&known.name).await
            {
                (known.there, known.id) = (true, id);
            }
        }
        found.iter().map(|known| plan(known).into()).collect()
    }
}

/// The images, volumes or networks of a host that a name with `*` means; one that is not there when it has none.
fn objects_called(fleet: &Fleet, host: &str, object: ObjectKind, name: &str) -> Vec<KnownObject> {
    let Some(assets) = fleet.assets_of(host) else { return Vec::new() };
    let users = |wanted: &dyn Fn(&Container) -> bool| -> Vec<(String, bool)> {
        fleet.containers_of(host).filter(|c| wanted(c)).map(|c| (c.reference(), c.state.is_alive())).collect()
    };
    let base = KnownObject { host: host.to_owned(), object, name: name.to_owned(), ..KnownObject::default() };
    let mut found: Vec<KnownObject> = match object {
        ObjectKind::Image => assets
            .images
            .iter()
            .filter_map(|i| {
                let by_id = name.len() >= 8 && i.id.starts_with(bare_id(name));
                let tag = i.tags.iter().find(|t| same(t, name) || (name.contains('*') && wildcard(name, t)));
                let called =
                    tag.cloned().or_else(|| by_id.then(|| i.tags.first().cloned().unwrap_or_default()))?;
                Some(KnownObject {
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
            .map(|v| KnownObject {
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
            .map(|n| KnownObject {
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
