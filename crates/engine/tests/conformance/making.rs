//! Making and replacing containers, and changing what a host holds besides.

use std::collections::BTreeMap;

use gubernum_core::container::State;
use gubernum_core::definition::check::PathEntry;
use gubernum_core::definition::{
    Definition, EnvironmentEntry, HealthRule, MountKind, MountRule, NewFolder, PullPolicy,
};
use gubernum_core::journal::Progress;
use gubernum_core::plan::{NetworkSettings, VolumeSettings};
use gubernum_core::stack::PlacedFile;
use gubernum_engine::Done;
use gubernum_sim::{PROGRAM_LABEL, Program, RegistryImage, SimRegistry};
use gubernum_testbed::bed::{Bed, BedKind};
use gubernum_testbed::real::IMAGE;
use gubernum_testbed::registry::RealRegistry;

use crate::until;

fn mount(kind: MountKind, source: Option<&str>, target: &str) -> MountRule {
    MountRule { kind, source: source.map(str::to_owned), target: target.to_owned(), ..MountRule::default() }
}

/// A container that idles, without networks: the beds' engines have none of their own.
fn idle() -> Definition {
    let mut d = Definition::for_image(IMAGE);
    d.command = Some(vec!["sh".into(), "-c".into(), Program::idle().shell()]);
    d.network.mode = Some("none".to_owned());
    d.labels.insert(PROGRAM_LABEL.to_owned(), serde_json::to_string(&Program::idle()).unwrap());
    d
}

fn variable(name: &str, value: &str) -> EnvironmentEntry {
    EnvironmentEntry { name: name.to_owned(), value: value.to_owned(), hidden: false }
}

pub(crate) async fn what_is_made_reads_back_the_same(bed: &Bed) {
    let mut d = idle();
    d.name = "made".to_owned();
    d.environment = vec![variable("TZ", "UTC"), variable("EMPTY", ""), variable("WITH", "a=b c")];
    d.labels.insert("crop".to_owned(), "pears".to_owned());
    d.user = Some("1000:1000".to_owned());
    d.working_folder = Some("/tmp".to_owned());
    d.hostname = Some("crate-7".to_owned());
    d.mounts = vec![
        mount(MountKind::Volume, Some("made-data"), "/data"),
        mount(MountKind::Bind, Some("/usr/share"), "/shared"),
        MountRule {
            size: Some(1 << 20),
            mode: Some("1770".to_owned()),
            ..mount(MountKind::Tmpfs, None, "/quick")
        },
    ];
    d.mounts[1].read_only = true;
    d.restart.policy = "on-failure".to_owned();
    d.restart.most_tries = Some(3);
    d.grace_seconds = Some(4);
    d.stop_signal = Some("SIGINT".to_owned());
    d.limits.memory = Some(64 << 20);
    d.limits.processors = Some(0.5);
    d.limits.processes = Some(100);
    d.rights.read_only = true;
    d.rights.drop = vec!["NET_RAW".to_owned()];
    d.health = Some(HealthRule {
        test: vec!["CMD-SHELL".into(), "true".into()],
        interval_ms: Some(2000),
        timeout_ms: Some(1000),
        retries: Some(4),
        start_ms: Some(500),
        ..HealthRule::default()
    });
    if !matches!(bed.kind, BedKind::Podman | BedKind::SimPodman) {
        // podman's records do not tell these from its own.
        d.mounts[0].no_copy = true;
        d.mounts[2].options.insert("noexec".to_owned(), String::new());
        d.rights.device_rules = vec!["c 1:3 mr".to_owned()];
        d.limits.control_group = Some("/orchard".to_owned());
    }
    let id = bed.engine.make("made", &d, None, None).await.unwrap();
    let mut back = bed.engine.defined(&id).await.unwrap().definition;
    // What the bed's podman is set up to give to each process; without that this machine lets it start nothing.
    let without_usual =
        |d: &mut Definition| d.limits.each_process.retain(|l| (l.soft, l.hard) != (1024, 1024));
    without_usual(&mut back);
    let differences = gubernum_core::definition::difference::difference(&d, &back);
    assert!(differences.is_empty(), "{:?}: {differences:?}\n{back:?}", bed.kind);
    // Made from what was read, it is the same once more.
    let again = bed.engine.make("made-again", &back, None, None).await.unwrap();
    let mut twice = bed.engine.defined(&again).await.unwrap().definition;
    twice.name = "made".to_owned();
    without_usual(&mut twice);
    let differences = gubernum_core::definition::difference::difference(&d, &twice);
    assert!(differences.is_empty(), "{:?}: {differences:?}", bed.kind);
}

