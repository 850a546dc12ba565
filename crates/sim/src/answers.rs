//! The engine's JSON answers, in the shapes that dockerd 20.10 gives.

use jiff::Timestamp;
use serde_json::{Value, json};

use crate::engine::{SimContainer, State, Status};
use crate::spec::ContainerSpec;

const NEVER: &str = "0001-01-01T00:00:00Z";

pub(crate) fn version(podman: bool) -> Value {
    if podman {
        return json!({
            "Platform": {"Name": "linux/amd64"},
            "Components": [{"Name": "Podman Engine", "Version": "4.3.1", "Details": {"APIVersion": "4.3.1"}}],
            "Version": "4.3.1", "ApiVersion": "1.41", "MinAPIVersion": "1.24",
            "Os": "linux", "Arch": "amd64", "KernelVersion": "6.1.0-sim",
        });
    }
    json!({
        "Platform": {"Name": ""},
        "Components": [{"Name": "Engine", "Version": "20.10.24", "Details": {"ApiVersion": "1.41"}}],
        "Version": "20.10.24", "ApiVersion": "1.41", "MinAPIVersion": "1.12",
        "Os": "linux", "Arch": "amd64", "KernelVersion": "6.1.0-sim",
    })
}

pub(crate) fn info(name: &str, state: &State, podman: bool) -> Value {
    let running = state.containers.values().filter(|c| c.status == Status::Running).count();
    let ahead = jiff::SignedDuration::from_secs(state.holdings.clock_ahead);
    // All engines of a cloned machine say the same id: nobody may rely on it.
    json!({
        "ID": "SIMU:LATE:D", "Name": name, "Containers": state.containers.len(), "ContainersRunning": running,
        "Images": state.holdings.images.len(), "OSType": "linux", "Architecture": "x86_64", "NCPU": 4,
        "MemTotal": crate::holdings::MEMORY, "OperatingSystem": "Debian GNU/Linux 12 (bookworm)", "OSVersion": "12",
        "KernelVersion": "6.1.0-sim", "CgroupVersion": "2", "Driver": if podman { "overlay" } else { "overlay2" },
        "DockerRootDir": "/var/lib/engine", "SystemTime": (Timestamp::now() + ahead).to_string(), "Warnings": null,
    })
}

fn stamp(time: Option<Timestamp>) -> String {
    time.map_or_else(|| NEVER.to_owned(), |t| t.to_string())
}

pub(crate) fn image_id(image: &str) -> String {
    let digest = ring::digest::digest(&ring::digest::SHA256, image.as_bytes());
    let hex: String = digest.as_ref().iter().map(|b| format!("{b:02x}")).collect();
    format!("sha256:{hex}")
}

fn mounts(spec: &ContainerSpec) -> Vec<Value> {
    spec.volumes
        .iter()
        .map(|v| {
            let bind = v.source.starts_with('/');
            json!({
                "Type": if bind { "bind" } else { "volume" },
                "Name": if bind { "" } else { v.source.as_str() },
                "Source": if bind { v.source.clone() } else { format!("/var/lib/engine/volumes/{}/_data", v.source) },
                "Destination": v.target, "Mode": "", "RW": !v.read_only, "Propagation": "",
            })
        })
        .collect()
}

fn bindings(spec: &ContainerSpec) -> Value {
    let mut map = serde_json::Map::new();
    for port in &spec.ports {
        let key = format!("{}/{}", port.container, port.protocol);
        let entry = map.entry(key).or_insert(Value::Null);
        if let Some(host) = port.host {
            let binding = json!({"HostIp": "0.0.0.0", "HostPort": host.to_string()});
            match entry.as_array_mut() {
                Some(all) => all.push(binding),
                None => *entry = json!([binding]),
            }
        }
    }
    Value::Object(map)
}

pub(crate) fn summary(c: &SimContainer) -> Value {
    json!({
        "Id": c.id, "Names": [format!("/{}", c.spec.name)], "Image": c.spec.image,
        "ImageID": c.image, "Command": c.spec.command.join(" "),
        "Created": c.created.as_second(), "Ports": [], "Labels": c.spec.labels,
        "State": c.status.word(), "Status": c.status.word(),
        "HostConfig": {"NetworkMode": c.spec.network}, "Mounts": mounts(&c.spec), "NetworkSettings": {"Networks": networks(c)},
    })
}

