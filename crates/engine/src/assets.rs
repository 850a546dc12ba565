//! A host's objects besides containers, and its machine: images, volumes, networks, disk.

use std::collections::HashMap;
use std::time::Duration;

use futures_util::StreamExt;
use gubernum_core::assets::{Assets, Disk, Image, Layer, Network, Subnet, Volume, bare_id};
use gubernum_core::host::MachineFacts;
use jiff::{SignedDuration, Timestamp};
use serde_json::Value;
use sha2::{Digest, Sha256};

use crate::calls::checked;
use crate::client::{Call, Engine};
use crate::error::EngineError;
use crate::hostfs::HELPER_IMAGE;
use crate::record::time;
use crate::wire;

/// Measuring walks through all volumes: it may take long on a full host.
const MEASURE_TIMEOUT: Duration = Duration::from_secs(300);
const INSPECT_AT_ONCE: usize = 4;

/// What a measurement of the disk tells.
#[derive(Debug, Clone, Default)]
pub struct Measured {
    /// The sums.
    pub disk: Disk,
    /// For each image, the bytes that it shares with others.
    pub shared: HashMap<String, u64>,
    /// For each volume, its bytes.
    pub volumes: HashMap<String, u64>,
    /// For each container, the bytes that it has written over its image.
    pub written: HashMap<String, u64>,
}

/// What of an image never changes, and so is asked for once.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Inside {
    /// The processor architecture it is for.
    pub architecture: Option<String>,
    /// Its layers from the bottom.
    pub layers: Vec<Layer>,
}

/// One step that made an image.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ImageStep {
    /// The command.
    pub command: String,
    /// When.
    pub created: Timestamp,
    /// The bytes of its layer; zero for steps that only set something.
    pub size: u64,
    /// A remark.
    pub comment: String,
}

impl Engine {
    /// What the engine reports about its machine. The clock is compared with `now`, which is asked before and
    /// after the call.
    ///
    /// # Errors
    /// When the engine does not answer.
    pub async fn machine(&self, now: impl Fn() -> Timestamp) -> Result<MachineFacts, EngineError> {
        let before = now();
        let info: wire::Info = self.json(Call::get("info", "/info")).await?;
        let after = now();
        let some = |text: String| Some(text).filter(|t| !t.is_empty());
        let middle = before + after.duration_since(before) / 2;
        let clock = time(&info.system_time).map(|theirs| theirs.duration_since(middle));
        let system = match (info.operating_system.as_str(), info.os_version.as_str()) {
            ("", _) => None,
            // podman names the distribution and its version apart.
            (name, version) if version.is_empty() || name.contains(version) => Some(name.to_owned()),
            (name, version) => Some(format!("{name} {version}")),
        };
        let mut machine = MachineFacts {
            processors: info.processors,
            memory_total: info.mem_total,
            memory_free: None,
            system,
            kernel: some(info.kernel_version),
            cgroup_version: some(info.cgroup_version),
            storage_driver: some(info.driver),
            data_folder: some(info.docker_root_dir),
            booted: None,
            // A difference that the way there and back explains is none; tenths are enough.
            clock_ahead_ms: clock.and_then(|d| {
                let slack = after.duration_since(before).as_millis() / 2;
                let ahead = i64::try_from(d.as_millis()).ok()?;
                Some(if i128::from(ahead.abs()) <= slack.max(250) { 0 } else { ahead / 100 * 100 })
            }),
            warnings: info.warnings,
        };
        if self.dialect().has_own_interface()
            && let Ok(own) = self.json::<wire::PodmanInfo>(Call::get("info", "/libpod/info")).await
        {
            // Free memory moves all the time: to the nearest 64 MiB it can be told without noise.
            machine.memory_free = own.host.mem_free.map(|b| b >> 26 << 26);
            // To the minute, because it is told in whole seconds at some moment of the answer.
            machine.booted = own.host.uptime.and_then(|u| uptime(&u)).and_then(|up| {
                let booted = (after - up).as_second() / 60 * 60;
                Timestamp::from_second(booted).ok()
            });
        }
        Ok(machine)
    }

