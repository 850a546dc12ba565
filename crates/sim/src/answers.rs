//! The engine's JSON answers, in the shapes that dockerd 20.10 gives.

use jiff::Timestamp;
use serde_json::{Value, json};

use crate::engine::{SimContainer, Status};
use crate::spec::ContainerSpec;

const NEVER: &str = "0001-01-01T00:00:00Z";

pub(crate) fn version() -> Value {
    json!({
        "Platform": {"Name": ""},
        "Components": [{"Name": "Engine", "Version": "20.10.24", "Details": {"ApiVersion": "1.41"}}],
        "Version": "20.10.24", "ApiVersion": "1.41", "MinAPIVersion": "1.12",
        "Os": "linux", "Arch": "amd64", "KernelVersion": "6.1.0-sim",
    })
}

pub(crate) fn info(name: &str, containers: usize) -> Value {
    // All engines of a cloned machine say the same id: nobody may rely on it.
    json!({"ID": "SIMU:LATE:D", "Name": name, "Containers": containers, "OSType": "linux", "Architecture": "x86_64"})
}

fn stamp(time: Option<Timestamp>) -> String {
    time.map_or_else(|| NEVER.to_owned(), |t| t.to_string())
}

fn image_id(image: &str) -> String {
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
        "ImageID": image_id(&c.spec.image), "Command": c.spec.command.join(" "),
        "Created": c.created.as_second(), "Ports": [], "Labels": c.spec.labels,
        "State": c.status.word(), "Status": c.status.word(),
        "HostConfig": {"NetworkMode": c.spec.network}, "Mounts": mounts(&c.spec),
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
    let (path, args) = c.spec.command.split_first().map_or(("", &[][..]), |(p, a)| (p.as_str(), a));
    let network =
        json!({"NetworkID": image_id(&c.spec.network), "IPAddress": if running { "172.18.0.9" } else { "" }});
    let mut networks = serde_json::Map::new();
    networks.insert(c.spec.network.clone(), network);
    json!({
        "Id": c.id, "Created": c.created.to_string(), "Path": path, "Args": args, "State": state,
        "Image": image_id(&c.spec.image), "Name": format!("/{}", c.spec.name), "RestartCount": c.restart_count,
        "Driver": "overlay2", "Platform": "linux",
        "HostConfig": {
            "NetworkMode": c.spec.network, "PortBindings": bindings(&c.spec),
            "RestartPolicy": {"Name": c.spec.restart_policy, "MaximumRetryCount": 0},
            "LogConfig": {"Type": "json-file", "Config": {}},
        },
        "Mounts": mounts(&c.spec),
        "Config": {
            "Hostname": &c.id[..12], "Tty": c.spec.terminal, "Env": c.spec.environment, "Cmd": args,
            "Image": c.spec.image, "Labels": c.spec.labels, "StopTimeout": c.spec.stop_timeout,
        },
        "NetworkSettings": {"Ports": if running { bindings(&c.spec) } else { json!({}) }, "Networks": networks},
    })
}
