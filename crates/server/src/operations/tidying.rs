//! Tidying: the rules by which things are kept, the look just before each removal, and the bytes that were won.
//!
//! What is a leftover is decided in core's `tidy`.

use std::collections::{BTreeMap, HashSet};

use gubernum_api::images::KeepNote;
use gubernum_core::assets::Image;
use gubernum_core::plan::{ObjectKind, Request, Step};
use gubernum_core::tidy::{Rules, plan_tidy, shares_of_images};
use jiff::SignedDuration;

use crate::operations::planner::{Prepared, Work};
use crate::operations::target_run::{Stopped, TargetRun};
use crate::operations::{Active, OperationError, Runner};

impl Runner {
    /// What protects things now.
    pub(crate) async fn tidy_rules(&self) -> Result<Rules, OperationError> {
        let hosts: Vec<String> = self.hub.look(|fleet| fleet.hosts().map(|h| h.name.clone()).collect());
        let since = self.clock.now() - crate::images::DIGEST_CHECK_HOLDS;
        let (set, needed, notes, checks) = self
            .db
            .run(move |store| {
                let set = store.preferences()?;
                let mut needed = HashSet::new();
                for host in hosts {
                    let images = store.kept_images(&host)?;
                    needed.extend(images.into_iter().map(|image| (host.clone(), image)));
                }
                Ok((set, needed, store.keep_notes()?, store.digest_checks()?))
            })
            .await?;
        let words = |n: KeepNote| {
            let why = if n.text.is_empty() { String::new() } else { format!(": {}", n.text) };
            (n.piece, format!("kept by {}{why}", n.member))
        };
        let notes = notes.into_iter().map(words).collect();
        let hours = |hours: u32| SignedDuration::from_hours(i64::from(hours));
        let lately = checks.into_iter().filter(|(_, _, checked)| *checked >= since);
        Ok(Rules {
            youngest: hours(set.tidy_after_hours),
            unused_for: hours(set.safe_after_hours),
            cache_unused_for: hours(set.cache_safe_after_hours),
            registry_has: lately.map(|(digest, there, _)| (digest, there)).collect(),
            needed,
            notes,
        })
    }

    pub(super) async fn tidying(&self, request: &Request) -> Result<Vec<Prepared>, OperationError> {
        let rules = self.tidy_rules().await?;
        let (hub, pieces, now) = (self.hub.clone(), request.pieces.clone(), self.clock.now());
        // A large fleet takes a moment: observations go on meanwhile.
        let planning = tokio::task::spawn_blocking(move || plan_tidy(&hub.snapshot(), &pieces, &rules, now));
        let plans = planning.await?;
        Ok(plans.into_iter().map(|p| (p, Work::default())).collect())
    }

    /// The images of the hosts of a tidying before it begins.
    pub(super) fn held_before(&self, waiting: &[(usize, String)]) -> BTreeMap<String, Vec<Image>> {
        let hosts: HashSet<&String> = waiting.iter().map(|(_, host)| host).collect();
        let images = |host: &String| {
            self.hub.look(|f| f.assets_of(host).map(|a| a.images.clone()).unwrap_or_default())
        };
        hosts.into_iter().map(|h| (h.clone(), images(h))).collect()
    }

    /// Writes down what was won: of images only the layers that no image which stayed has.
    pub(super) async fn count_won(&self, active: &Active, held: &BTreeMap<String, Vec<Image>>) {
        let targets = active.operation.lock().targets.clone();
        for (host, images) in held {
            if let Some(link) = self.links.get(host) {
                link.measure.notify_one();
            }
            let gone: Vec<(usize, String)> = targets
                .iter()
                .enumerate()
                .filter(|(_, t)| t.host == *host && t.object == ObjectKind::Image && t.state.is_good())
                .map(|(n, t)| (n, t.id.clone()))
                .collect();
            let ids: Vec<String> = gone.iter().map(|(_, id)| id.clone()).collect();
            for ((n, _), share) in gone.iter().zip(shares_of_images(images, &ids)) {
                active.operation.lock().targets[*n].bytes = Some(share);
            }
        }
        for (n, target) in targets.iter().enumerate().filter(|(_, t)| t.bytes.is_some()) {
            let (id, target) = {
                let mut operation = active.operation.lock();
                if !target.state.is_good() {
                    operation.targets[n].bytes = None;
                }
                (operation.id, operation.targets[n].clone())
            };
            let written = self.db.run(move |store| store.set_target_bytes(id, n, target.bytes)).await;
            if let Err(error) = written {
                tracing::error!(operation = id, "the bytes that were won could not be written: {error}");
            }
        }
    }
}

impl TargetRun<'_> {
    /// Asks the engine once more, just before a removal: what came into use since the preview is not touched.
    pub(super) async fn still_unused(&self, step: &Step) -> Result<(), Stopped> {
        let used = match step {
            Step::RemoveImage { .. } => self.engine.in_use().await?.images.contains(&self.id),
            Step::RemoveVolume { .. } => self.engine.in_use().await?.volumes.contains(&self.id),
            Step::RemoveNetwork => self.engine.in_use().await?.networks.contains(&self.id),
            Step::Remove { .. } => self.engine.inspect(&self.id).await?.container.state.is_alive(),
            _ => false,
        };
        if used {
            let why = "it came into use since the preview, so it was not touched".to_owned();
            return Err(Stopped::Failed(why));
        }
        Ok(())
    }
}