    /// Images, volumes and networks. What is inside images that are in `known` is not asked for again.
    ///
    /// # Errors
    /// When the engine does not answer or what it says cannot be read.
    pub async fn holds(&self, known: &HashMap<String, Inside>) -> Result<Assets, EngineError> {
        let (images, volumes, networks) =
            tokio::try_join!(self.images(known), self.volumes(), self.networks())?;
        Ok(Assets { images, volumes, networks, ..Assets::default() })
    }

    async fn images(&self, known: &HashMap<String, Inside>) -> Result<Vec<Image>, EngineError> {
        let list: Vec<wire::ImageSummary> = self.json(Call::get("list images", "/images/json")).await?;
        let images = futures_util::stream::iter(list).map(|i| async move {
            let id = bare_id(&i.id).to_owned();
            let inside = match known.get(&id) {
                Some(known) => Some(known.clone()),
                None => self.inside(&id).await,
            };
            let (architecture, layers) = inside.map(|i| (i.architecture, i.layers)).unwrap_or_default();
            let is_name = |t: &String| !t.contains("<none>");
            Image {
                id,
                tags: i.repo_tags.into_iter().filter(is_name).collect(),
                digests: i.repo_digests.into_iter().filter(is_name).collect(),
                size: i.size,
                shared: None,
                created: Timestamp::from_second(i.created).unwrap_or(Timestamp::UNIX_EPOCH),
                architecture,
                labels: i.labels,
                layers,
            }
        });
        let mut images: Vec<Image> = images.buffered(INSPECT_AT_ONCE).collect().await;
        // What Gubernum itself needs to look into hosts is nobody's leftover.
        images.retain(|i| !i.tags.iter().any(|t| t.ends_with(HELPER_IMAGE)));
        images.sort_by(|a, b| a.id.cmp(&b.id));
        // podman lists an image once for each of its names.
        images.dedup_by(|next, first| {
            let same = next.id == first.id;
            if same {
                first.tags.append(&mut next.tags);
                first.tags.sort();
                first.tags.dedup();
            }
            same
        });
        Ok(images)
    }

    /// An image that vanishes meanwhile has nothing inside.
    async fn inside(&self, id: &str) -> Option<Inside> {
        let path = format!("/images/{}/json", checked(id).ok()?);
        let found: wire::ImageArchitecture = self.json(Call::get("inspect image", &path)).await.ok()?;
        let steps = self.image_steps(id).await.unwrap_or_default();
        Some(Inside {
            architecture: Some(found.architecture).filter(|a| !a.is_empty()),
            layers: layers(&found.root.layers, &steps),
        })
    }

    async fn volumes(&self) -> Result<Vec<Volume>, EngineError> {
        let list: wire::Volumes = self.json(Call::get("list volumes", "/volumes")).await?;
        let mut volumes: Vec<Volume> = list
            .volumes
            .into_iter()
            .map(|v| Volume {
                anonymous: v.name.len() == 64 && v.name.bytes().all(|b| b.is_ascii_hexdigit()),
                name: v.name,
                driver: v.driver,
                mount_point: v.mountpoint,
                options: v.options,
                labels: v.labels,
                created: time(&v.created_at),
                size: None,
            })
            .collect();
        volumes.sort_by(|a, b| a.name.cmp(&b.name));
        Ok(volumes)
    }

    async fn networks(&self) -> Result<Vec<Network>, EngineError> {
        let list: Vec<wire::Network> = self.json(Call::get("list networks", "/networks")).await?;
        let mut networks: Vec<Network> = list
            .into_iter()
            .map(|n| Network {
                id: n.id,
                name: n.name,
                driver: n.driver,
                subnets: n
                    .ipam
                    .config
                    .into_iter()
                    .filter(|c| !c.subnet.is_empty())
                    .map(|c| Subnet { subnet: c.subnet, gateway: Some(c.gateway).filter(|g| !g.is_empty()) })
                    .collect(),
                internal: n.internal,
                ipv6: n.ipv6,
                options: n.options,
                labels: n.labels,
                created: time(&n.created),
            })
            .collect();
        networks.sort_by(|a, b| (&a.name, &a.id).cmp(&(&b.name, &b.id)));
        Ok(networks)
    }

