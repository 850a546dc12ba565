//! Files, volumes' data and images' archives, through the service, on the simulated engine and on both real ones.

use std::time::Duration;

use bytes::Bytes;
use futures_util::StreamExt;
use gubernum_api::files::{FileChange, FileKind};
use gubernum_api::requests::NewHost;
use gubernum_client::{Client, ClientError, Download, Holder, Place};
use gubernum_testbed::real::{IMAGE, RealEngine};
use http::Method;

use crate::support::{Bench, claim, start, until};

fn file(path: &str) -> Place {
    Place::File { of: "packhouse/box".into(), path: path.into() }
}

fn folder(path: &str) -> Place {
    Place::Folder { of: "packhouse/box".into(), path: path.into() }
}

async fn all(mut download: Download) -> Vec<u8> {
    let mut out = Vec::new();
    while let Some(piece) = download.next().await.unwrap() {
        out.extend_from_slice(&piece);
    }
    out
}

async fn put(
    client: &Client,
    place: &Place,
    bytes: &[u8],
    more: &[(&str, String)],
) -> Result<(), ClientError> {
    let pieces: Vec<std::io::Result<Bytes>> =
        bytes.chunks(10_000).map(|c| Ok(Bytes::copy_from_slice(c))).collect();
    client.put(place, Some(bytes.len() as u64), futures_util::stream::iter(pieces).boxed(), more).await
}

/// A file whose connection breaks twice is resumed, and is whole at the end.
async fn an_upload_is_gone_on_with(client: &Client, keeps_parts: bool) {
    let whole: Vec<u8> = (0..3_000_000u32).map(|n| (n % 247) as u8).collect();
    let place = file("/tmp/large");
    let query = |from: u64| {
        let mut query =
            vec![("upload", "frost2026word".to_owned()), ("mode", "640".into()), ("user", "77".into())];
        query.extend((from > 0).then(|| ("from", from.to_string())));
        query
    };
    let send = async |from: u64, breaks: bool| {
        let rest = &whole[from as usize..];
        let most = if breaks { rest.len() / 2 } else { rest.len() };
        let mut pieces: Vec<std::io::Result<Bytes>> =
            rest[..most].chunks(50_000).map(|c| Ok(Bytes::copy_from_slice(c))).collect();
        if breaks {
            pieces.push(Err(std::io::Error::other("the wire is cut")));
        }
        let stream = futures_util::stream::iter(pieces).boxed();
        client.put(&place, Some(rest.len() as u64), stream, &query(from)).await
    };
    assert_eq!(client.received(&place, "frost2026word").await.unwrap(), 0);
    let mut from = 0;
    for _ in 0..2 {
        assert!(send(from, true).await.is_err());
        let told = async || client.received(&place, "frost2026word").await.unwrap();
        if keeps_parts {
            // A break so early that the service has not begun to write leaves nothing to resume.
            until("a part has come", Duration::from_secs(40), async || {
                told().await > from || (send(from, true).await.is_err() && told().await > from)
            })
            .await;
        }
        let received = told().await;
        assert!(received >= from && received < whole.len() as u64, "{received} after {from}");
        from = received;
        // It is nowhere to be seen under its name, and goes on nowhere else.
        assert!(client.fetch(&place, 0).await.is_err());
        let error = send(from + 1, false).await.unwrap_err();
        assert_eq!(error.kind(), Some("elsewhere"), "{error}");
    }
    send(from, false).await.unwrap();
    assert!(all(client.fetch(&place, 0).await.unwrap()).await == whole, "the same bytes");
    let listed = client.folder("packhouse/box", "/tmp").await.unwrap();
    let entry = listed.entries.iter().find(|e| e.name == "large").unwrap();
    assert_eq!((entry.mode.as_str(), entry.user), ("640", 77));
    assert!(!listed.entries.iter().any(|e| e.name.starts_with('.')), "{listed:?}");
    for (word, at) in [("Short", "?upload"), ("with space in it", "?upload")] {
        let error = client.received(&place, word).await.unwrap_err();
        assert!(error.to_string().contains("lowercase letters"), "{at}: {error}");
    }
}

