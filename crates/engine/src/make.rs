//! Creates containers: from a definition to the engine's call.
//!
//! A replaced container's settings that a definition has no word for are carried over from its record, in `carried`. The way back is in `defined`.

use bytes::Bytes;
use gubernum_core::definition::{Definition, HealthRule, MountKind, MountRule, NetworkConnection, PortRule};
use gubernum_core::image_name::ImageName;
use gubernum_core::plan::{DEFAULT_GRACE_SECONDS, signal_name};
use http::Method;
use percent_encoding::{NON_ALPHANUMERIC, utf8_percent_encode};
use serde_json::{Map, Value, json};

use crate::addresses;
use crate::calls::checked;
use crate::carried;
use crate::client::{CALL_TIMEOUT, Call, Engine};
use crate::dialect::Dialect;
use crate::error::EngineError;
use crate::rare_settings;
use crate::wire;

/// The option by which drivers of networks are told what an interface is called.
pub(crate) const INTERFACE_OPTION: &str = "com.docker.network.endpoint.ifname";

impl Engine {
    /// Makes a container without starting it; returns its id. `base` is the record of the one that it replaces, `image_id`
    /// the image it must be made from when that is not the one its name means now.
    ///
    /// # Errors
    /// The engine's error. Nothing is left behind then.
    pub async fn make(
        &self,
        name: &str,
        definition: &Definition,
        base: Option<&Value>,
        image_id: Option<&str>,
    ) -> Result<String, EngineError> {
        let body = create_body(definition, base, self.dialect());
        let query = definition
            .platform
            .as_ref()
            .map_or_else(String::new, |p| format!("&platform={}", utf8_percent_encode(p, NON_ALPHANUMERIC)));
        let path = format!("/containers/create?name={}{query}", checked(name)?);
        let body = Some(Bytes::from(body.to_string()));
        let call = Call { body, timeout: CALL_TIMEOUT * 4, ..Call::post("make container", &path) };
        let created: wire::Created = match image_id {
            Some(id) => self.with_name_on(&definition.image, id, self.json(call)).await?,
            None => self.json(call).await?,
        };
        let joined = join_later(definition);
        for network in joined {
            if let Err(error) = self.join(&created.id, network, base).await {
                // Half a container is none.
                let _ = self.remove(&created.id, true, false).await;
                return Err(error);
            }
        }
        Ok(created.id)
    }

    /// Lets a name mean another image for as long as `work` takes, so that the container's record shows the name
    /// and not a bare id.
    async fn with_name_on<T>(
        &self,
        name: &str,
        id: &str,
        work: impl Future<Output = Result<T, EngineError>>,
    ) -> Result<T, EngineError> {
        let Ok(parsed) = name.parse::<ImageName>() else { return work.await };
        if parsed.is_pinned() {
            return work.await;
        }
        let now = self.image_id_of(name).await?;
        if now.as_deref() == Some(gubernum_core::assets::bare_id(id)) {
            return work.await;
        }
        self.tag(id, name).await?;
        let outcome = work.await;
        if let Some(now) = now {
            self.tag(&now, name).await?;
        }
        outcome
    }

    /// Puts a container into a network.
    ///
    /// # Errors
    /// The engine's error.
    pub async fn connect(&self, container: &str, join: &NetworkConnection) -> Result<(), EngineError> {
        self.join(container, join, None).await
    }

    async fn join(
        &self,
        container: &str,
        join: &NetworkConnection,
        base: Option<&Value>,
    ) -> Result<(), EngineError> {
        let path = format!("/networks/{}/connect", checked(&join.name)?);
        let body = json!({"Container": checked(container)?, "EndpointConfig": endpoint(join, base)});
        let body = Some(Bytes::from(body.to_string()));
        self.ok(Call { body, ..Call::post("connect", &path) }).await.map(drop)
    }

    /// Takes a container out of a network.
    ///
    /// # Errors
    /// The engine's error.
    pub async fn disconnect(&self, container: &str, network: &str, force: bool) -> Result<(), EngineError> {
        let path = format!("/networks/{}/disconnect", checked(network)?);
        let body = json!({"Container": checked(container)?, "Force": force});
        let body = Some(Bytes::from(body.to_string()));
        self.ok(Call { body, ..Call::post("disconnect", &path) }).await.map(drop)
    }