    /// Measures what the engine's data takes. Engines walk through their data for it: ask seldom.
    ///
    /// # Errors
    /// When the engine does not answer in five minutes.
    pub async fn measure(&self, now: Timestamp) -> Result<Measured, EngineError> {
        let call = Call { timeout: MEASURE_TIMEOUT, ..Call::get("disk use", "/system/df") };
        let found: wire::DiskUse = self.json(call).await?;
        let sized = |size: i64| u64::try_from(size).ok();
        let shared: HashMap<String, u64> = found
            .images
            .iter()
            .filter_map(|i| Some((bare_id(&i.id).to_owned(), sized(i.shared_size)?)))
            .collect();
        let volumes: HashMap<String, u64> =
            found.volumes.into_iter().filter_map(|v| Some((v.name, sized(v.usage_data?.size)?))).collect();
        let written =
            found.containers.iter().filter(|c| !c.id.is_empty()).map(|c| (c.id.clone(), c.size_rw)).collect();
        // dockerd counts each layer once; podman has no such sum, so it is made of what is not shared.
        let layers = found.layers_size.filter(|&s| s > 0).unwrap_or_else(|| {
            found.images.iter().map(|i| i.size.saturating_sub(sized(i.shared_size).unwrap_or(0))).sum()
        });
        let mut disk = Disk {
            total: None,
            used: None,
            images: Some(layers),
            containers: Some(found.containers.iter().map(|c| c.size_rw).sum()),
            volumes: Some(volumes.values().sum()),
            build_cache: Some(found.build_cache.iter().filter(|c| !c.shared).map(|c| c.size).sum()),
            cache_used: found.build_cache.iter().filter_map(wire::DiskCache::used).max(),
            measured: Some(now),
        };
        if let Some((total, used)) = self.file_system().await {
            disk.total = Some(total);
            disk.used = Some(used);
        }
        Ok(Measured { disk, shared, volumes, written })
    }

    /// Size and use of the file system that holds the engine's data, where it tells.
    pub async fn file_system(&self) -> Option<(u64, u64)> {
        if !self.dialect().has_own_interface() {
            return None;
        }
        let own: wire::PodmanInfo = self.json(Call::get("info", "/libpod/info")).await.ok()?;
        own.store.graph_root_allocated.zip(own.store.graph_root_used)
    }

    /// An image's whole record.
    ///
    /// # Errors
    /// 404 when there is none.
    pub async fn inspect_image(&self, id: &str) -> Result<Value, EngineError> {
        self.json(Call::get("inspect image", &format!("/images/{}/json", checked(id)?))).await
    }

    /// The steps that made an image, the newest first.
    ///
    /// # Errors
    /// 404 when there is none.
    pub async fn image_steps(&self, id: &str) -> Result<Vec<ImageStep>, EngineError> {
        let path = format!("/images/{}/history", checked(id)?);
        let steps: Vec<wire::ImageStep> = self.json(Call::get("image history", &path)).await?;
        Ok(steps
            .into_iter()
            .map(|s| ImageStep {
                command: s.created_by,
                created: Timestamp::from_second(s.created).unwrap_or(Timestamp::UNIX_EPOCH),
                size: s.size,
                comment: s.comment,
            })
            .collect())
    }

    /// A container's processes as a table: titles and rows.
    ///
    /// # Errors
    /// 409 when it does not run.
    pub async fn processes(&self, id: &str) -> Result<(Vec<String>, Vec<Vec<String>>), EngineError> {
        let own = if self.dialect().has_own_interface() { "/libpod" } else { "" };
        let path = format!("{own}/containers/{}/top?stream=false", checked(id)?);
        let found: wire::Processes = self.json(Call::get("processes", &path)).await?;
        Ok((found.titles, found.processes))
    }

    /// The files that differ from the image: path, and whether changed, added or deleted (0, 1, 2).
    ///
    /// # Errors
    /// 404 when there is no such container.
    pub async fn changed_files(&self, id: &str) -> Result<Vec<(String, u8)>, EngineError> {
        let path = format!("/containers/{}/changes", checked(id)?);
        let found: Option<Vec<wire::ChangedFile>> = self.json(Call::get("changed files", &path)).await?;
        Ok(found.unwrap_or_default().into_iter().map(|f| (f.path, f.kind)).collect())
    }
}