/// A tar archive of these entries: name, link target or content.
pub(crate) fn tar_of(entries: &[(&str, Result<&[u8], &str>)]) -> Vec<u8> {
    let mut out = Vec::new();
    for (name, what) in entries {
        let mut head = [0u8; 512];
        head[..name.len()].copy_from_slice(name.as_bytes());
        head[100..107].copy_from_slice(b"0000644");
        head[108..115].copy_from_slice(b"0000000");
        head[116..123].copy_from_slice(b"0000000");
        let size = what.map_or(0, <[u8]>::len);
        head[124..135].copy_from_slice(format!("{size:011o}").as_bytes());
        head[136..147].copy_from_slice(b"15000000000");
        head[156] = if what.is_err() { b'2' } else { b'0' };
        if let Err(target) = what {
            head[157..157 + target.len()].copy_from_slice(target.as_bytes());
        }
        head[257..265].copy_from_slice(b"ustar\x0000");
        head[148..156].fill(b' ');
        let sum: u32 = head.iter().map(|b| u32::from(*b)).sum();
        head[148..154].copy_from_slice(format!("{sum:06o}").as_bytes());
        head[154] = 0;
        out.extend_from_slice(&head);
        if let Ok(bytes) = what {
            out.extend_from_slice(bytes);
            out.resize(out.len().next_multiple_of(512), 0);
        }
    }
    out.resize(out.len() + 1024, 0);
    out
}

/// What every engine must do.
async fn files_come_and_go(client: &Client) {
    // A file in pieces, and back; from the middle too.
    let bytes: Vec<u8> = (0..300_000u32).map(|n| (n % 251) as u8).collect();
    put(client, &file("/tmp/readings.bin"), &bytes, &[("mode", "640".into()), ("user", "1000".into())])
        .await
        .unwrap();
    let back = client.fetch(&file("/tmp/readings.bin"), 0).await.unwrap();
    assert_eq!(back.size, Some(300_000));
    assert!(all(back).await == bytes, "the same bytes");
    assert!(all(client.fetch(&file("/tmp/readings.bin"), 123_456).await.unwrap()).await == bytes[123_456..]);
    let long = format!("/tmp/{}", "n".repeat(180));
    put(client, &file(&long), b"x", &[]).await.unwrap();
    // It is listed with all that is known of it.
    let listed = client.folder("packhouse/box", "/tmp").await.unwrap();
    let entry = listed.entries.iter().find(|e| e.name == "readings.bin").expect("it is listed");
    assert_eq!(
        (entry.kind, entry.size, entry.mode.as_str(), entry.user),
        (FileKind::File, 300_000, "640", 1000)
    );
    assert!(listed.entries.iter().any(|e| e.name.len() == 180), "{listed:?}");
    // A folder as an archive, and an archive into a folder.
    let archive = tar_of(&[("deep/one", Ok(b"1")), ("deep/two", Ok(b"22")), ("deep/link", Err("one"))]);
    put(client, &folder("/tmp"), &archive, &[]).await.unwrap();
    assert_eq!(all(client.fetch(&file("/tmp/deep/two"), 0).await.unwrap()).await, b"22");
    let fetched = all(client.fetch(&folder("/tmp/deep"), 0).await.unwrap()).await;
    assert!(fetched.len() >= 2048 && fetched.windows(8).any(|w| w == b"deep/one"), "{} bytes", fetched.len());
    // What leads outside is refused, with the entry's name.
    for (name, what) in [("../outside", Ok(&b"x"[..])), ("in/link", Err("../../etc")), ("abs", Err("/etc"))] {
        let error =
            put(client, &folder("/tmp"), &tar_of(&[(name, what)]), &[]).await.unwrap_err().to_string();
        assert!(error.contains("leads outside") && error.contains(name), "{error}");
    }
    let error = put(client, &folder("/tmp"), &archive[..700], &[]).await.unwrap_err().to_string();
    assert!(error.contains("archive") || error.contains("EOF"), "{error}");
    for (path, words) in
        [("/tmp/none", "does not exist"), ("/tmp/../etc", "must not contain"), ("/tmp", "not a file")]
    {
        let error = client.fetch(&file(path), 0).await.err().expect("an error").to_string();
        assert!(error.contains(words), "{error}");
    }
    let error = put(client, &file("/no/such/folder/x"), b"x", &[]).await.unwrap_err().to_string();
    assert!(!error.is_empty());
    // Somebody else changed it meanwhile.
    let old = [("unless_changed_since", "2001-02-03T04:05:06Z".to_owned())];
    let error = put(client, &file("/tmp/readings.bin"), b"mine", &old).await.unwrap_err().to_string();
    assert!(error.contains("changed by somebody else"), "{error}");
}

