//! Changing one label of containers that other people made with the engines' own clients, of many kinds: whatever else the
//! engine's record says of them is the same after.

use std::time::Duration;

use gubernum_api::OperationState;
use gubernum_api::requests::{EditRequest, NewHost, NewOperation, Request};
use gubernum_client::Client;
use gubernum_testbed::hosts::{HostNet, NetHost};
use gubernum_testbed::real::IMAGE;
use serde_json::{Value, json};

use crate::support::{claim, start, until};

/// What is made on both engines: a name, and the words for the engine's client.
const KINDS: &[(&str, &[&str])] = &[
    ("plain", &[]),
    ("without-rights", &["--cap-drop", "ALL"]),
    ("with-one-right", &["--cap-drop", "ALL", "--cap-add", "CHOWN"]),
    ("other-rights", &["--cap-drop", "CHOWN", "--cap-add", "NET_ADMIN"]),
    ("privileged", &["--privileged"]),
    ("hardened", &["--read-only", "--security-opt", "no-new-privileges", "--user", "1000:1000"]),
    (
        "fenced",
        &[
            "--memory",
            "64m",
            "--memory-swap",
            "96m",
            "--cpus",
            "0.5",
            "--cpu-shares",
            "512",
            "--pids-limit",
            "77",
        ],
    ),
    (
        "no-swap",
        &["--memory", "64m", "--memory-swap", "64m", "--memory-reservation", "32m", "--shm-size", "8m"],
    ),
    ("limits-of-each", &["--ulimit", "nofile=1024:2048", "--ulimit", "core=0:0", "--oom-score-adj", "100"]),
    ("in-memory", &["--tmpfs", "/x:size=1m,mode=1770,noexec", "--tmpfs", "/y"]),
    ("kept", &["--volume", "readings:/readings", "--volume", "/scratch", "--volume", "/tmp:/exchange:ro"]),
    ("spread", &["--mount", "type=bind,source=/tmp,target=/exchange,bind-propagation=rslave"]),
    ("open", &["--publish", "127.0.0.1:7411:80", "--publish", "7412:81/udp", "--expose", "99"]),
    (
        "named",
        &[
            "--hostname",
            "mast",
            "--dns",
            "192.0.2.53",
            "--dns-search",
            "orchard.example",
            "--add-host",
            "books:192.0.2.7",
        ],
    ),
    ("alone", &["--network", "none"]),
    ("of-the-host", &["--network", "host", "--pid", "host", "--uts", "host", "--ipc", "host"]),
    (
        "checked",
        &[
            "--health-cmd",
            "true",
            "--health-interval",
            "7s",
            "--health-retries",
            "4",
            "--health-start-period",
            "2s",
        ],
    ),
    ("unchecked", &["--no-healthcheck", "--stop-signal", "SIGUSR1", "--stop-timeout", "4"]),
    ("staying-up", &["--restart", "on-failure:4"]),
    ("logged", &["--log-driver", "json-file", "--log-opt", "max-size=1m"]),
    ("with-a-terminal", &["--tty", "--interactive", "--workdir", "/tmp", "--entrypoint", "/bin/sleep"]),
    (
        "told",
        &["--env", "CROP=pears", "--env", "EMPTY=", "--label", "row=3", "--sysctl", "net.ipv4.ip_forward=1"],
    ),
    ("with-devices", &["--device", "/dev/null:/dev/frost:r", "--device", "/dev/zero", "--group-add", "44"]),
    ("in-a-network", &["--network", "orchard", "--network-alias", "frost", "--ip", "10.92.4.9"]),
];

/// And what only dockerd has, or has in another way.
const OF_DOCKERD: &[(&str, &[&str])] = &[
    ("linked", &["--link", "books:ledger"]),
    ("linked-in-a-network", &["--network", "orchard", "--link", "books-in-a-network:ledger"]),
    ("with-a-first-process", &["--init"]),
    ("shared-memory", &["--ipc", "shareable"]),
    ("unmasked", &["--security-opt", "systempaths=unconfined", "--security-opt", "seccomp=unconfined"]),
    ("in-memory-by-mount", &["--mount", "type=tmpfs,target=/x,tmpfs-mode=0700,tmpfs-size=1048576"]),
    (
        "old-accounting",
        &["--cpu-period", "100000", "--cpu-quota", "50000", "--cpuset-cpus", "0", "--blkio-weight", "300"],
    ),
    (
        "elsewhere",
        &["--cgroup-parent", "/orchard", "--cgroupns", "host", "--memory", "64m", "--memory-swappiness", "0"],
    ),
    ("every-port", &["--publish-all", "--expose", "99"]),
];