pub(crate) fn inspect(c: &SimContainer) -> Value {
    let running = matches!(c.status, Status::Running | Status::Paused);
    let mut state = json!({
        "Status": c.status.word(), "Running": running, "Paused": c.status == Status::Paused,
        "Restarting": c.status == Status::Restarting, "OOMKilled": c.out_of_memory, "Dead": false,
        "Pid": if running { 4242 } else { 0 }, "ExitCode": c.exit_code, "Error": c.error,
        "StartedAt": stamp(c.started), "FinishedAt": stamp(c.finished),
    });
    if let Some(plan) = &c.spec.health {
        let log = match c.health {
            "unhealthy" => json!([{"Start": NEVER, "End": NEVER, "ExitCode": 1, "Output": plan.output}]),
            _ => json!([]),
        };
        state["Health"] = json!({"Status": c.health, "FailingStreak": c.health_fails, "Log": log});
    }
    // What is made from outside runs what its image does.
    let usual = ["--serve".to_owned()];
    let as_image = c.body.is_null() && c.spec.command == ["/app/run"];
    let (path, args) = c.spec.command.split_first().map_or(("", &[][..]), |(p, a)| (p.as_str(), a));
    let args = if as_image { &usual[..] } else { args };
    let mut exposed = c.body["ExposedPorts"].as_object().cloned().unwrap_or_default();
    for port in &c.spec.ports {
        exposed.entry(format!("{}/{}", port.container, port.protocol)).or_insert(json!({}));
    }
    let mut config = json!({
        "Hostname": &c.id[..12], "Tty": c.spec.terminal, "Env": c.spec.environment, "Cmd": args, "Entrypoint": [path],
        "Image": c.spec.image, "Labels": c.spec.labels, "StopTimeout": c.spec.stop_timeout, "WorkingDir": "/app",
    });
    let mut host = json!({
        "NetworkMode": c.spec.network, "Memory": c.spec.memory_limit.unwrap_or(0), "PortBindings": bindings(&c.spec),
        "RestartPolicy": {"Name": c.spec.restart_policy, "MaximumRetryCount": 0},
        "LogConfig": {"Type": "json-file", "Config": {}},
    });
    for (base, over) in [(&mut config, &c.body), (&mut host, &c.body["HostConfig"])] {
        for (key, value) in over.as_object().into_iter().flatten() {
            let elsewhere = matches!(key.as_str(), "HostConfig" | "NetworkingConfig");
            if !(elsewhere || value.is_null() || key == "Hostname" && value == "") {
                base[key] = value.clone();
            }
        }
    }
    config["ExposedPorts"] = Value::Object(exposed);
    json!({
        "Id": c.id, "Created": c.created.to_string(), "Path": path, "Args": args, "State": state,
        "Image": c.image, "Name": format!("/{}", c.spec.name), "RestartCount": c.restart_count,
        "Driver": "overlay2", "Platform": "linux", "HostConfig": host, "Mounts": mounts(&c.spec), "Config": config,
        "NetworkSettings": {"Ports": if running { bindings(&c.spec) } else { json!({}) }, "Networks": networks(c)},
    })
}

fn networks(c: &SimContainer) -> Value {
    let mut all = serde_json::Map::new();
    for (name, wish) in &c.networks {
        let mut aliases: Vec<Value> = wish["Aliases"].as_array().cloned().unwrap_or_default();
        aliases.extend(c.spec.labels.get("com.docker.compose.service").map(|s| json!(s)));
        aliases.dedup();
        let fixed = wish["IPAMConfig"]["IPv4Address"].as_str().map(str::to_owned);
        let address = fixed.filter(|_| c.status.alive()).unwrap_or_else(|| crate::holdings::address(c, name));
        all.insert(
            name.clone(),
            json!({
                "NetworkID": crate::holdings::network_id(name), "IPAddress": address,
                "Aliases": if aliases.is_empty() { Value::Null } else { Value::Array(aliases) },
                "IPAMConfig": wish["IPAMConfig"],
            }),
        );
    }
    Value::Object(all)
}