/// Only on real engines: the simulated one has no links.
async fn links_lead_nowhere(client: &Client) {
    // What is there already leads nowhere else: neither a link of the container nor one of the archive is passed through.
    let first = tar_of(&[("ways/out", Err("/var")), ("ways/in/one", Ok(b"1"))]);
    assert!(put(client, &folder("/tmp"), &first, &[]).await.is_err(), "a link that leads outside");
    put(client, &folder("/tmp"), &tar_of(&[("ways/in/one", Ok(b"1")), ("ways/out", Err("in"))]), &[])
        .await
        .unwrap();
    let error = put(client, &folder("/tmp"), &tar_of(&[("ways/out/evil", Ok(b"x"))]), &[]).await.unwrap_err();
    assert!(error.to_string().contains("passes through the link 'ways/out'"), "{error}");
    put(client, &folder("/tmp/ways"), &tar_of(&[("in/two", Ok(b"2")), ("new/three", Ok(b"3"))]), &[])
        .await
        .unwrap();
    for (path, bytes) in [("in/one", b"1"), ("in/two", b"2"), ("new/three", b"3")] {
        let path = format!("/tmp/ways/{path}");
        assert_eq!(all(client.fetch(&file(&path), 0).await.unwrap()).await, bytes);
    }
}

async fn files_are_changed(client: &Client) {
    let change = async |change: FileChange| client.change_file("packhouse/box", &change).await;
    let path = |p: &str| p.to_owned();
    change(FileChange::CreateFolder { path: path("/tmp/made") }).await.unwrap();
    let error = change(FileChange::CreateFolder { path: path("/tmp/made") }).await.unwrap_err().to_string();
    assert!(error.contains("already"), "{error}");
    put(client, &file("/tmp/made/a"), b"a", &[]).await.unwrap();
    change(FileChange::Rename { path: path("/tmp/made/a"), to: path("/tmp/made/b") }).await.unwrap();
    assert_eq!(all(client.fetch(&file("/tmp/made/b"), 0).await.unwrap()).await, b"a");
    let set = FileChange::SetMode {
        path: path("/tmp/made/b"),
        mode: Some("600".into()),
        user: Some(77),
        group: None,
    };
    change(set).await.unwrap();
    let listed = client.folder("packhouse/box", "/tmp/made").await.unwrap();
    assert_eq!((listed.entries[0].mode.as_str(), listed.entries[0].user), ("600", 77), "{listed:?}");
    // Written again, it keeps what is not said; broken off, it is what it was, and nothing is left beside it.
    put(client, &file("/tmp/made/b"), b"again", &[]).await.unwrap();
    let pieces = vec![Ok(Bytes::from_static(b"half")), Err(std::io::Error::other("the wire is cut"))];
    let half = futures_util::stream::iter(pieces).boxed();
    assert!(client.put(&file("/tmp/made/b"), Some(1000), half, &[]).await.is_err());
    until("it is alone", Duration::from_secs(20), async || {
        client.folder("packhouse/box", "/tmp/made").await.unwrap().entries.len() == 1
    })
    .await;
    let listed = client.folder("packhouse/box", "/tmp/made").await.unwrap();
    let now = &listed.entries[0];
    assert_eq!((now.mode.as_str(), now.user, now.name.as_str()), ("600", 77, "b"), "{listed:?}");
    assert_eq!(all(client.fetch(&file("/tmp/made/b"), 0).await.unwrap()).await, b"again");
    change(FileChange::Delete { path: path("/tmp/made") }).await.unwrap();
    assert!(client.folder("packhouse/box", "/tmp/made").await.is_err());
    for (wish, words) in [
        (FileChange::Delete { path: path("/readings") }, "mounted"),
        (FileChange::Delete { path: path("/") }, "below"),
        (FileChange::Rename { path: path("/tmp/none"), to: path("/tmp/x") }, "does not exist"),
    ] {
        let error = change(wish).await.unwrap_err().to_string();
        assert!(error.contains(words), "{error}");
    }
}