/// What the engine's record says, but for what is of this one container alone.
fn record(host: &NetHost, name: &str, dockerd: bool) -> Value {
    let text = host.tool(&["inspect", name]).unwrap();
    let all: Value = serde_json::from_str(&text).unwrap();
    let whole = &all[0];
    let id = whole["Id"].as_str().unwrap().to_owned();
    let (mut config, mut settings) = (whole["Config"].clone(), whole["HostConfig"].clone());
    if config["Hostname"].as_str().is_some_and(|h| id.starts_with(h)) {
        config["Hostname"] = json!("");
    }
    if let Some(labels) = config["Labels"].as_object_mut() {
        labels.retain(|k, _| k != "touched" && k != "gubernum.addresses");
    }
    // By which words it was made, to what its maker was attached, and mounts, which are compared as what they have come to.
    for key in [
        "CreateCommand",
        "Volumes",
        "Image",
        "AttachStdin",
        "AttachStdout",
        "AttachStderr",
        "StdinOnce",
        "sdNotifyMode",
        "Umask",
    ] {
        config.as_object_mut().unwrap().remove(key);
    }
    for key in ["Binds", "Mounts", "ContainerIDFile"] {
        settings.as_object_mut().unwrap().remove(key);
    }
    if let Some(log) = settings["LogConfig"].as_object_mut() {
        log.remove("Path");
        // Two names of one driver.
        if log["Type"] == "json-file" && !dockerd {
            log.insert("Type".into(), json!("k8s-file"));
        }
    }
    if settings["RestartPolicy"]["Name"] == "" {
        settings["RestartPolicy"]["Name"] = json!("no");
    }
    if config["Healthcheck"]["Test"] == json!(["NONE"]) {
        config["Healthcheck"] = json!({"Test": ["NONE"]});
    }
    let sorted = |value: &Value| {
        let mut all: Vec<String> = value.as_array().into_iter().flatten().map(Value::to_string).collect();
        all.sort();
        json!(all)
    };
    for key in ["Env", "Ulimits", "CapAdd", "CapDrop", "Tmpfs"] {
        for place in [&mut config, &mut settings] {
            if place[key].is_array() {
                place[key] = sorted(&place[key]);
            }
        }
    }
    // Options of memory in any order; a size in bytes.
    if let Some(tmpfs) = settings["Tmpfs"].as_object_mut() {
        for options in tmpfs.values_mut() {
            let text = options.as_str().unwrap_or_default().replace("size=1m", "size=1048576");
            let mut words: Vec<&str> = text.split(',').filter(|w| !w.is_empty()).collect();
            words.sort_unstable();
            *options = json!(words);
        }
    }
    let mut mounts: Vec<Value> = whole["Mounts"].as_array().into_iter().flatten().cloned().collect();
    mounts.retain(|m| m["Type"] != "tmpfs");
    let mut mounts: Vec<Value> = mounts
        .into_iter()
        .map(|m| json!([m["Type"], m["Name"], m["Source"], m["Destination"], m["RW"], m["Propagation"]]))
        .collect();
    mounts.sort_by_key(Value::to_string);
    let networks = whole["NetworkSettings"]["Networks"].as_object().cloned().unwrap_or_default();
    let networks: serde_json::Map<String, Value> = networks
        .into_iter()
        .map(|(name, mut e)| {
            if let Some(aliases) = e["Aliases"].as_array_mut() {
                aliases.retain(|a| !a.as_str().is_some_and(|a| a.len() == 12 && id.starts_with(a)));
            }
            (
                name,
                json!([
                    sorted(&e["Aliases"]),
                    e["Links"],
                    if dockerd { e["IPAMConfig"].clone() } else { json!(0) }
                ]),
            )
        })
        .collect();
    json!({"config": config, "settings": settings, "mounts": mounts, "networks": networks})
}

