//! Images, volumes, networks, disk usage, samples, processes and changed files of a simulated engine, and its answers
//! about them.

use std::collections::BTreeMap;

use jiff::{SignedDuration, Timestamp};
use serde_json::{Value, json};

use crate::answers::image_id;
use crate::engine::{SimContainer, SimEngine, State, Status};
use crate::load::Load;

/// An image.
#[derive(Debug, Clone)]
pub(crate) struct SimImage {
    pub(crate) tags: Vec<String>,
    pub(crate) size: u64,
    pub(crate) shared: u64,
    pub(crate) created: Timestamp,
    pub(crate) architecture: String,
    /// Digests under which registries know it, as `name@sha256:…`; made up when it was never fetched.
    pub(crate) digests: Option<Vec<String>>,
    /// What it brings to containers; the usual when it was never fetched.
    pub(crate) config: Option<Value>,
    /// Its layers and their bytes; the usual when it was never fetched.
    pub(crate) layers: Vec<(String, u64)>,
}

impl SimImage {
    /// An image of this size, with everything else as usual.
    pub(crate) fn new(
        tags: Vec<String>,
        size: u64,
        shared: u64,
        created: Timestamp,
        architecture: &str,
    ) -> Self {
        Self {
            tags,
            size,
            shared,
            created,
            architecture: architecture.to_owned(),
            digests: None,
            config: None,
            layers: Vec::new(),
        }
    }

    fn name(&self) -> &str {
        self.tags.first().map_or("leftover", String::as_str)
    }

    /// What it brings to a container.
    pub(crate) fn config(&self) -> Value {
        let name = self.name();
        self.config.clone().unwrap_or_else(|| {
            json!({
                "User": if number(name, 2) == 0 { "1000" } else { "" }, "WorkingDir": "/app",
                "Entrypoint": ["/app/run"], "Cmd": ["--serve"],
                "Env": ["PATH=/usr/local/bin:/usr/bin:/bin", "LANG=C.UTF-8"],
                "ExposedPorts": {"8080/tcp": {}}, "Labels": null,
            })
        })
    }

    /// Its layers from the bottom.
    pub(crate) fn layers(&self) -> Vec<(String, u64)> {
        if !self.layers.is_empty() {
            return self.layers.clone();
        }
        let own = self.size.saturating_sub(self.shared);
        let libraries = own / 3 * 2;
        vec![
            (image_id("base layer"), self.shared),
            (image_id(&format!("libraries of {} {}", self.name(), self.size)), libraries),
            (image_id(&format!("{} {}", self.name(), self.size)), own - libraries),
        ]
    }
}

/// The digest under which a registry knows an image that was never fetched.
pub(crate) fn usual_digest(name: &str) -> String {
    image_id(&format!("at {}", image_id(name)))
}

/// A volume.
#[derive(Debug, Clone)]
pub(crate) struct SimVolume {
    pub(crate) size: u64,
    pub(crate) created: Timestamp,
    pub(crate) labels: BTreeMap<String, String>,
    pub(crate) driver: String,
    pub(crate) options: BTreeMap<String, String>,
}

/// A network.
#[derive(Debug, Clone)]
pub(crate) struct SimNetwork {
    pub(crate) created: Timestamp,
    /// What it was made with over the API.
    pub(crate) body: Value,
}

/// All of it.
#[derive(Debug, Default)]
pub(crate) struct Holdings {
    pub(crate) images: BTreeMap<String, SimImage>,
    pub(crate) volumes: BTreeMap<String, SimVolume>,
    pub(crate) networks: BTreeMap<String, SimNetwork>,
    /// The host's files.
    pub(crate) files: crate::files::Files,
    /// Bytes of the build cache.
    pub(crate) cache: u64,
    /// The size and use of the file system, which only podman's own interface tells.
    pub(crate) disk: Option<(u64, u64)>,
    /// Seconds by which the machine's clock is ahead.
    pub(crate) clock_ahead: i64,
}

const MIB: u64 = 1024 * 1024;

/// A number from a name, the same each time.
fn number(name: &str, below: u64) -> u64 {
    name.bytes().fold(0x9e37u64, |h, b| h.wrapping_mul(0x0100_0000_01b3) ^ u64::from(b)) % below.max(1)
}

