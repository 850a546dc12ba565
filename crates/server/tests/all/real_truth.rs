//! Real engines: what is shown agrees with the engine's client, and what is broken has its reason.

use std::path::Path;
use std::time::Duration;

use gubernum_api::requests::{NewHost, Request, StartRequest};
use gubernum_api::{Container, Reason};
use gubernum_client::Client;
use gubernum_testbed::hosts::{HostNet, NetHost};
use gubernum_testbed::real::{IMAGE, RealEngine};
use serde_json::{Value, json};

use crate::support::{claim, start, until};

/// An engine with its own client.
enum Real<'a> {
    Dockerd(&'a NetHost),
    Podman(&'a RealEngine),
}

impl Real<'_> {
    fn tool(&self, arguments: &[&str]) -> Result<String, String> {
        let said = match self {
            Self::Dockerd(host) => host.tool(arguments),
            Self::Podman(engine) => engine.tool(arguments),
        };
        said.map_err(|e| e.to_string())
    }

    fn name(&self) -> &'static str {
        match self {
            Self::Dockerd(_) => "dockerd",
            Self::Podman(_) => "podman",
        }
    }

    /// Makes and starts a container in the engine's words; a start that fails is part of the play.
    fn run(&self, name: &str, flags: &[&str], command: &[&str]) {
        let mut all = vec!["run", "--detach", "--name", name];
        // Without a network of its own podman needs none on this machine.
        if matches!(self, Self::Podman(_)) && !flags.iter().any(|f| f.starts_with("--network")) {
            all.push("--network=none");
        }
        all.extend(flags);
        if !flags.iter().any(|f| f.starts_with("localhost/")) {
            all.push(IMAGE);
        }
        all.extend(command);
        let _ = self.tool(&all);
    }
}

async fn with_service(real: &Real<'_>, address: String, test: impl AsyncFn(&Real<'_>, &Client)) {
    let folder = tempfile::tempdir().unwrap();
    let service = start(folder.path(), None, Default::default()).await;
    let client = claim(&service).await;
    let host =
        NewHost { name: "packhouse".into(), address, tls: None, ports_address: None, groups: Vec::new() };
    client.add_host(&host).await.unwrap();
    until("live", Duration::from_secs(20), async || client.hosts().await.unwrap()[0].engine.is_some()).await;
    test(real, &client).await;
    service.stop().await;
}

async fn all(client: &Client) -> Vec<Container> {
    client.containers(&[]).await.unwrap()
}

const SLEEP: &[&str] = &["sleep", "1000"];

/// Twenty kinds of container: name, flags of the engines' own clients, command.
const KINDS: &[(&str, &[&str], &[&str])] = &[
    ("plain", &[], SLEEP),
    ("host-network", &["--network=host"], SLEEP),
    ("no-network", &["--network=none"], SLEEP),
    ("many-ports", &["--publish=8101:81", "--publish=127.0.0.1:8102:82", "--publish=8103:83/udp"], SLEEP),
    ("tmpfs", &["--tmpfs=/scratch:size=1m"], SLEEP),
    ("read-only", &["--read-only"], SLEEP),
    ("sickly", &["--health-cmd=false", "--health-interval=1s", "--health-retries=1"], SLEEP),
    ("looping", &["--restart=always"], &["sh", "-c", "exit 3"]),
    ("terminal", &["--tty"], SLEEP),
    ("limits", &["--memory=64m", "--pids-limit=50", "--cpus=0.5"], SLEEP),
    ("labels", &["--label=season=late", "--label=note=a b"], SLEEP),
    ("variables", &["--env=MAST=M3", "--env=DB_PASSWORD=pears"], SLEEP),
    ("volume", &["--volume=readings:/data"], SLEEP),
    ("reader", &["--volume=readings:/data:ro"], SLEEP),
    ("anonymous", &["--volume=/scratch"], SLEEP),
    ("bind", &["--volume=/tmp:/host-tmp:ro"], SLEEP),
    ("named-host", &["--hostname=mast-3"], SLEEP),
    ("ended", &[], &["sh", "-c", "exit 7"]),
    ("capable", &["--cap-add=NET_ADMIN", "--cap-drop=CHOWN"], SLEEP),
    ("policy", &["--restart=on-failure:5"], SLEEP),
];