    /// Gives a container another name.
    ///
    /// # Errors
    /// 409 when the name is taken.
    pub async fn rename(&self, id: &str, name: &str) -> Result<(), EngineError> {
        let path = format!("/containers/{}/rename?name={}", checked(id)?, checked(name)?);
        self.ok(Call::post("rename", &path)).await.map(drop)
    }

    /// Whether limits and the restart policy of what runs can be changed.
    pub fn changes_in_place(&self) -> bool {
        self.dialect().changes_in_place()
    }

    /// Changes limits and the restart policy of a container while it runs.
    ///
    /// # Errors
    /// 404 on engines that cannot.
    pub async fn change_in_place(&self, id: &str, d: &Definition) -> Result<(), EngineError> {
        let mut body = Map::new();
        limits(d, &mut body);
        body.remove("ShmSize");
        body.remove("Ulimits");
        body.remove("OomScoreAdj");
        // Memory alone is refused where a swap limit is in its way.
        if let (Some(memory), None) = (d.limits.memory, d.limits.memory_and_swap) {
            body.insert("MemorySwap".into(), json!(memory.saturating_mul(2)));
        }
        body.insert("RestartPolicy".into(), restart(d));
        let path = format!("/containers/{}/update", checked(id)?);
        let body = Some(Bytes::from(Value::Object(body).to_string()));
        self.ok(Call { body, ..Call::post("update limits", &path) }).await.map(drop)
    }

    /// Runs the health check now, on engines that do not run it by themselves everywhere.
    ///
    /// # Errors
    /// When the engine cannot.
    pub async fn check_health(&self, id: &str) -> Result<(), EngineError> {
        if !self.dialect().has_own_interface() {
            return Ok(());
        }
        let path = format!("/libpod/containers/{}/healthcheck", checked(id)?);
        self.ok(Call { method: Method::GET, timeout: CALL_TIMEOUT * 2, ..Call::get("health check", &path) })
            .await
            .map(drop)
    }
}

/// Networks that are joined after the container is made, because not all engines take several at once.
fn join_later(d: &Definition) -> &[NetworkConnection] {
    d.network.networks.get(1..).unwrap_or_default()
}

fn endpoint(join: &NetworkConnection, base: Option<&Value>) -> Value {
    let mut out = json!({});
    if !join.aliases.is_empty() {
        out["Aliases"] = json!(join.aliases);
    }
    if join.address.is_some() || join.ipv6.is_some() {
        let mut ipam = Map::new();
        if let Some(address) = &join.address {
            ipam.insert("IPv4Address".into(), json!(address));
        }
        if let Some(address) = &join.ipv6 {
            ipam.insert("IPv6Address".into(), json!(address));
        }
        out["IPAMConfig"] = Value::Object(ipam);
    }
    if !join.link_local.is_empty() {
        out["IPAMConfig"]["LinkLocalIPs"] = json!(join.link_local);
    }
    if let Some(address) = &join.hardware_address {
        out["MacAddress"] = json!(address);
    }
    if let Some(priority) = join.gateway_priority {
        out["GwPriority"] = json!(priority);
    }
    let mut options = join.options.clone();
    options.extend(join.interface.iter().map(|name| (INTERFACE_OPTION.to_owned(), name.clone())));
    if !options.is_empty() {
        out["DriverOpts"] = json!(options);
    }
    carried::endpoint(base, &join.name, &mut out);
    out
}

fn restart(d: &Definition) -> Value {
    let policy = if d.restart.policy.is_empty() { "no" } else { &d.restart.policy };
    json!({"Name": policy, "MaximumRetryCount": d.restart.most_tries.unwrap_or(0)})
}

fn nanos(ms: Option<u64>) -> u64 {
    ms.unwrap_or(0).saturating_mul(1_000_000)
}