pub(crate) async fn names_conflict_and_missing_images_say_so(bed: &Bed) {
    bed.engine.make("only-one", &idle(), None, None).await.unwrap();
    let error = bed.engine.make("only-one", &idle(), None, None).await.unwrap_err();
    assert!(matches!(error.status(), Some(409 | 500)) && error.to_string().contains("in use"), "{error}");
    let mut d = idle();
    d.image = "127.0.0.1:1/never/heard-of:9".to_owned();
    let error = bed.engine.make("no-image", &d, None, None).await.unwrap_err();
    assert_eq!(error.status(), Some(404), "{error}");
    let error = bed.engine.pull(&d.image, PullPolicy::Never, None, None, |_| ()).await.unwrap_err();
    assert!(error.to_string().contains("pull policy is never"), "{error}");
    let error = bed.engine.pull(&d.image, PullPolicy::Always, None, None, |_| ()).await.unwrap_err();
    assert!(error.to_string().contains("127.0.0.1:1"), "{error}");
    let mut d = idle();
    d.network.mode = None;
    d.network.networks = vec![gubernum_core::definition::NetworkConnection {
        name: "no-such-network".to_owned(),
        ..Default::default()
    }];
    // dockerd only finds out when it starts it; whichever says so, nothing runs and it is said.
    match bed.engine.make("no-network", &d, None, None).await {
        Err(error) => assert!(error.to_string().contains("no-such-network"), "{error}"),
        Ok(id) => {
            let error = bed.engine.start(&id).await.unwrap_err();
            assert!(error.to_string().contains("no-such-network"), "{error}");
        }
    }
}

pub(crate) async fn a_container_is_replaced_with_its_anonymous_volume(bed: &Bed) {
    let mut d = idle();
    d.mounts = vec![mount(MountKind::Volume, None, "/scratch")];
    d.environment = vec![variable("SEASON", "autumn")];
    let old = bed.engine.make("keeper", &d, None, None).await.unwrap();
    bed.engine.start(&old).await.unwrap();
    let volume = bed.engine.inspect(&old).await.unwrap().container.mounts[0].clone();
    assert!(volume.anonymous, "{volume:?}");
    let defined = bed.engine.defined(&old).await.unwrap();
    let mut next = defined.definition.clone();
    next.environment = vec![variable("SEASON", "winter")];
    let new = bed.engine.make("keeper-next", &next, Some(&defined.raw), None).await.unwrap();
    bed.engine.stop(&old, Some(2)).await.unwrap();
    bed.engine.rename(&old, "keeper-before").await.unwrap();
    bed.engine.rename(&new, "keeper").await.unwrap();
    bed.engine.start(&new).await.unwrap();
    bed.engine.remove(&old, false, false).await.unwrap();
    let now = bed.engine.inspect("keeper").await.unwrap();
    assert_eq!(now.container.id, new);
    assert_eq!(now.container.mounts[0].source, volume.source, "the same volume");
    assert!(now.raw["Config"]["Env"].to_string().contains("SEASON=winter"));
    assert!(bed.engine.in_use().await.unwrap().images.contains(&defined.image_id));
    bed.engine.remove(&new, true, false).await.unwrap();
}

