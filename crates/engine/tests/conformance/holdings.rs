//! Images, volumes, networks, the machine, the disk and what containers use.

use std::collections::HashMap;
use std::time::Duration;

use gubernum_core::assets::bare_id;
use gubernum_core::usage::{Counters, between};
use gubernum_engine::assets::Inside;
use gubernum_sim::Program;
use gubernum_testbed::bed::{Bed, BedKind};
use gubernum_testbed::real::IMAGE;
use http::Method;
use jiff::Timestamp;
use serde_json::json;

use crate::{ended, until};

pub(crate) async fn the_machine_is_reported(bed: &Bed) {
    let machine = bed.engine.machine(Timestamp::now).await.unwrap();
    assert_eq!(machine.clock_ahead_ms, Some(0), "the same clock");
    assert!(machine.system.is_some() && machine.storage_driver.is_some() && machine.data_folder.is_some());
    if bed.kind.is_simulated() {
        assert_eq!(machine.processors, Some(4));
        return;
    }
    // The host's own tools say the same.
    let read = |path: &str| std::fs::read_to_string(path).unwrap();
    let memory = read("/proc/meminfo");
    let kib = |name: &str| {
        let line = memory.lines().find(|l| l.starts_with(name)).unwrap();
        line.split_whitespace().nth(1).unwrap().parse::<u64>().unwrap()
    };
    assert_eq!(machine.memory_total, Some(kib("MemTotal") * 1024));
    assert_eq!(machine.kernel.as_deref(), Some(read("/proc/sys/kernel/osrelease").trim()));
    let processors = std::thread::available_parallelism().unwrap().get();
    assert_eq!(machine.processors, u32::try_from(processors).ok());
    if bed.kind == BedKind::Podman {
        let free = machine.memory_free.unwrap();
        let now = kib("MemFree") * 1024;
        assert!(free.abs_diff(now) < 1 << 31, "{free} free, the kernel says {now}");
        let up: f64 = read("/proc/uptime").split(' ').next().unwrap().parse().unwrap();
        let booted = Timestamp::now().as_second() - up as i64;
        assert!(machine.booted.unwrap().as_second().abs_diff(booted) < 120);
    } else {
        assert_eq!((machine.memory_free, machine.booted), (None, None), "it does not tell, so neither do we");
    }
}

pub(crate) async fn images_are_listed_and_explained(bed: &Bed) {
    // An image is there once a container is made from it, on every kind of engine.
    let id = bed.create("has-image", &Program::idle(), json!({})).await.unwrap();
    let assets = bed.engine.holds(&HashMap::new()).await.unwrap();
    let image = assets.images.iter().find(|i| i.tags.iter().any(|t| t == IMAGE)).expect("it is listed");
    assert_eq!(image.architecture.as_deref(), Some("amd64"));
    assert!(image.size > 1_000_000 && !image.id.contains(':'), "{image:?}");
    let container = bed.engine.inspect(&id).await.unwrap().container;
    assert_eq!(bare_id(&container.image_id), image.id, "users are found by the image's id");
    let raw = bed.engine.inspect_image(&image.id).await.unwrap();
    assert_eq!(bare_id(raw["Id"].as_str().unwrap()), image.id);
    let steps = bed.engine.image_steps(&image.id).await.unwrap();
    assert!(steps.iter().map(|s| s.size).sum::<u64>() > 1_000_000, "{steps:?}");
    let error = bed.engine.inspect_image("0123456789ab").await.expect_err("there is none");
    assert_eq!(error.status(), Some(404), "{error}");
    // What is known is not asked for again.
    assert_eq!(image.layers.iter().map(|l| l.size).sum::<u64>(), steps.iter().map(|s| s.size).sum::<u64>());
    assert!(!image.layers.is_empty(), "{image:?}");
    let inside = Inside { architecture: Some("known".to_owned()), layers: Vec::new() };
    let known = HashMap::from([(image.id.clone(), inside)]);
    let again = bed.engine.holds(&known).await.unwrap();
    assert!(again.images.iter().any(|i| i.id == image.id && i.architecture.as_deref() == Some("known")));
}