fn health(h: &HealthRule) -> Value {
    if h.disabled {
        return json!({"Test": ["NONE"]});
    }
    let mut check = json!({
        "Test": h.test, "Interval": nanos(h.interval_ms), "Timeout": nanos(h.timeout_ms),
        "Retries": h.retries.unwrap_or(0), "StartPeriod": nanos(h.start_ms),
    });
    if h.start_interval_ms.is_some() {
        check["StartInterval"] = json!(nanos(h.start_interval_ms));
    }
    check
}

fn limits(d: &Definition, host: &mut Map<String, Value>) {
    let l = &d.limits;
    let mut put = |key: &str, value: Option<Value>| {
        if let Some(value) = value {
            host.insert(key.to_owned(), value);
        }
    };
    put("Memory", l.memory.map(Value::from));
    put("MemorySwap", l.memory_and_swap.map(Value::from));
    put("MemoryReservation", l.memory_reserved.map(Value::from));
    put("ShmSize", l.shared_memory.map(Value::from));
    put("NanoCpus", l.processors.map(|p| Value::from((p * 1e9).round() as i64)));
    put("CpuShares", l.processor_weight.map(Value::from));
    put("CpusetCpus", l.processor_set.clone().map(Value::from));
    put("PidsLimit", l.processes.map(Value::from));
    put("OomScoreAdj", l.out_of_memory_score.map(Value::from));
    let each: Vec<Value> =
        l.each_process.iter().map(|u| json!({"Name": u.name, "Soft": u.soft, "Hard": u.hard})).collect();
    put("Ulimits", (!each.is_empty()).then_some(Value::Array(each)));
}

/// Whether an anonymous volume is nothing but that.
fn is_plain(m: &MountRule) -> bool {
    !m.read_only && !m.no_copy && m.subpath.is_none() && m.labels.is_empty()
}

/// A mount in the engine's long form.
fn mount(m: &MountRule) -> Value {
    let (kind, options) = match m.kind {
        MountKind::Volume => ("volume", "VolumeOptions"),
        MountKind::Bind => ("bind", "BindOptions"),
        MountKind::Tmpfs => ("tmpfs", "TmpfsOptions"),
        MountKind::Image => ("image", "ImageOptions"),
    };
    let mut mount = json!({"Type": kind, "Target": m.target, "ReadOnly": m.read_only});
    if let Some(source) = &m.source {
        mount["Source"] = json!(source);
    }
    let mut more = Map::new();
    let mut put = |key: &str, value: Option<Value>| more.extend(value.map(|value| (key.to_owned(), value)));
    put("Subpath", m.subpath.clone().map(Value::from));
    match m.kind {
        MountKind::Volume => {
            put("NoCopy", m.no_copy.then_some(Value::Bool(true)));
            put("Labels", (m.source.is_none() && !m.labels.is_empty()).then(|| json!(m.labels)));
        }
        MountKind::Bind => {
            put("Propagation", m.propagation.clone().map(Value::from));
            let below = match m.below.as_deref() {
                Some("no") => Some("NonRecursive"),
                Some("readonly") => Some("ReadOnlyForceRecursive"),
                Some("writable") => Some("ReadOnlyNonRecursive"),
                _ => None,
            };
            if let Some(key) = below {
                put(key, Some(Value::Bool(true)));
            }
        }
        MountKind::Tmpfs | MountKind::Image => {}
    }
    if !more.is_empty() {
        mount[options] = Value::Object(more);
    }
    mount
}

