//! What is copied to the destination before any container is created: images, volumes with their data, and whether
//! there is enough space.

use std::collections::{BTreeMap, BTreeSet};

use crate::assets::{Image, bare_id};
use crate::definition::check::plain_architecture;
use crate::image_name::same;
use crate::plan::{ObjectKind, Pass, Step, TargetPlan};
use crate::reason::bytes_words;
use crate::stack::{PlannedPart, PresentContainer};

use super::plan::{Planner, uses, warning};

impl Planner<'_> {
    /// Images come from the host where they are, volumes get their data.
    pub(super) fn moved_along(&self, mut plan: TargetPlan) -> TargetPlan {
        let is_made = !plan.steps.is_empty();
        match plan.object {
            ObjectKind::Image if is_made => {
                if let Some(image) = self.image_here(&plan.name) {
                    plan = self.image(plan, image);
                }
            }
            ObjectKind::Volume => {
                let Some(source) = self.copies.get(&plan.name) else {
                    if !is_made {
                        let host = self.here();
                        let text =
                            format!("it is not part of the stack, so its data on {host} is not copied");
                        plan.findings.push(warning("/volumes", text));
                    }
                    return plan;
                };
                plan = self.volume(plan, source, is_made);
            }
            _ => {}
        }
        plan
    }

    fn image_here(&self, name: &str) -> Option<&Image> {
        if self.request.pull {
            return None;
        }
        let runs = |c: &&PresentContainer| same(&c.definition.image, name);
        let ids: BTreeSet<&str> = self
            .original
            .present
            .containers
            .iter()
            .filter(runs)
            .map(|c| bare_id(&c.container.image_id))
            .collect();
        let mut images = self.original.present.assets.images.iter();
        images.find(|i| {
            ids.contains(i.id.as_str()) && i.tags.iter().chain(&i.digests).any(|tag| same(tag, name))
        })
    }

    fn image(&self, mut plan: TargetPlan, image: &Image) -> TargetPlan {
        let (here, there) = (self.here(), self.there);
        plan.steps = vec![Step::CopyImage { from: here.to_owned(), image: plan.name.clone() }];
        plan.creates = vec![format!("image {} ({})", plan.name, bytes_words(image.size))];
        plan.consequence = format!("Copied from {here}; running containers stay as they are.");
        let is = plain_architecture(image.architecture.as_deref().unwrap_or_default());
        let has = plain_architecture(there.architecture);
        if !is.is_empty() && !has.is_empty() && is != has {
            plan.refuse(format!(
                "the image on {here} is for {is}, and {} is {has}; pull it from its registry, which may have the other platform",
                there.host
            ));
        }
        plan.finished()
    }

    fn volume(&self, mut plan: TargetPlan, source: &str, is_made: bool) -> TargetPlan {
        let (here, there) = (self.here(), self.there.host);
        let volume = self.original.present.assets.volumes.iter().find(|v| v.name == source);
        let Some(volume) = volume else { return plan };
        if !is_made {
            plan.refuse(format!(
                "{there} already has a volume of this name, and the data would be mixed; remove it there, or choose another name"
            ));
            return plan;
        }
        if volume.driver != "local" {
            let text = format!(
                "it is managed by the driver {}; its data is not copied, and {there} needs access to the same storage",
                volume.driver
            );
            plan.findings.push(warning("/volumes", text));
            return plan;
        }
        if let Some(users) = self.original.users.get(source).filter(|users| !users.is_empty()) {
            let names = users.join(", ");
            if self.moves {
                plan.refuse(format!(
                    "{names} on {here} uses the volume {source} and is not moved; stop it first"
                ));
                return plan;
            }
            plan.findings.push(warning("/volumes", format!("{names} may write to it while it is copied")));
        }
        if !self.original.tells_owners {
            let text = format!(
                "the engine of {here} reports root as the owner of every file, so all files belong to root on the destination"
            );
            plan.findings.push(warning("/volumes", text));
        }
        let pass = if !self.has_users(source) || self.request.running {
            Some(Pass::Whole)
        } else {
            self.request.first_pass.then_some(Pass::First)
        };
        if let Some(pass) = pass {
            plan.steps.push(self.copy_step(source, pass));
        }
        let size = volume.size.map_or_else(String::new, |size| format!(" ({})", bytes_words(size)));
        plan.creates = vec![format!("volume {} with the data of {source} on {here}{size}", plan.name)];
        plan.consequence = match pass {
            Some(Pass::First) => "Created, with a first copy of the data.",
            Some(_) => "Created, with a copy of the data.",
            None => "Created, empty.",
        }
        .to_owned();
        plan.finished()
    }

    pub(super) fn copy_step(&self, source: &str, pass: Pass) -> Step {
        let verify = !self.request.unverified && pass != Pass::First;
        Step::CopyVolume { from: self.here().to_owned(), volume: source.to_owned(), pass, verify }
    }

    /// Whether a running container of the original uses a volume.
    pub(super) fn has_users(&self, volume: &str) -> bool {
        self.original.present.containers.iter().any(|c| c.container.state.is_alive() && uses(c, volume))
    }

    /// Images that run here, where the host has others under their names or the text says that it has them and it does not.
    pub(super) fn images<'p>(
        &mut self,
        containers: impl Iterator<Item = &'p PlannedPart>,
    ) -> BTreeMap<String, u32> {
        let mut all = BTreeMap::new();
        let names: BTreeSet<String> =
            containers.filter_map(|p| Some(p.next.as_ref()?.image.clone())).collect();
        for name in names {
            let is_fetched =
                self.out.iter().any(|p| p.plan.object == ObjectKind::Image && same(&p.plan.name, &name));
            let Some(image) = self.image_here(&name).filter(|_| !is_fetched).cloned() else { continue };
            let mut there = self.there.assets.images.iter();
            let has = there.find(|i| i.tags.iter().chain(&i.digests).any(|tag| same(tag, &name)));
            if has.is_some_and(|has| has.id == image.id) {
                continue;
            }
            let plan = TargetPlan {
                host: self.there.host.to_owned(),
                object: ObjectKind::Image,
                name: name.clone(),
                ..TargetPlan::default()
            };
            let mut plan = self.image(plan, &image);
            plan.consequence =
                format!("Copied from {}; its tag on {} moves to this image.", self.here(), self.there.host);
            let at = self.push(PlannedPart { plan, ..PlannedPart::default() });
            all.insert(name, at);
        }
        all
    }

    /// Refuses what does not fit on the other host's disk, where both sizes are known.
    pub(super) fn room(&mut self) {
        let Some(free) = self.there.free else { return };
        let assets = &self.original.present.assets;
        let size = |plan: &TargetPlan| -> u64 {
            let of_step = |step: &Step| match step {
                Step::CopyVolume { volume, .. } => {
                    assets.volumes.iter().find(|v| v.name == *volume).and_then(|v| v.size).unwrap_or(0)
                }
                Step::CopyImage { image, .. } => self.image_here(image).map_or(0, |i| i.size),
                _ => 0,
            };
            // A volume that is copied later is counted once.
            let later = self.copies.get(&plan.name).filter(|_| plan.object == ObjectKind::Volume);
            let is_counted = plan.steps.iter().any(|s| matches!(s, Step::CopyVolume { .. }));
            let later = later.filter(|_| !is_counted && !plan.steps.is_empty());
            let later = later.and_then(|n| assets.volumes.iter().find(|v| v.name == *n)?.size).unwrap_or(0);
            plan.steps.iter().map(of_step).sum::<u64>() + later
        };
        let needed: u64 = self.out.iter().map(|p| size(&p.plan)).sum();
        if needed <= free {
            return;
        }
        let host = self.there.host;
        let text = format!(
            "{} to copy, but {host} has {} free; free up space there first",
            bytes_words(needed),
            bytes_words(free)
        );
        if let Some(largest) =
            self.out.iter().map(|p| size(&p.plan)).enumerate().max_by_key(|(_, size)| *size)
        {
            self.out[largest.0].plan.refuse(text);
        }
    }
}