async fn volumes_are_saved_and_restored(client: &Client) {
    let place = Place::Volume { reference: "packhouse/readings".into() };
    put(client, &place, &tar_of(&[("mast/3.csv", Ok(b"4.2\n"))]), &[]).await.unwrap();
    let saved = all(client.fetch(&place, 0).await.unwrap()).await;
    assert!(saved.windows(10).any(|w| w == b"mast/3.csv"), "{} bytes", saved.len());
    let inside = Place::File { of: "packhouse/box".into(), path: "/readings/mast/3.csv".into() };
    assert_eq!(all(client.fetch(&inside, 0).await.unwrap()).await, b"4.2\n");
    let missing = Place::Volume { reference: "packhouse/none".into() };
    let error = client.fetch(&missing, 0).await.err().expect("an error").to_string();
    assert!(error.contains("none"), "{error}");
    // Saved and restored, it is the same once more.
    put(client, &place, &saved, &[]).await.unwrap();
    assert_eq!(all(client.fetch(&inside, 0).await.unwrap()).await, b"4.2\n");
}

fn in_volume(path: &str) -> Place {
    Place::File { of: Holder::Volume("packhouse/readings".into()), path: path.into() }
}

/// A volume's files, by way of the container that mounts it or, when none runs, without one.
async fn volumes_are_browsed(client: &Client, programs: bool) {
    let of = || Holder::Volume("packhouse/readings".into());
    let listed = client.folder(of(), "/mast").await.unwrap();
    assert_eq!((listed.path.as_str(), listed.entries.len()), ("/mast", 1), "{listed:?}");
    assert_eq!((listed.entries[0].name.as_str(), listed.entries[0].size), ("3.csv", 4));
    let listed = client.folder(of(), "/").await.unwrap();
    assert!(listed.entries.iter().any(|e| e.name == "mast" && e.kind == FileKind::Folder), "{listed:?}");
    assert_eq!(all(client.fetch(&in_volume("/mast/3.csv"), 0).await.unwrap()).await, b"4.2\n");
    put(client, &in_volume("/mast/4.csv"), b"4.9\n", &[]).await.unwrap();
    assert_eq!(all(client.fetch(&in_volume("/mast/4.csv"), 2).await.unwrap()).await, b"9\n");
    let made = FileChange::CreateFolder { path: format!("/older-{programs}") };
    client.change_file(of(), &made).await.unwrap();
    // What leads out of the volume is not followed.
    let links = tar_of(&[("out", Err("../etc"))]);
    let whole = Place::Folder { of: of(), path: "/".into() };
    let error = put(client, &whole, &links, &[]).await.unwrap_err().to_string();
    assert!(error.contains("leads outside"), "{error}");
    for path in ["/../etc/passwd", "/mast/none"] {
        assert!(client.fetch(&in_volume(path), 0).await.is_err(), "{path}");
    }
    let delete = client.change_file(of(), &FileChange::Delete { path: "/mast/4.csv".into() }).await;
    match delete {
        Ok(()) => {
            assert!(programs);
            let listed = client.folder(of(), "/mast").await.unwrap();
            assert_eq!(listed.entries.len(), 1, "{listed:?}");
        }
        Err(error) => {
            assert!(!programs && error.to_string().contains("no running container mounts"), "{error}");
        }
    }
    let none = Holder::Volume("packhouse/none".into());
    assert!(client.folder(none, "/").await.unwrap_err().to_string().contains("none"));
}