fn mounts(d: &Definition, body: &mut Map<String, Value>, host: &mut Map<String, Value>) {
    let (mut mounts, mut anonymous, mut tmpfs) = (Vec::new(), Map::new(), Map::new());
    let mut binds = Vec::new();
    for m in &d.mounts {
        match (m.kind, &m.source) {
            (MountKind::Volume, None) if is_plain(m) => {
                anonymous.insert(m.target.clone(), json!({}));
            }
            // Labels of files are a word of the short form alone.
            (MountKind::Bind, Some(source)) if m.selinux.is_some() => {
                let options = m.selinux.iter().chain(&m.propagation).map(String::as_str);
                let options: Vec<&str> = options.chain(m.read_only.then_some("ro")).collect();
                binds.push(format!("{source}:{}:{}", m.target, options.join(",")));
            }
            (MountKind::Tmpfs, _) => {
                let size = m.size.map(|s| format!("size={s}"));
                let mode = m.mode.as_ref().map(|mode| format!("mode={mode}"));
                let read_only = m.read_only.then(|| "ro".to_owned());
                let others = m.options.iter().map(|(name, value)| match value.as_str() {
                    "" => name.clone(),
                    value => format!("{name}={value}"),
                });
                let options: Vec<String> =
                    size.into_iter().chain(mode).chain(read_only).chain(others).collect();
                tmpfs.insert(m.target.clone(), json!(options.join(",")));
            }
            _ => mounts.push(mount(m)),
        }
    }
    if !binds.is_empty() {
        host.insert("Binds".into(), json!(binds));
    }
    if !anonymous.is_empty() {
        body.insert("Volumes".into(), Value::Object(anonymous));
    }
    if !mounts.is_empty() {
        host.insert("Mounts".into(), Value::Array(mounts));
    }
    if !tmpfs.is_empty() {
        host.insert("Tmpfs".into(), Value::Object(tmpfs));
    }
}

fn rights(d: &Definition, host: &mut Map<String, Value>) {
    let r = &d.rights;
    host.insert("Privileged".into(), json!(r.privileged));
    host.insert("ReadonlyRootfs".into(), json!(r.read_only));
    let mut list = |key: &str, items: &[String]| {
        if !items.is_empty() {
            host.insert(key.to_owned(), json!(items));
        }
    };
    list("CapAdd", &r.add);
    list("CapDrop", &r.drop);
    list("SecurityOpt", &r.security);
    list("GroupAdd", &r.groups);
    let devices: Vec<Value> = r
        .devices
        .iter()
        .map(|d| {
            json!({
                "PathOnHost": d.host, "PathInContainer": d.container.as_ref().unwrap_or(&d.host),
                "CgroupPermissions": d.permissions.as_deref().unwrap_or("rwm"),
            })
        })
        .collect();
    if !devices.is_empty() {
        host.insert("Devices".into(), Value::Array(devices));
    }
    if let Some(gpus) = &r.gpus {
        let abilities: Vec<&str> =
            std::iter::once("gpu").chain(gpus.abilities.iter().map(String::as_str)).collect();
        let mut wanted =
            json!({"Capabilities": [abilities], "Driver": gpus.driver.as_deref().unwrap_or_default()});
        if !gpus.options.is_empty() {
            wanted["Options"] = json!(gpus.options);
        }
        if gpus.ids.is_empty() {
            wanted["Count"] = json!(gpus.count.unwrap_or(-1));
        } else {
            wanted["DeviceIDs"] = json!(gpus.ids);
        }
        host.insert("DeviceRequests".into(), json!([wanted]));
    }
    if !r.kernel.is_empty() {
        host.insert("Sysctls".into(), json!(r.kernel));
    }
    for (key, value) in [("PidMode", &r.processes_of), ("IpcMode", &r.memory_of), ("UsernsMode", &r.users_of)]
    {
        if let Some(value) = value {
            host.insert(key.to_owned(), json!(value));
        }
    }
}

