//! Plans for what a stack's containers need first: networks, volumes and images.

use super::build::DesiredBuild;
use super::desired::{DesiredContainer, DesiredNetwork, DesiredVolume};
use super::plan::{PlannedPart, Planner};
use crate::definition::PullPolicy;
use crate::definition::check::{Finding, Weight};
use crate::plan::{ObjectKind, Step};
use crate::text::shown;

impl Planner<'_> {
    pub(super) fn network(&mut self, network: &DesiredNetwork) {
        let mut plan = self.blank(ObjectKind::Network, &network.name);
        match self.present.assets.networks.iter().find(|n| n.name == network.name) {
            Some(there) => {
                plan.id.clone_from(&there.id);
                if !network.external {
                    let wish = &network.wish;
                    let subnet = there.subnets.first().map(|s| s.subnet.as_str());
                    let differs = [
                        ("driver", wish.driver.as_deref().is_some_and(|d| d != there.driver)),
                        ("internal", wish.internal != there.internal),
                        ("enable_ipv6", wish.ipv6 != there.ipv6),
                        ("subnet", wish.subnet.is_some() && wish.subnet.as_deref() != subnet),
                    ];
                    plan.findings.extend(stays(&network.key, "networks", &differs));
                }
                plan.nothing_to_do("No change: exists already.");
            }
            None if network.external => {
                plan.refuse(format!(
                    "the network {} is 'external' but does not exist; create it, or remove 'external'",
                    network.name
                ));
            }
            None => {
                let (name, wish) = (network.name.clone(), network.wish.clone());
                plan.steps = vec![Step::CreateNetwork { name, wish }];
                plan.creates = vec![format!("network {}", network.name)];
                plan.consequence = "Creates it.".to_owned();
                let at = self.push(PlannedPart { plan: plan.finished(), ..PlannedPart::default() });
                self.made.insert((ObjectKind::Network, network.name.clone()), at);
                return;
            }
        }
        self.push(PlannedPart { plan, ..PlannedPart::default() });
    }

    pub(super) fn volume(&mut self, volume: &DesiredVolume) {
        let mut plan = self.blank(ObjectKind::Volume, &volume.name);
        match self.present.assets.volumes.iter().find(|v| v.name == volume.name) {
            Some(there) => {
                plan.id.clone_from(&there.name);
                if !volume.external {
                    let wish = &volume.wish;
                    let differs = [
                        ("driver", wish.driver.as_deref().is_some_and(|d| d != there.driver)),
                        ("driver_opts", wish.options != there.options),
                    ];
                    plan.findings.extend(stays(&volume.key, "volumes", &differs));
                }
                plan.keeps = vec![format!("volume {} with its data", volume.name)];
                plan.nothing_to_do("No change: exists already.");
            }
            None if volume.external => {
                plan.refuse(format!(
                    "the volume {} is 'external' but does not exist; create it, or remove 'external'",
                    volume.name
                ));
            }
            None => {
                let (name, wish) = (volume.name.clone(), volume.wish.clone());
                plan.steps = vec![Step::CreateVolume { name, wish }];
                plan.creates = vec![format!("volume {}", volume.name)];
                plan.consequence = "Creates it, empty.".to_owned();
                let at = self.push(PlannedPart { plan: plan.finished(), ..PlannedPart::default() });
                self.made.insert((ObjectKind::Volume, volume.name.clone()), at);
                return;
            }
        }
        self.push(PlannedPart { plan, ..PlannedPart::default() });
    }

    /// The piece that builds or fetches an image, where it has to be fetched.
    pub(super) fn image(&mut self, wanted: &DesiredContainer) -> Option<u32> {
        let d = &wanted.definition;
        if let Some(build) = &wanted.build {
            return self.built(build);
        }
        let fetched = match d.pull {
            PullPolicy::Always => true,
            PullPolicy::Missing => !self.present.has_image(&d.image),
            PullPolicy::Never => false,
        };
        if !fetched {
            return None;
        }
        if let Some(known) = self.images.get(&d.image) {
            return Some(*known);
        }
        let mut plan = self.blank(ObjectKind::Image, &d.image);
        plan.steps =
            vec![Step::Pull { image: d.image.clone(), policy: d.pull, platform: d.platform.clone() }];
        plan.creates = vec![format!("image {}", d.image)];
        plan.consequence = "Pulls it; running containers stay as they are.".to_owned();
        let at = self.push(PlannedPart { plan: plan.finished(), ..PlannedPart::default() });
        self.images.insert(d.image.clone(), at);
        Some(at)
    }

    fn built(&mut self, build: &DesiredBuild) -> Option<u32> {
        if let Some(known) = self.images.get(&build.image) {
            return Some(*known);
        }
        if self.present.has_image(&build.image) {
            return None;
        }
        let mut plan = self.blank(ObjectKind::Image, &build.image);
        plan.steps = vec![Step::Build { image: build.image.clone() }];
        plan.creates = vec![format!("image {}", build.image)];
        let from = match &build.remote {
            Some(address) => shown(address, 100),
            None => format!("{} of the stack's files", build.context.len()),
        };
        plan.consequence = format!("Builds it from {from}; running containers stay as they are.");
        let piece =
            PlannedPart { plan: plan.finished(), build: Some(build.clone()), ..PlannedPart::default() };
        let at = self.push(piece);
        self.images.insert(build.image.clone(), at);
        Some(at)
    }
}

/// What cannot be changed where it is and therefore stays.
fn stays(key: &str, section: &str, differs: &[(&str, bool)]) -> Option<Finding> {
    let words: Vec<&str> = differs.iter().filter(|(_, differs)| *differs).map(|(word, _)| *word).collect();
    (!words.is_empty()).then(|| Finding {
        field: format!("/{section}/{key}"),
        weight: Weight::Warning,
        sentence: format!(
            "it exists with a different '{}', which engines cannot change; it stays as it is. Set another 'name' to create a new one",
            words.join("', '")
        ),
        proposal: None,
    })
}