pub(crate) async fn limits_and_names_change(bed: &Bed) {
    let mut d = idle();
    d.limits.memory = Some(64 << 20);
    let id = bed.engine.make("stretch", &d, None, None).await.unwrap();
    bed.engine.start(&id).await.unwrap();
    d.limits.memory = Some(96 << 20);
    d.restart.policy = "unless-stopped".to_owned();
    if bed.engine.changes_in_place() {
        bed.engine.change_in_place(&id, &d).await.unwrap();
        let back = bed.engine.defined(&id).await.unwrap().definition;
        assert_eq!(back.limits.memory, Some(96 << 20));
        assert_eq!(back.restart.policy, "unless-stopped");
        assert_eq!(bed.engine.inspect(&id).await.unwrap().container.state, State::Running);
    } else {
        assert!(matches!(bed.kind, BedKind::Podman | BedKind::SimPodman));
    }
    bed.engine.rename(&id, "stretched").await.unwrap();
    assert_eq!(bed.engine.inspect("stretched").await.unwrap().container.id, id);
    let other = bed.engine.make("in-the-way", &idle(), None, None).await.unwrap();
    let error = bed.engine.rename(&other, "stretched").await.unwrap_err();
    assert!(error.to_string().contains("in use"), "{error}");
    bed.engine.remove(&id, true, false).await.unwrap();
}

pub(crate) async fn frozen_and_let_go(bed: &Bed) {
    let id = bed.engine.make("icy", &idle(), None, None).await.unwrap();
    bed.engine.start(&id).await.unwrap();
    match bed.engine.pause(&id).await {
        Ok(done) => {
            assert_eq!(done, Done::Changed);
            until(bed, &id, "paused", |c| c.state == State::Paused).await;
            assert_eq!(bed.engine.pause(&id).await.unwrap(), Done::Unchanged);
            assert_eq!(bed.engine.resume(&id).await.unwrap(), Done::Changed);
            until(bed, &id, "running", |c| c.state == State::Running).await;
            assert_eq!(bed.engine.resume(&id).await.unwrap(), Done::Unchanged);
        }
        // Without a freezer of the kernel's it cannot be done; the engine's reason is reported.
        Err(error) => assert!(!bed.kind.is_simulated() && error.status().is_some(), "{error}"),
    }
    bed.engine.remove(&id, true, false).await.unwrap();
}

pub(crate) async fn images_are_tagged_and_removed(bed: &Bed) {
    let id = bed.engine.image_id_of(IMAGE).await.unwrap().expect("it is there");
    assert_eq!(bed.engine.image_id_of("localhost/testbed/other:1").await.unwrap(), None);
    bed.engine.tag(IMAGE, "localhost/testbed/second:2").await.unwrap();
    assert_eq!(bed.engine.image_id_of("localhost/testbed/second:2").await.unwrap(), Some(id.clone()));
    bed.engine.remove_image("localhost/testbed/second:2", false, false).await.unwrap();
    assert_eq!(bed.engine.image_id_of("localhost/testbed/second:2").await.unwrap(), None);
    assert_eq!(bed.engine.image_id_of(IMAGE).await.unwrap(), Some(id), "its other name is untouched");
    let error = bed.engine.remove_image("localhost/testbed/second:2", false, false).await.unwrap_err();
    assert_eq!(error.status(), Some(404), "{error}");
    let error = bed.engine.tag("localhost/testbed/other:1", "localhost/x:1").await.unwrap_err();
    assert_eq!(error.status(), Some(404), "{error}");
}