impl Holdings {
    pub(crate) fn new() -> Self {
        let mut new = Self::default();
        for network in ["bridge", "host", "none"] {
            new.need_network(network);
        }
        new.cache = 310 * MIB;
        new
    }

    /// An image that a container is made from is there from then on.
    pub(crate) fn need_image(&mut self, image: &str) {
        let base = 40 + number(image, 400);
        let created = Timestamp::now()
            - SignedDuration::from_hours(24 * i64::try_from(2 + number(image, 60)).unwrap_or(2));
        let known = self.images.contains_key(image)
            || self.images.values().any(|i| i.tags.iter().any(|t| t == image));
        if !known {
            let new = SimImage::new(vec![image.to_owned()], base * MIB, 28 * MIB, created, "amd64");
            self.images.insert(image_id(image), new);
        }
    }

    pub(crate) fn need_volume(&mut self, name: &str) {
        self.files.folder(&crate::files::of_volume(name));
        self.volumes.entry(name.to_owned()).or_insert_with(|| SimVolume {
            size: (1 + number(name, 5000)) * MIB,
            created: Timestamp::now(),
            labels: BTreeMap::new(),
            driver: "local".to_owned(),
            options: BTreeMap::new(),
        });
    }

    pub(crate) fn need_network(&mut self, name: &str) {
        let new = || SimNetwork { created: Timestamp::now(), body: Value::Null };
        self.networks.entry(name.to_owned()).or_insert_with(new);
    }
}

fn subnet(network: &str) -> Option<u64> {
    match network {
        "host" | "none" => None,
        "bridge" => Some(17),
        other => Some(18 + number(other, 200)),
    }
}

/// A container's address in its network: the same for as long as it is there.
pub(crate) fn address(c: &SimContainer, network: &str) -> String {
    let place = number(&c.id, 250) + 2;
    match subnet(network) {
        Some(net) if c.status.alive() => format!("10.{net}.0.{place}"),
        _ => String::new(),
    }
}

pub(crate) fn images(state: &State) -> Value {
    let all = state.holdings.images.iter().map(|(id, i)| {
        let repository = i.tags.first().and_then(|t| t.rsplit_once(':')).map(|(r, _)| r.to_owned());
        let digests = i.digests.clone().unwrap_or_else(|| {
            repository.iter().map(|r| format!("{r}@{}", usual_digest(i.name()))).collect()
        });
        json!({
            "Id": id, "ParentId": "", "RepoTags": i.tags, "RepoDigests": digests, "Created": i.created.as_second(),
            "Size": i.size, "VirtualSize": i.size, "SharedSize": -1, "Containers": -1, "Labels": null,
        })
    });
    Value::Array(all.collect())
}

/// Finds an image by id, with or without its hash's name, or by tag.
pub(crate) fn find_image<'a>(state: &'a State, wanted: &str) -> Option<(&'a String, &'a SimImage)> {
    let images = &state.holdings.images;
    images
        .get_key_value(wanted)
        .or_else(|| images.get_key_value(&format!("sha256:{wanted}")))
        .or_else(|| images.iter().find(|(_, i)| i.tags.iter().any(|t| t == wanted)))
        .or_else(|| images.iter().find(|(_, i)| i.digests.iter().flatten().any(|d| d == wanted)))
        .or_else(|| {
            let latest = format!("{wanted}:latest");
            images.iter().find(|(_, i)| i.tags.contains(&latest))
        })
}

pub(crate) fn image(id: &str, i: &SimImage) -> Value {
    let layers: Vec<String> = i.layers().into_iter().map(|(id, _)| id).collect();
    json!({
        "Id": id, "RepoTags": i.tags, "RepoDigests": i.digests.clone().unwrap_or_default(), "Created": i.created.to_string(),
        "Architecture": i.architecture, "Os": "linux", "Size": i.size, "VirtualSize": i.size,
        "Config": i.config(), "RootFS": {"Type": "layers", "Layers": layers},
    })
}