async fn agrees(real: &Real<'_>, client: &Client) {
    // This podman has no networks of its own and publishes nothing; `real_replacing` has one that does.
    let published = |flags: &[&str]| flags.iter().any(|f| f.starts_with("--publish"));
    let kinds: Vec<_> =
        KINDS.iter().filter(|(_, flags, _)| matches!(real, Real::Dockerd(_)) || !published(flags)).collect();
    for (name, flags, command) in &kinds {
        real.run(name, flags, command);
    }
    until("all are known", Duration::from_secs(30), async || all(client).await.len() == kinds.len()).await;
    for (name, flags, _) in kinds {
        // What moves, as a loop or a check does, is compared at a moment when both say the same.
        let mut differences = vec!["nothing compared yet".to_owned()];
        for _ in 0..200 {
            let text = real.tool(&["inspect", name]).unwrap();
            let theirs: Value = serde_json::from_str::<Value>(&text).unwrap()[0].clone();
            let ours = client.container(&format!("packhouse/{name}")).await.unwrap();
            differences = compare(&theirs, &ours.container, &ours.raw);
            if differences.is_empty() {
                break;
            }
            tokio::time::sleep(Duration::from_millis(150)).await;
        }
        assert!(differences.is_empty(), "{} {name} {flags:?}: {differences:?}", real.name());
    }
    let detail = client.container("packhouse/variables").await.unwrap();
    let secret = detail.environment.iter().find(|v| v.name == "DB_PASSWORD").unwrap();
    assert!(secret.masked && !detail.raw.to_string().contains("pears"), "masked everywhere");
}

fn compare(theirs: &Value, ours: &Container, raw: &Value) -> Vec<String> {
    let mut out = Vec::new();
    let mut same = |what: &str, theirs: Value, ours: Value| {
        if theirs != ours {
            out.push(format!("{what}: the engine says {theirs}, we say {ours}"));
        }
    };
    let text = |v: &Value| Value::String(v.as_str().unwrap_or_default().to_owned());
    // For a moment after the end podman calls it stopped; over the common interface it says exited to both.
    let state = match theirs["State"]["Status"].as_str() {
        Some("stopped") => json!("exited"),
        _ => text(&theirs["State"]["Status"]),
    };
    same("state", state, json!(ours.state.word()));
    same("id", text(&theirs["Id"]), json!(ours.id));
    if ours.exit_code.is_some() {
        same("exit code", theirs["State"]["ExitCode"].clone(), json!(ours.exit_code));
    }
    let memory = theirs["HostConfig"]["Memory"].as_u64().filter(|&m| m > 0);
    same("memory limit", json!(memory), json!(ours.memory_limit));
    same("terminal", theirs["Config"]["Tty"].clone(), json!(ours.terminal));
    let policy =
        theirs["HostConfig"]["RestartPolicy"]["Name"].as_str().filter(|p| !p.is_empty()).unwrap_or("no");
    same("policy", json!(policy), json!(ours.restart_policy));
    for (name, value) in theirs["Config"]["Labels"].as_object().into_iter().flatten() {
        same("label", value.clone(), json!(ours.labels.get(name)));
    }
    let mut mounts: Vec<(String, bool)> = theirs["Mounts"]
        .as_array()
        .into_iter()
        .flatten()
        .map(|m| (m["Destination"].as_str().unwrap_or_default().to_owned(), m["RW"].as_bool() == Some(false)))
        .collect();
    mounts.sort();
    let mut our_mounts: Vec<(String, bool)> =
        ours.mounts.iter().map(|m| (m.target.clone(), m.read_only)).collect();
    our_mounts.sort();
    same("mounts", json!(mounts), json!(our_mounts));
    let mut ports: Vec<String> = theirs["NetworkSettings"]["Ports"]
        .as_object()
        .into_iter()
        .flatten()
        .flat_map(|(inner, bound)| {
            let bound = bound.as_array().cloned().unwrap_or_default();
            bound
                .into_iter()
                .map(move |b| {
                    format!(
                        "{}:{}→{inner}",
                        b["HostIp"].as_str().unwrap_or_default(),
                        b["HostPort"].as_str().unwrap_or_default()
                    )
                })
                .collect::<Vec<_>>()
        })
        .collect();
    ports.sort();
    let mut our_ports: Vec<String> = ours
        .ports
        .iter()
        .filter_map(|p| {
            Some(format!("{}:{}→{}/{}", p.address.clone()?, p.host_port?, p.container_port, p.protocol))
        })
        .collect();
    our_ports.sort();
    same("ports", json!(ports), json!(our_ports));
    let health = theirs["State"]["Health"]["Status"].as_str().filter(|h| !h.is_empty()).unwrap_or("none");
    same("health", json!(health), json!(ours.health.word()));
    for pointer in ["/HostConfig/ReadonlyRootfs", "/HostConfig/PidsLimit", "/HostConfig/NetworkMode"] {
        // The two interfaces of podman write "no limit" and the network's mode in different words.
        let (a, b) = (theirs.pointer(pointer), raw.pointer(pointer));
        let both = a.is_some_and(|v| !v.is_null()) && b.is_some_and(|v| !v.is_null());
        if both && pointer == "/HostConfig/ReadonlyRootfs" {
            same(pointer, a.cloned().unwrap_or_default(), b.cloned().unwrap_or_default());
        }
    }
    out
}