pub(crate) async fn volumes_and_networks_come_and_go(bed: &Bed) {
    let wish = VolumeSettings {
        labels: BTreeMap::from([("crop".to_owned(), "plums".to_owned())]),
        ..VolumeSettings::default()
    };
    bed.engine.make_volume("cellar", &wish).await.unwrap();
    let assets = bed.engine.holds(&std::collections::HashMap::new()).await.unwrap();
    let volume = assets.volumes.iter().find(|v| v.name == "cellar").expect("it is listed");
    assert_eq!(volume.labels.get("crop").map(String::as_str), Some("plums"));
    let mut d = idle();
    d.mounts = vec![mount(MountKind::Volume, Some("cellar"), "/cellar")];
    let user = bed.engine.make("cellar-user", &d, None, None).await.unwrap();
    let error = bed.engine.remove_volume("cellar", false).await.unwrap_err();
    assert_eq!(error.status(), Some(409), "{error}");
    bed.engine.remove(&user, true, false).await.unwrap();
    // As a service leaves one that ends right after it has asked for it.
    let _left = bed.engine.with_volume("cellar", true).await.unwrap();
    bed.engine.remove_volume("cellar", false).await.unwrap();
    let error = bed.engine.remove_volume("cellar", false).await.unwrap_err();
    assert_eq!(error.status(), Some(404), "{error}");

    let wish = NetworkSettings {
        subnet: Some("10.89.77.0/24".to_owned()),
        gateway: Some("10.89.77.1".to_owned()),
        internal: true,
        ..NetworkSettings::default()
    };
    bed.engine.make_network("cold-chain", &wish).await.unwrap();
    let assets = bed.engine.holds(&std::collections::HashMap::new()).await.unwrap();
    let network = assets.networks.iter().find(|n| n.name == "cold-chain").expect("it is listed");
    assert!(network.internal && network.subnets[0].subnet == "10.89.77.0/24", "{network:?}");
    let error = bed.engine.make_network("cold-chain", &wish).await.unwrap_err();
    assert!(error.status().is_some(), "{error}");
    bed.engine.remove_network(&network.id).await.unwrap();
    let assets = bed.engine.holds(&std::collections::HashMap::new()).await.unwrap();
    assert!(!assets.networks.iter().any(|n| n.name == "cold-chain"));
    let error = bed.engine.remove_network("cold-chain").await.unwrap_err();
    assert_eq!(error.status(), Some(404), "{error}");
}

pub(crate) async fn folders_of_the_host_are_seen_and_made(bed: &Bed) {
    let folder = tempfile::tempdir().unwrap();
    let base = folder.path().to_string_lossy().into_owned();
    std::fs::write(folder.path().join("file"), "x").unwrap();
    std::fs::create_dir(folder.path().join("real")).unwrap();
    std::os::unix::fs::symlink("real", folder.path().join("link")).unwrap();
    if bed.kind.is_simulated() {
        // Its files are its own.
        bed.put_sim_file(&format!("{base}/file"), b"x");
        bed.put_sim_file(&format!("{base}/real/keep"), b"");
        bed.put_sim_file(&format!("{base}/link/keep"), b"");
    }
    let at = |p: &str| format!("{base}/{p}");
    let asked = [at("real"), at("file"), at("none/deeper"), at("link")];
    let found = bed.engine.at_paths(&asked).await.unwrap();
    assert_eq!(
        found,
        [PathEntry::Folder, PathEntry::File, PathEntry::Nothing, PathEntry::Folder],
        "{:?}",
        bed.kind
    );
    let new = NewFolder { user: 1234, group: 77, mode: Some("750".to_owned()) };
    assert!(bed.engine.make_folder(&at("none/deeper"), &new).await.unwrap());
    assert!(!bed.engine.make_folder(&at("none/deeper"), &new).await.unwrap(), "it is there by now");
    if !bed.kind.is_simulated() {
        use std::os::unix::fs::MetadataExt;
        let made = std::fs::metadata(folder.path().join("none/deeper")).unwrap();
        assert_eq!((made.uid(), made.gid(), made.mode() & 0o7777), (1234, 77, 0o750));
    }
    let error = bed.engine.make_folder(&at("file"), &new).await.unwrap_err();
    assert_eq!(error.status(), Some(409), "{error}");
    // Nothing of it is left behind, and nobody sees what helped.
    assert!(!bed.engine.list().await.unwrap().iter().any(|c| c.name.starts_with("gubernum-helper")));
    let assets = bed.engine.holds(&std::collections::HashMap::new()).await.unwrap();
    assert!(!assets.images.iter().any(|i| i.tags.iter().any(|t| t.contains("gubernum/nothing"))));
}

enum Registry {
    Sim(SimRegistry),
    Real(RealRegistry),
}