/// The same in other words: memory that was mounted in the other of two ways, and ports that each get a free one.
const SAME: &[&str] = &[
    "in-memory-by-mount/settings/Tmpfs",
    "every-port/settings/PortBindings",
    "every-port/settings/PublishAllPorts",
];

/// Where two records differ, as paths with both sides.
fn differences(at: &str, a: &Value, b: &Value, out: &mut Vec<String>) {
    match (a, b) {
        (Value::Object(x), Value::Object(y)) => {
            let keys: std::collections::BTreeSet<&String> = x.keys().chain(y.keys()).collect();
            for key in keys {
                let side = |m: &serde_json::Map<String, Value>| m.get(key).cloned().unwrap_or(Value::Null);
                differences(&format!("{at}/{key}"), &side(x), &side(y), out);
            }
        }
        // Nothing is nothing, however it is written.
        _ if [a, b].iter().all(|v| {
            matches!(v, Value::Null) || **v == json!([]) || **v == json!("") || **v == json!({})
        }) => {}
        _ if a != b => out.push(format!("{at}: {a} → {b}")),
        _ => {}
    }
}

async fn changes_nothing_else(net: &HostNet, kinds: &[&[(&str, &[&str])]], dockerd: bool) {
    let host = &net.hosts()[0];
    let folder = tempfile::tempdir().unwrap();
    let service = start(folder.path(), None, Default::default()).await;
    let client: Client = claim(&service).await;
    let address = host.socket_address();
    client
        .add_host(&NewHost {
            name: "packhouse".into(),
            address,
            tls: None,
            ports_address: None,
            groups: Vec::new(),
        })
        .await
        .unwrap();
    host.tool(&["network", "create", "--subnet", "10.92.4.0/24", "orchard"]).unwrap();
    // Others link to these, and they stay as they are.
    for (name, network) in [("books", &[][..]), ("books-in-a-network", &["--network", "orchard"])] {
        host.tool(&[&["create", "--name", name], network, &[IMAGE, "sleep", "1000"]].concat()).unwrap();
    }
    let all: Vec<&(&str, &[&str])> = kinds.iter().copied().flatten().collect();
    for (name, words) in &all {
        let last = if name.contains("terminal") { &[IMAGE, "1000"][..] } else { &[IMAGE, "sleep", "1000"] };
        let made = host.tool(&[&["create", "--name", name], *words, last].concat());
        made.unwrap_or_else(|e| panic!("{name} could not be made: {e}"));
    }
    until("all are known", Duration::from_secs(30), async || {
        client.containers(&[]).await.unwrap().len() == all.len() + 2
    })
    .await;
    let mut wrong = Vec::new();
    for (name, _) in &all {
        let before = record(host, name, dockerd);
        let reference = format!("packhouse/{name}");
        let mut definition = client.definition(&reference).await.unwrap().definition;
        definition.labels.insert("touched".into(), "yes".into());
        let wish = NewOperation::new(
            Request::Edit(EditRequest { definition: Box::new(definition), ..EditRequest::default() }),
            vec![reference],
        );
        let preview = client.preview(&wish).await.unwrap();
        assert_eq!(preview.targets[0].differences.len(), 1, "{name}: {:?}", preview.targets[0]);
        let submitted = client.submit(&wish, None).await.unwrap();
        let over = async || client.operation(submitted.id).await.unwrap().state != OperationState::Running;
        until("it is over", Duration::from_secs(60), over).await;
        let done = client.operation(submitted.id).await.unwrap();
        assert_eq!(done.state, OperationState::Succeeded, "{name}: {:?}", done.targets);
        let mut found = Vec::new();
        differences("", &before, &record(host, name, dockerd), &mut found);
        let found = found.into_iter().map(|f| format!("{name}{f}"));
        wrong.extend(found.filter(|f| !SAME.iter().any(|same| f.starts_with(same))));
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
    service.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn changing_a_label_changes_nothing_else_on_dockerd() {
    let mut net = HostNet::new(68).unwrap();
    net.add("packhouse").unwrap();
    changes_nothing_else(&net, &[KINDS, OF_DOCKERD], true).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn changing_a_label_changes_nothing_else_on_podman() {
    let mut net = HostNet::new(69).unwrap();
    let registry = net.registry_address().unwrap();
    net.add_podman("packhouse", &registry).unwrap();
    changes_nothing_else(&net, &[KINDS], false).await;
}