/// A program for another processor: nothing but a head that says so.
fn foreign_program(path: &Path) {
    let mut head =
        vec![0x7f, b'E', b'L', b'F', 2, 1, 1, 0, 0, 0, 0, 0, 0, 0, 0, 0, 2, 0, 0xb7, 0, 1, 0, 0, 0];
    head.resize(4096, 0);
    std::fs::write(path, head).unwrap();
    std::fs::set_permissions(path, std::os::unix::fs::PermissionsExt::from_mode(0o755)).unwrap();
}

/// Brings an image that holds one file.
fn bring_image(real: &Real<'_>, folder: &Path, name: &str, make: impl Fn(&Path)) {
    let root = folder.join(name);
    std::fs::create_dir_all(root.join("bin")).unwrap();
    make(&root.join("bin/app"));
    let archive = folder.join(format!("{name}.tar"));
    let (root, archive) = (root.to_string_lossy().into_owned(), archive.to_string_lossy().into_owned());
    let packed =
        std::process::Command::new("tar").args(["-C", &root, "-cf", &archive, "."]).status().unwrap();
    assert!(packed.success());
    real.tool(&["import", &archive, &format!("localhost/testbed/{name}:latest")]).unwrap();
}

async fn has_reasons(real: &Real<'_>, client: &Client) {
    let folder = tempfile::tempdir().unwrap();
    bring_image(real, folder.path(), "foreign", foreign_program);
    bring_image(real, folder.path(), "bare", |path| {
        std::fs::copy("/bin/busybox", path).unwrap();
    });
    let docker = matches!(real, Real::Dockerd(_));
    real.run("wrong-command", &[], &["frostd", "--serve"]);
    let file = folder.path().join("frost.conf");
    std::fs::write(&file, "x").unwrap();
    let mount = format!("type=bind,source={},target=/etc/frost.conf", file.display());
    let network: &[&str] = if docker { &[] } else { &["--network=none"] };
    let create =
        [&["create", "--name", "missing-mount", "--mount", mount.as_str()], network, &[IMAGE, "sleep", "9"]]
            .concat();
    real.tool(&create).unwrap();
    std::fs::remove_file(&file).unwrap();
    let _ = real.tool(&["start", "missing-mount"]);
    if docker {
        real.run("port-owner", &["--publish=7311:80"], SLEEP);
        real.run("port-taken", &["--publish=7311:80"], SLEEP);
        real.run(
            "sickly",
            &["--health-cmd=echo no answer; false", "--health-interval=1s", "--health-retries=1"],
            SLEEP,
        );
    } else {
        real.run("port-owner", &["--network=host"], &["nc", "-l", "-p", "7311"]);
        tokio::time::sleep(Duration::from_millis(500)).await;
        real.run("port-taken", &["--network=host"], &["nc", "-l", "-p", "7311"]);
    }
    real.run("greedy", &["--memory=16m", "--memory-swap=16m"], &["tail", "-c", "100000000", "/dev/zero"]);
    real.run("foreign", &["localhost/testbed/foreign:latest"], &["/bin/app"]);
    let trace =
        "echo 'Traceback (most recent call last):' >&2; echo 'ValueError: no season given' >&2; exit 1";
    real.run("stack-trace", &[], &["sh", "-c", trace]);
    real.run("victim", &[], SLEEP);
    real.run("looping", &["--restart=always"], &["sh", "-c", "echo the queue is gone; exit 4"]);
    real.run("no-shell", &["localhost/testbed/bare:latest"], &["/bin/sh", "-c", "true"]);
    until("the victim runs", Duration::from_secs(20), async || {
        all(client).await.iter().any(|c| c.name == "victim" && c.state == gubernum_api::State::Running)
    })
    .await;
    // Engines keep why a start failed only at times. Whoever starts it here is told, and so are all others.
    for name in ["wrong-command", "missing-mount", "no-shell", "foreign"] {
        let known = async || all(client).await.into_iter().find(|c| c.name == name);
        until("it is known", Duration::from_secs(20), async || known().await.is_some()).await;
        let c = known().await.unwrap();
        if c.state == gubernum_api::State::Created && c.attention.is_none() {
            let wish = gubernum_api::requests::NewOperation::new(
                Request::Start(StartRequest::default()),
                vec![c.reference()],
            );
            client.submit(&wish, None).await.unwrap();
        }
    }
    let pid = real.tool(&["inspect", "--format", "{{.State.Pid}}", "victim"]).unwrap();
    let killed = std::process::Command::new("kill").args(["-9", pid.trim()]).status().unwrap();
    assert!(killed.success());

    let mut wanted = vec![
        ("wrong-command", "command-not-found", "frostd"),
        ("missing-mount", "mount-missing", "frost.conf"),
        ("port-taken", "port-taken", ""),
        ("greedy", "out-of-memory", "MiB limit"),
        ("foreign", "wrong-architecture", "architecture"),
        ("stack-trace", "failed-exit", "ValueError: no season given"),
        ("victim", "killed", "SIGKILL"),
        ("looping", "restart-loop", "the queue is gone"),
        ("no-shell", "command-not-found", "/bin/sh"),
    ];
    if docker {
        wanted.push(("sickly", "unhealthy", "no answer"));
    }
    let found = async |name: &str| {
        let all = all(client).await;
        all.into_iter().find(|c| c.name == name).and_then(|c| c.attention)
    };
    for (name, code, words) in wanted {
        let is_right = |r: &Reason| {
            // Engines do not always hear that memory ran out; the limit is then named as the likely cause.
            let memory = name == "greedy" && r.code == "killed" && r.sentence.contains("memory limit");
            (r.code == code && r.sentence.contains(words)) || memory
        };
        // What restarts all the time is without its last words for a moment after each start: what was right once counts.
        let deadline = tokio::time::Instant::now() + Duration::from_secs(25);
        let mut reason = found(name).await;
        while !reason.as_ref().is_some_and(is_right) && tokio::time::Instant::now() < deadline {
            tokio::time::sleep(Duration::from_millis(200)).await;
            reason = found(name).await;
        }
        println!("{}: {name}: {}", real.name(), reason.as_ref().map_or("nothing", |r| r.sentence.as_str()));
        assert!(
            reason.as_ref().is_some_and(is_right),
            "{} {name}: {reason:?}, {:?}",
            real.name(),
            all(client).await.into_iter().find(|c| c.name == name)
        );
    }
}

async fn on_dockerd(octet: u8, test: impl AsyncFn(&Real<'_>, &Client)) {
    let mut net =
        tokio::task::spawn_blocking(move || HostNet::new(octet)).await.unwrap().expect("network tools");
    net.add("packhouse").unwrap_or_else(|e| panic!("dockerd must be there for this test: {e}"));
    let host = &net.hosts()[0];
    with_service(&Real::Dockerd(host), host.socket_address(), test).await;
}

async fn on_podman(test: impl AsyncFn(&Real<'_>, &Client)) {
    let engine = tokio::task::spawn_blocking(RealEngine::podman).await.unwrap();
    let engine = engine.unwrap_or_else(|e| panic!("podman must be there for this test: {e}"));
    with_service(&Real::Podman(&engine), engine.endpoint().to_string(), test).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_shown_is_what_dockerd_says() {
    on_dockerd(47, agrees).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_shown_is_what_podman_says() {
    on_podman(agrees).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_broken_on_dockerd_has_its_reason() {
    on_dockerd(48, has_reasons).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_broken_on_podman_has_its_reason() {
    on_podman(has_reasons).await;
}