pub(crate) async fn images_are_fetched_and_sent(bed: &Bed) {
    let registry = if bed.kind.is_simulated() {
        let registry = SimRegistry::start("", None).await.unwrap();
        registry.put(RegistryImage { build: 1, ..RegistryImage::new("tools/box", "1") });
        Registry::Sim(registry)
    } else {
        Registry::Real(RealRegistry::start_at(&bed.registry_address(), None).unwrap())
    };
    let address = match &registry {
        Registry::Sim(r) => r.address().to_string(),
        Registry::Real(r) => r.address.clone(),
    };
    let name = format!("{address}/tools/box:1");
    if let Registry::Real(_) = registry {
        bed.engine.tag(IMAGE, &name).await.unwrap();
        let mut told = Vec::new();
        assert_eq!(bed.engine.push(&name, None, |p| told.push(p)).await.unwrap(), Done::Changed);
        bed.engine.remove_image(&name, false, false).await.unwrap();
    }
    let mut told: Vec<Progress> = Vec::new();
    let done = bed.engine.pull(&name, PullPolicy::Missing, None, None, |p| told.push(p)).await.unwrap();
    assert_eq!(done, Done::Changed);
    assert!(!told.is_empty(), "its progress is told");
    if bed.kind.is_simulated() {
        let layers = &told.last().unwrap().layers;
        assert!(layers.len() >= 2 && layers.iter().all(|l| l.id.len() == 12), "{layers:?}");
    }
    assert_eq!(
        bed.engine.pull(&name, PullPolicy::Always, None, None, |_| ()).await.unwrap(),
        Done::Unchanged,
        "nothing newer"
    );
    let assets = bed.engine.holds(&std::collections::HashMap::new()).await.unwrap();
    let image = assets.images.iter().find(|i| i.tags.contains(&name)).expect("it is listed");
    assert!(
        image.digests.iter().any(|d| d.starts_with(&format!("{address}/tools/box@sha256:"))),
        "{image:?}"
    );
    let missing = format!("{address}/tools/box:2");
    let error = bed.engine.pull(&missing, PullPolicy::Always, None, None, |_| ()).await.unwrap_err();
    assert!(error.to_string().contains(&missing), "{error}");
}

pub(crate) async fn files_are_put_in_before_the_start_and_read_back(bed: &Bed) {
    let file = |path: &str, user: u32, mode: u32, content: &str| PlacedFile {
        path: path.to_owned(),
        user,
        group: user,
        mode,
        content: content.as_bytes().to_vec(),
    };
    let files =
        [file("/etc/level", 0, 0o444, "level 2\n"), file("/run/keys/deep/ledger", 1000, 0o400, "pears\n")];
    let id = bed.engine.make("with-files", &idle(), None, None).await.unwrap();
    bed.engine.put_files(&id, &files).await.unwrap();
    bed.engine.start(&id).await.unwrap();
    let paths = ["/etc/level", "/run/keys/deep/ledger", "/etc/not-there"].map(str::to_owned);
    let back = bed.engine.placed_files(&id, &paths).await.unwrap();
    let told = |all: &[PlacedFile]| -> Vec<(String, u32, u32, u32, Vec<u8>)> {
        let told = |f: &PlacedFile| (f.path.clone(), f.user, f.group, f.mode, f.content.clone());
        all.iter().map(told).collect()
    };
    let mut expected = told(&files);
    if bed.kind == BedKind::Podman {
        // What is copied out of it belongs to root, whoever it belongs to inside.
        expected.iter_mut().for_each(|(_, user, group, ..)| (*user, *group) = (0, 0));
    }
    assert_eq!(told(&back), expected, "{:?}", bed.kind);
    // Another one of the same files: what was there is overwritten, what is beside it stays.
    bed.engine.put_files(&id, &[file("/etc/level", 0, 0o444, "level 3\n")]).await.unwrap();
    let back = bed.engine.placed_files(&id, &paths[..1]).await.unwrap();
    assert_eq!(back[0].content, b"level 3\n");
    assert!(bed.engine.stat(&id, "/run/keys/deep").await.unwrap().folder);
}