pub(crate) async fn volumes_and_networks_are_listed(bed: &Bed) {
    let id = bed.create("with-volume", &Program::idle(), json!({"Volumes": {"/scratch": {}}})).await.unwrap();
    let mount = bed.engine.inspect(&id).await.unwrap().container.mounts[0].clone();
    let assets = bed.engine.holds(&HashMap::new()).await.unwrap();
    let volume = assets.volumes.iter().find(|v| v.name == mount.source).expect("it is listed");
    assert!(
        volume.anonymous && volume.driver == "local" && volume.mount_point.ends_with("_data"),
        "{volume:?}"
    );
    let age = Timestamp::now().duration_since(volume.created.unwrap());
    assert!(age.abs() < jiff::SignedDuration::from_mins(2), "{volume:?}");
    assert!(!assets.networks.is_empty());
    assert!(assets.networks.iter().any(gubernum_core::assets::Network::is_built_in), "{:?}", assets.networks);
    if !bed.kind.is_simulated() {
        let body = json!({"Name": "readings", "Labels": {"season": "late"}});
        let (status, _) = bed.engine.call(Method::POST, "/volumes/create", Some(&body)).await.unwrap();
        assert_eq!(status, 201);
        let assets = bed.engine.holds(&HashMap::new()).await.unwrap();
        let made = assets.volumes.iter().find(|v| v.name == "readings").unwrap();
        assert_eq!((made.labels.get("season").map(String::as_str), made.anonymous), (Some("late"), false));
    }
}

pub(crate) async fn the_disk_is_measured(bed: &Bed) {
    bed.create("takes-room", &Program::idle(), json!({})).await.unwrap();
    let measured = bed.engine.measure(Timestamp::now()).await.unwrap();
    assert!(measured.disk.images.unwrap() > 1_000_000 && measured.disk.volumes.is_some(), "{measured:?}");
    match bed.kind {
        // podman tells the file system, and so must agree with it.
        BedKind::Podman => {
            let output =
                std::process::Command::new("df").args(["-B1", "--output=size", "/tmp"]).output().unwrap();
            let text = String::from_utf8(output.stdout).unwrap();
            let size: u64 = text.lines().nth(1).unwrap().trim().parse().unwrap();
            assert_eq!(measured.disk.total, Some(size));
        }
        BedKind::SimPodman => assert!(measured.disk.total > measured.disk.used, "{measured:?}"),
        _ => assert_eq!(measured.disk.total, None, "dockerd does not tell"),
    }
}