/// Names layers so that the same stack of layers has the same names in every image (as the OCI image
/// specification's chain ids do), and gives each the bytes of the step that made it.
fn layers(differences: &[String], steps: &[ImageStep]) -> Vec<Layer> {
    // Engines do not say which steps only set something: those that have bytes made layers, and if that is too few,
    // so did the oldest of those that look as if they had touched files.
    let mut makes: Vec<bool> = steps.iter().rev().map(|s| s.size > 0).collect();
    let mut missing = differences.len().saturating_sub(makes.iter().filter(|m| **m).count());
    for (step, makes) in steps.iter().rev().zip(&mut makes) {
        if missing > 0 && !*makes && !only_sets(&step.command) {
            *makes = true;
            missing -= 1;
        }
    }
    let mut sizes = steps.iter().rev().zip(makes).filter(|(_, makes)| *makes).map(|(s, _)| s.size);
    let mut chain = String::new();
    differences
        .iter()
        .map(|difference| {
            chain = if chain.is_empty() {
                bare_id(difference).to_owned()
            } else {
                let mut hash = Sha256::new();
                hash.update(format!("sha256:{chain} {difference}"));
                hash.finalize().iter().map(|b| format!("{b:02x}")).collect()
            };
            Layer { id: chain.clone(), size: sizes.next().unwrap_or(0) }
        })
        .collect()
}

/// A step that changes no files, as builders word it.
fn only_sets(command: &str) -> bool {
    const SETS: [&str; 13] = [
        "ENV",
        "CMD",
        "ENTRYPOINT",
        "LABEL",
        "EXPOSE",
        "USER",
        "VOLUME",
        "ARG",
        "HEALTHCHECK",
        "STOPSIGNAL",
        "SHELL",
        "ONBUILD",
        "MAINTAINER",
    ];
    let step = command.split_once("#(nop)").map_or(command, |(_, step)| step);
    step.split_whitespace().next().is_some_and(|word| SETS.contains(&word))
}

/// `3h 12m 33.00s (Approximately 0.12 days)`.
fn uptime(text: &str) -> Option<SignedDuration> {
    let mut seconds = 0.0;
    let mut found = false;
    for part in text.split('(').next()?.split_whitespace() {
        let (number, unit) = part.split_at(part.find(|c: char| c.is_ascii_alphabetic())?);
        let unit = match unit {
            "h" => 3600.0,
            "m" => 60.0,
            "s" => 1.0,
            _ => return None,
        };
        seconds += number.parse::<f64>().ok()? * unit;
        found = true;
    }
    found.then(|| SignedDuration::from_secs(seconds as i64))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn step(command: &str, size: u64) -> ImageStep {
        ImageStep { command: command.into(), created: Timestamp::UNIX_EPOCH, size, comment: String::new() }
    }

    #[test]
    fn layers_have_the_bytes_of_the_steps_that_made_them() {
        let steps = [
            step("CMD [\"serve\"]", 0),
            step("COPY app /app", 40),
            step("/bin/sh -c mkdir -p /app", 0),
            step("/bin/sh -c #(nop)  ENV A=1", 0),
            step("ADD base.tar /", 700),
        ];
        let found = layers(&["sha256:aa".into(), "sha256:bb".into(), "sha256:cc".into()], &steps);
        assert_eq!(found.iter().map(|l| l.size).collect::<Vec<_>>(), [700, 0, 40]);
        assert_eq!(found[0].id, "aa");
        let other = layers(&["sha256:aa".into(), "sha256:dd".into()], &steps[2..]);
        assert_eq!(other[0].id, found[0].id);
        assert_ne!(other[1].id, found[1].id);
        // The same difference over something else is another layer.
        assert_ne!(layers(&["sha256:xx".into(), "sha256:bb".into()], &[])[1].id, found[1].id);
    }

    #[test]
    fn an_uptime_is_read() {
        let read = |t: &str| uptime(t).map(|d| d.as_secs());
        assert_eq!(read("3h 12m 33.00s (Approximately 0.12 days)"), Some(11_553));
        assert_eq!(read("12m 33.00s"), Some(753));
        assert_eq!(read("for ever"), None);
        assert_eq!(read(""), None);
    }
}