#[tokio::test(flavor = "multi_thread")]
async fn on_the_simulated_engine() {
    let bench = Bench::with(&["packhouse"]).await;
    let mut spec = gubernum_sim::ContainerSpec::new("box", "registry.tarnvalley.example/api:1");
    let volume = |source: &str, target: &str| gubernum_sim::VolumeSpec {
        source: source.into(),
        target: target.into(),
        read_only: false,
    };
    spec.volumes = vec![volume("readings", "/readings"), volume("/srv/secrets", "/secrets")];
    bench.hosts[0].put_file("/srv/secrets/key", b"k");
    bench.hosts[0].run(spec);
    bench.until("it is there", async |b| b.one("packhouse", "box").await.is_some()).await;
    files_come_and_go(&bench.client).await;
    an_upload_is_gone_on_with(&bench.client, false).await;
    volumes_are_saved_and_restored(&bench.client).await;
    // Folders of the host only where that is allowed.
    let error = bench.client.fetch(&file("/secrets/key"), 0).await.err().expect("an error").to_string();
    assert!(error.contains("a host folder"), "{error}");
    let mut preferences = bench.client.preferences().await.unwrap();
    preferences.browse_host_folders = true;
    bench.client.set_preferences(&preferences).await.unwrap();
    assert_eq!(all(bench.client.fetch(&file("/secrets/key"), 0).await.unwrap()).await, b"k");
    let audit = bench.client.audit().await.unwrap();
    for action in ["read-file", "write-file", "write-folder", "write-volume", "set-preferences"] {
        assert!(audit.iter().any(|e| e.action == action), "{action} is not written down");
    }
    // A file needs its length said.
    let (status, _) = bench
        .client
        .raw(Method::PUT, "/api/v1/containers/packhouse/box/file?path=relative", Some(b"x".to_vec()))
        .await
        .unwrap();
    assert_eq!(status.as_u16(), 422);
}