pub(crate) async fn processes_and_changed_files(bed: &Bed) {
    let settings = json!({"Cmd": ["sh", "-c", "echo x > /tmp/made; sleep 1000"]});
    let id = bed.run("changes", &Program::idle(), settings).await.unwrap();
    let deadline = tokio::time::Instant::now() + Duration::from_secs(10);
    let word = if bed.kind.is_simulated() { "sh" } else { "sleep 1000" };
    loop {
        let (titles, rows) = bed.engine.processes(&id).await.unwrap();
        if rows.iter().flatten().any(|cell| cell.contains(word)) {
            assert!(titles.iter().any(|t| t == "PID"), "{titles:?}");
            break;
        }
        assert!(tokio::time::Instant::now() < deadline, "{rows:?}");
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
    // The shell is listed, with its whole command, before it has written its file.
    let made = if bed.kind.is_simulated() { "/tmp/run.lock" } else { "/tmp/made" };
    loop {
        let files = bed.engine.changed_files(&id).await.unwrap();
        if files.contains(&(made.to_owned(), 1)) {
            break;
        }
        assert!(tokio::time::Instant::now() < deadline, "{files:?}");
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
    bed.engine.remove(&id, true, true).await.unwrap();
    assert_eq!(bed.engine.changed_files(&id).await.expect_err("gone").status(), Some(404));
}

async fn sample(bed: &Bed, id: &str) -> Option<Counters> {
    let memory = bed.engine.machine(Timestamp::now).await.unwrap().memory_total;
    let mut found = bed.engine.sample(&[id.to_owned()], memory).await.unwrap();
    found.pop().map(|(_, counters)| counters)
}

/// Where the kernel accounts for a container on this machine (the first way of accounting).
fn account(controller: &str, id: &str, file: &str) -> Option<String> {
    let root = format!("/sys/fs/cgroup/{controller}");
    let mut folders = vec![std::path::PathBuf::from(root)];
    while let Some(folder) = folders.pop() {
        if folder.file_name().is_some_and(|n| n.to_string_lossy().contains(id)) {
            return std::fs::read_to_string(folder.join(file)).ok();
        }
        let inner = std::fs::read_dir(&folder).ok()?.flatten().map(|e| e.path()).filter(|p| p.is_dir());
        folders.extend(inner);
    }
    None
}

pub(crate) async fn use_of_processors_is_what_the_kernel_says(bed: &Bed) {
    let settings = json!({"Cmd": ["sh", "-c", "while true; do :; done"]});
    let id = bed.run("busy", &Program::idle(), settings).await.unwrap();
    let memory = bed.engine.machine(Timestamp::now).await.unwrap().memory_total;
    let nanos = || account("cpuacct", &id, "cpuacct.usage").and_then(|t| t.trim().parse::<f64>().ok());
    let begun = std::time::Instant::now();
    // The kernel is read right before and right after the engine does: the truth is in the middle.
    let both = async || {
        let (at, before) = (begun.elapsed(), nanos());
        let mut found = bed.engine.sample(std::slice::from_ref(&id), memory).await.unwrap();
        let (after, now) = (nanos(), begun.elapsed());
        let middle = (at + now).as_secs_f64() / 2.0;
        (found.pop().unwrap().1, before.zip(after).map(|(a, b)| (a + b) / 2.0), middle)
    };
    // On a busy machine the loop's share changes while an engine takes its second for a sample: what is wrong by its
    // nature is so each time.
    let mut told = Vec::new();
    let after = loop {
        let (before, from, first) = both().await;
        tokio::time::sleep(Duration::from_secs(4)).await;
        let (after, to, second) = both().await;
        let used = between(&before, &after).processors.unwrap();
        let Some((from, to)) = from.zip(to) else {
            assert!(bed.kind.is_simulated() || !std::path::Path::new("/sys/fs/cgroup/cpuacct").exists());
            assert!(used > 0.0);
            break after;
        };
        let truth = (to - from) / 1e9 / (second - first);
        println!("{:?}: busy loop uses {used:.3}, the kernel says {truth:.3}", bed.kind);
        if (used - truth).abs() <= truth * 0.05 {
            break after;
        }
        told.push((used, truth));
        assert!(told.len() < 3, "told and true, three times: {told:?}");
    };
    assert!(after.processes.unwrap() >= 1 && after.memory_limit.is_none(), "{after:?}");
    bed.engine.remove(&id, true, true).await.unwrap();
}

pub(crate) async fn use_of_memory_is_what_the_kernel_says(bed: &Bed) {
    // tail holds what it cannot print yet, so forty megabytes stay in its memory.
    let settings = json!({
        "Cmd": ["sh", "-c", "(head -c 40000000 /dev/zero; sleep 1000) | tail -c 40000000"],
        "HostConfig": {"Memory": 100_000_000, "MemorySwap": 100_000_000},
    });
    let id = bed.run("eater", &Program::idle(), settings).await.unwrap();
    if bed.kind.is_simulated() {
        assert_eq!(sample(bed, &id).await.unwrap().memory_limit, Some(100_000_000));
        return;
    }
    let deadline = tokio::time::Instant::now() + Duration::from_secs(20);
    let counters = loop {
        let counters = sample(bed, &id).await.unwrap();
        if counters.memory.unwrap() > 38_000_000 {
            break counters;
        }
        assert!(tokio::time::Instant::now() < deadline, "{counters:?}");
        tokio::time::sleep(Duration::from_millis(200)).await;
    };
    // Let the pipe run dry, so that both readings are of the same.
    tokio::time::sleep(Duration::from_millis(500)).await;
    let counters = sample(bed, &id).await.unwrap_or(counters);
    if let Some(stat) = account("memory", &id, "memory.stat") {
        let of = |name: &str| {
            let line = stat.lines().find(|l| l.split(' ').next() == Some(name)).unwrap();
            line.split(' ').nth(1).unwrap().parse::<f64>().unwrap()
        };
        let truth = of("total_rss") + of("total_active_file") * 0.0;
        let told = counters.memory.unwrap() as f64;
        println!("{:?}: memory eater uses {told}, the kernel says {truth}", bed.kind);
        assert!((told - truth).abs() <= truth * 0.05, "{told} instead of {truth}");
    }
    // Engines round the limit down to whole pages.
    assert!(counters.memory_limit.unwrap().abs_diff(100_000_000) < 4096, "{counters:?}");
    assert_eq!(counters.memory_has_cache, bed.kind == BedKind::Podman);
    bed.engine.remove(&id, true, true).await.unwrap();
}

pub(crate) async fn what_does_not_run_is_not_sampled(bed: &Bed) {
    let settings = json!({"Cmd": ["sh", "-c", "exit 0"]});
    let program = Program::new(vec![gubernum_sim::Action::Exit(0)]);
    let id = bed.run("short", &program, settings).await.unwrap();
    ended(bed, &id).await;
    assert_eq!(sample(bed, &id).await, None);
    assert!(bed.engine.sample(&[], None).await.unwrap().is_empty());
    let _ = until(bed, &id, "there", |_| true).await;
}