pub(crate) fn image_steps(i: &SimImage) -> Value {
    let at = |hours| (i.created - SignedDuration::from_hours(hours)).as_second();
    let words = ["ADD base.tar /", "RUN install libraries of the co-operative", "COPY app /app"];
    let mut steps: Vec<Value> = i
        .layers()
        .iter()
        .enumerate()
        .map(|(n, (_, size))| {
            let word = words.get(n).copied().unwrap_or("RUN prepare");
            let hours = if n == 0 { 900 } else { 1 };
            json!({"Id": "", "Created": at(hours), "CreatedBy": word, "Size": size, "Tags": null, "Comment": ""})
        })
        .collect();
    let entry = "ENTRYPOINT [\"/app/run\"]";
    steps.push(
        json!({"Id": "", "Created": at(0), "CreatedBy": entry, "Size": 0, "Tags": i.tags, "Comment": ""}),
    );
    steps.reverse();
    Value::Array(steps)
}

pub(crate) fn volumes(state: &State) -> Value {
    let all = state.holdings.volumes.iter().map(|(name, v)| {
        json!({
            "Name": name, "Driver": v.driver, "Mountpoint": format!("/var/lib/engine/volumes/{name}/_data"), "Scope": "local",
            "CreatedAt": v.created.to_string(), "Labels": v.labels, "Options": v.options,
        })
    });
    json!({"Volumes": all.collect::<Vec<_>>(), "Warnings": null})
}

pub(crate) fn networks(state: &State) -> Value {
    let all = state.holdings.networks.iter().map(|(name, n)| network(name, n));
    Value::Array(all.collect())
}

pub(crate) fn network_id(name: &str) -> String {
    image_id(&format!("network {name}")).trim_start_matches("sha256:").to_owned()
}

pub(crate) fn network(name: &str, n: &SimNetwork) -> Value {
    {
        let created = n.created;
        let driver = match name {
            "host" => "host",
            "none" => "null",
            _ => n.body["Driver"].as_str().filter(|d| !d.is_empty()).unwrap_or("bridge"),
        };
        let usual: Vec<Value> = subnet(name)
            .map(|net| json!({"Subnet": format!("10.{net}.0.0/16"), "Gateway": format!("10.{net}.0.1")}))
            .into_iter()
            .collect();
        let config = match n.body["IPAM"]["Config"].as_array() {
            Some(own) if !own.is_empty() => own.clone(),
            _ => usual,
        };
        json!({
            "Name": name, "Id": network_id(name), "Created": created.to_string(),
            "Scope": "local", "Driver": driver, "EnableIPv6": n.body["EnableIPv6"] == true, "Internal": n.body["Internal"] == true, "IPAM": {"Driver": "default", "Config": config},
            "Containers": {}, "Options": n.body["Options"].as_object().cloned().unwrap_or_default(),
            "Labels": n.body["Labels"].as_object().cloned().unwrap_or_default(),
        })
    }
}

pub(crate) fn disk_use(state: &State) -> Value {
    let h = &state.holdings;
    let layers: u64 = h.images.values().map(|i| i.size - i.shared).sum::<u64>()
        + if h.images.is_empty() { 0 } else { 28 * MIB };
    let images: Vec<Value> =
        h.images.iter().map(|(id, i)| json!({"Id": id, "Size": i.size, "SharedSize": i.shared})).collect();
    let containers: Vec<Value> = state
        .containers
        .values()
        .map(|c| json!({"Id": c.id, "SizeRw": number(&c.id, 90) * MIB / 10}))
        .collect();
    let volumes: Vec<Value> = h
        .volumes
        .iter()
        .map(|(n, v)| json!({"Name": n, "UsageData": {"Size": v.size, "RefCount": 0}}))
        .collect();
    json!({"LayersSize": layers, "Images": images, "Containers": containers, "Volumes": volumes, "BuildCache": [{
        "Size": h.cache,
        "Shared": false,
        "LastUsedAt": (Timestamp::now() - jiff::SignedDuration::from_hours(60)).to_string(),
    }]})
}

fn seconds(time: Timestamp) -> f64 {
    time.as_nanosecond() as f64 / 1e9
}