async fn on_real(engine: RealEngine) {
    let scratch = tempfile::tempdir().unwrap();
    let service = start(scratch.path(), None, Default::default()).await;
    let client = claim(&service).await;
    let address = engine.endpoint().to_string();
    let host =
        NewHost { name: "packhouse".into(), address, tls: None, ports_address: None, groups: Vec::new() };
    client.add_host(&host).await.unwrap();
    engine
        .tool(&[
            "run",
            "--detach",
            "--network=none",
            "--volume=readings:/readings",
            "--name",
            "box",
            IMAGE,
            "sleep",
            "1000",
        ])
        .unwrap();
    let up =
        async || client.containers(&[]).await.unwrap().iter().any(|c| c.name == "box" && c.started.is_some());
    until("it is known", Duration::from_secs(20), up).await;
    files_come_and_go(&client).await;
    links_lead_nowhere(&client).await;
    an_upload_is_gone_on_with(&client, true).await;
    volumes_are_saved_and_restored(&client).await;
    files_are_changed(&client).await;
    volumes_are_browsed(&client, true).await;
    engine.tool(&["exec", "box", "busybox", "ln", "-s", "/etc", "/readings/out"]).unwrap();
    let error = client.fetch(&in_volume("/out/passwd"), 0).await.err().expect("an error").to_string();
    assert!(error.contains("leaves the volume"), "{error}");
    // Stopped, its files are there all the same.
    engine.tool(&["stop", "--time", "0", "box"]).unwrap();
    let stopped = async || {
        let all = client.containers(&[]).await.unwrap();
        all.iter().any(|c| c.name == "box" && !c.state.is_alive())
    };
    until("it is stopped", Duration::from_secs(20), stopped).await;
    volumes_are_browsed(&client, false).await;
    let error = client.fetch(&in_volume("/out/passwd"), 0).await.err().expect("an error").to_string();
    // Without a container that runs, podman takes a link's target for a path of the volume.
    assert!(error.contains("leaves the volume") || error.contains("'/out/passwd' does not exist"), "{error}");
    let listed = client.folder("packhouse/box", "/tmp").await.unwrap();
    assert!(listed.entries.iter().any(|e| e.name == "readings.bin" && e.size == 300_000), "{listed:?}");
    put(&client, &file("/tmp/late"), b"late", &[]).await.unwrap();
    let gone = FileChange::Delete { path: "/tmp/late".into() };
    let error = client.change_file("packhouse/box", &gone).await.unwrap_err().to_string();
    assert!(error.contains("Start it to rename or delete"), "{error}");
    assert_eq!(all(client.fetch(&file("/tmp/late"), 0).await.unwrap()).await, b"late");
    // An image out and in again.
    let archive = all(client.export_image("packhouse", IMAGE).await.unwrap()).await;
    assert!(archive.len() > 1_000_000);
    let stream = futures_util::stream::iter([Ok(Bytes::from(archive))]).boxed();
    let said = client.import_images("packhouse", stream).await.unwrap().said;
    assert!(said.contains("busybox") || said.contains("Loaded"), "{said}");
    let nonsense = futures_util::stream::iter([Ok(Bytes::from_static(b"no archive at all"))]).boxed();
    assert!(client.import_images("packhouse", nonsense).await.is_err());
    assert!(client.export_image("packhouse", "localhost/none:1").await.is_err());
    service.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn on_dockerd() {
    on_real(RealEngine::dockerd().unwrap()).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn on_podman() {
    on_real(RealEngine::podman().unwrap()).await;
}

async fn builds(client: &Client, context: Vec<u8>, arguments: &str, tag: &str) -> (String, Option<String>) {
    let query =
        [("tag", tag.to_owned()), ("arguments", arguments.to_owned()), ("network", "none".to_owned())];
    let pieces = futures_util::stream::iter([Ok(Bytes::from(context))]).boxed();
    let mut stream = client.build("packhouse", &query, pieces).await.unwrap();
    let mut said = String::new();
    while let Some(line) = stream.next().await.unwrap() {
        said.push_str(&line.text);
        if line.ended {
            return (said, line.problem);
        }
    }
    panic!("it never ended: {said}");
}

async fn images_are_built(engine: RealEngine) {
    let scratch = tempfile::tempdir().unwrap();
    let service = start(scratch.path(), None, Default::default()).await;
    let client = claim(&service).await;
    let address = engine.endpoint().to_string();
    let host =
        NewHost { name: "packhouse".into(), address, tls: None, ports_address: None, groups: Vec::new() };
    client.add_host(&host).await.unwrap();
    until("live", Duration::from_secs(20), async || client.hosts().await.unwrap()[0].engine.is_some()).await;
    let file = format!(
        "FROM {IMAGE}\nARG CROP=none\nLABEL crop=$CROP\nCOPY notes.txt /notes.txt\nCMD [\"cat\", \"/notes.txt\"]\n"
    );
    let context = tar_of(&[("Dockerfile", Ok(file.as_bytes())), ("notes.txt", Ok(b"late pears\n"))]);
    let (said, problem) = builds(&client, context, r#"{"CROP":"pears"}"#, "localhost/trial/notes:1").await;
    assert_eq!(problem, None, "{said}");
    assert!(said.to_lowercase().contains("step") && said.contains("COPY"), "{said}");
    let run = engine.tool(&["run", "--rm", "--network=none", "localhost/trial/notes:1"]).unwrap();
    assert_eq!(run, "late pears\n");
    let label =
        engine.tool(&["inspect", "--format", "{{.Config.Labels.crop}}", "localhost/trial/notes:1"]).unwrap();
    assert_eq!(label.trim(), "pears");
    // What goes wrong is said, with the step before it.
    let file = format!("FROM {IMAGE}\nCOPY missing /x\n");
    let (said, problem) =
        builds(&client, tar_of(&[("Dockerfile", Ok(file.as_bytes()))]), "{}", "localhost/trial/bad:1").await;
    let problem = problem.unwrap_or_else(|| panic!("it was built: {said}"));
    assert!(problem.contains("missing"), "{problem}");
    service.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn building_on_dockerd() {
    images_are_built(RealEngine::dockerd().unwrap()).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn building_on_podman() {
    images_are_built(RealEngine::podman().unwrap()).await;
}