fn network(
    d: &Definition,
    base: Option<&Value>,
    body: &mut Map<String, Value>,
    host: &mut Map<String, Value>,
) {
    let n = &d.network;
    let first = n.networks.first();
    if let Some(mode) = n.mode.as_deref().or(first.map(|j| j.name.as_str())) {
        host.insert("NetworkMode".into(), json!(mode));
    }
    if let Some(first) = first {
        let mut endpoints = Map::new();
        endpoints.insert(first.name.clone(), endpoint(first, base));
        body.insert("NetworkingConfig".into(), json!({"EndpointsConfig": endpoints}));
    }
    for (key, items) in [
        ("Dns", &n.dns),
        ("DnsSearch", &n.dns_search),
        ("DnsOptions", &n.dns_options),
        ("ExtraHosts", &n.hosts),
    ] {
        if !items.is_empty() {
            host.insert(key.to_owned(), json!(items));
        }
    }
    let mut bindings = Map::new();
    let mut open = Map::new();
    for p in &d.ports {
        let key = format!("{}/{}", p.container_port, p.protocol);
        open.insert(key.clone(), json!({}));
        let binding = json!({
            "HostIp": p.address.as_deref().unwrap_or_default(),
            "HostPort": published(p),
        });
        if let Value::Array(all) = bindings.entry(key).or_insert_with(|| json!([])) {
            all.push(binding);
        }
    }
    open.extend(d.open.iter().map(|o| (o.clone(), json!({}))));
    if !open.is_empty() {
        body.insert("ExposedPorts".into(), Value::Object(open));
    }
    if !bindings.is_empty() {
        host.insert("PortBindings".into(), Value::Object(bindings));
    }
}

/// The port on the host, or the range of which the engine takes one.
fn published(p: &PortRule) -> String {
    match (p.host_port, p.host_port_to) {
        (Some(from), Some(to)) => format!("{from}-{to}"),
        (Some(port), None) => port.to_string(),
        (None, _) => String::new(),
    }
}

/// The body of the engine's create call.
pub(crate) fn create_body(d: &Definition, base: Option<&Value>, dialect: Dialect) -> Value {
    let mut body = Map::new();
    let mut host = Map::new();
    body.insert("Image".into(), json!(d.image));
    let mut put = |key: &str, value: Option<Value>| {
        if let Some(value) = value {
            body.insert(key.to_owned(), value);
        }
    };
    put("Entrypoint", d.entrypoint.as_ref().map(|e| json!(e)));
    put("Cmd", d.command.as_ref().map(|c| json!(c)));
    let environment: Vec<String> = d.environment.iter().map(|e| format!("{}={}", e.name, e.value)).collect();
    put("Env", (!environment.is_empty()).then(|| json!(environment)));
    put("User", d.user.as_ref().map(|u| json!(u)));
    put("WorkingDir", d.working_folder.as_ref().map(|w| json!(w)));
    put("Hostname", d.hostname.as_ref().map(|h| json!(h)));
    put("Domainname", d.domain.as_ref().map(|h| json!(h)));
    put("MacAddress", d.network.hardware_address.as_ref().map(|h| json!(h)));
    let mut labels = d.labels.clone();
    if dialect == Dialect::Podman && !d.network.networks.is_empty() {
        labels.insert(addresses::LABEL.into(), addresses::written(&d.network.networks));
    }
    put("Labels", (!labels.is_empty()).then(|| json!(labels)));
    put("StopSignal", d.stop_signal.as_deref().and_then(signal_name).map(Value::from));
    // Where nothing is said podman takes none at all: what is stopped would be killed at once.
    let grace = d.grace_seconds.or((dialect == Dialect::Podman).then_some(DEFAULT_GRACE_SECONDS));
    put("StopTimeout", grace.map(Value::from));
    put("Healthcheck", d.health.as_ref().map(health));
    put("Tty", d.terminal.then_some(Value::Bool(true)));
    put("OpenStdin", d.input.then_some(Value::Bool(true)));
    limits(d, &mut host);
    mounts(d, &mut body, &mut host);
    rights(d, &mut host);
    rare_settings::write(d, &mut host);
    if let Some(base) = base {
        carried::settings(base, d, dialect, &mut host);
    }
    network(d, base, &mut body, &mut host);
    host.insert("RestartPolicy".into(), restart(d));
    if d.auto_remove {
        host.insert("AutoRemove".into(), json!(true));
    }
    if let Some(init) = d.init {
        host.insert("Init".into(), json!(init));
    }
    if d.log.driver.is_some() || !d.log.options.is_empty() {
        host.insert(
            "LogConfig".into(),
            json!({"Type": d.log.driver.as_deref().unwrap_or_default(), "Config": d.log.options}),
        );
    }
    body.insert("HostConfig".into(), Value::Object(host));
    Value::Object(body)
}

#[cfg(test)]
#[path = "make_tests.rs"]
mod tests;