fn counted(engine: &SimEngine, c: &SimContainer, now: Timestamp) -> crate::load::Counted {
    let started = c.started.unwrap_or(now);
    Load::new(&c.spec.name, engine.seed).counted(seconds(started), seconds(now))
}

/// dockerd's sample of one container; of one that does not run, zeros.
pub(crate) fn sample(engine: &SimEngine, c: &SimContainer) -> Value {
    let now = Timestamp::now();
    if !matches!(c.status, Status::Running | Status::Paused) {
        return json!({
            "read": "0001-01-01T00:00:00Z", "pids_stats": {}, "blkio_stats": {"io_service_bytes_recursive": null},
            "cpu_stats": {"cpu_usage": {"total_usage": 0}}, "memory_stats": {}, "name": format!("/{}", c.spec.name), "id": c.id,
        });
    }
    let used = counted(engine, c, now);
    let cache = used.memory / 4;
    let limit = c.spec.memory_limit.unwrap_or(MEMORY);
    let networks = (c.spec.network != "none" && c.spec.network != "host")
        .then(|| json!({"eth0": {"rx_bytes": used.network_in, "tx_bytes": used.network_out}}));
    json!({
        "read": now.to_string(), "preread": "0001-01-01T00:00:00Z", "pids_stats": {"current": used.processes},
        "blkio_stats": {"io_service_bytes_recursive": [
            {"major": 8, "minor": 0, "op": "read", "value": used.disk_read}, {"major": 8, "minor": 0, "op": "write", "value": used.disk_write}]},
        "cpu_stats": {"cpu_usage": {"total_usage": used.processor_nanos}, "online_cpus": 4},
        "memory_stats": {"usage": used.memory + cache, "limit": limit, "stats": {"active_file": cache / 2, "inactive_file": cache - cache / 2, "anon": used.memory}},
        "networks": networks, "name": format!("/{}", c.spec.name), "id": c.id,
    })
}

/// podman's samples of all running containers.
pub(crate) fn samples(engine: &SimEngine, state: &State) -> Value {
    let now = Timestamp::now();
    let running = state.containers.values().filter(|c| matches!(c.status, Status::Running | Status::Paused));
    let all = running.map(|c| {
        let used = counted(engine, c, now);
        json!({
            "ContainerID": c.id, "Name": c.spec.name, "CPUNano": used.processor_nanos, "SystemNano": now.as_nanosecond() as u64,
            "MemUsage": used.memory, "MemLimit": c.spec.memory_limit.unwrap_or(MEMORY), "NetInput": used.network_in,
            "NetOutput": used.network_out, "BlockInput": used.disk_read, "BlockOutput": used.disk_write, "PIDs": used.processes,
        })
    });
    json!({"Error": null, "Stats": all.collect::<Vec<_>>()})
}

/// The machine's memory.
pub(crate) const MEMORY: u64 = 16 * 1024 * MIB;

pub(crate) fn processes(c: &SimContainer) -> Value {
    let command = c.spec.command.join(" ");
    json!({
        "Titles": ["UID", "PID", "PPID", "C", "STIME", "TTY", "TIME", "CMD"],
        "Processes": [
            ["1000", "4242", "4220", "2", "05:12", "?", "00:03:11", command],
            ["1000", "4260", "4242", "0", "05:12", "?", "00:00:19", format!("{command} --worker 1")],
        ],
    })
}

pub(crate) fn changes(c: &SimContainer) -> Value {
    if !c.status.alive() {
        return Value::Null;
    }
    json!([{"Path": "/tmp", "Kind": 0}, {"Path": "/tmp/run.lock", "Kind": 1}, {"Path": "/var/cache/old", "Kind": 2}])
}

/// podman's own answer about its machine.
pub(crate) fn own_info(state: &State) -> Value {
    let (total, used) = state.holdings.disk.unwrap_or((500 << 30, 120 << 30));
    json!({
        "host": {"cpus": 4, "memTotal": MEMORY, "memFree": MEMORY / 3, "uptime": "310h 12m 5.00s (Approximately 12.92 days)"},
        "store": {"graphRootAllocated": total, "graphRootUsed": used},
    })
}
