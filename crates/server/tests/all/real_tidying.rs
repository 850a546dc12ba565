//! Tidying real hosts: what is in use is not offered, and the bytes that were promised are those that were won.

use std::collections::BTreeSet;
use std::time::Duration;

use bytes::Bytes;
use futures_util::StreamExt;
use gubernum_api::requests::{NewHost, NewOperation, Request, TidyRequest};
use gubernum_api::{OperationState, TidyPiece};
use gubernum_client::{Client, Place};
use gubernum_core::tidy::Leftover;
use gubernum_testbed::real::{IMAGE, RealEngine};

use crate::files::tar_of;
use crate::support::{claim, start, until};

/// How much there is to tidy.
struct Size {
    containers: usize,
    /// Images with a layer of their own over a layer that a group of them shares.
    images: usize,
    group: usize,
    volumes: usize,
}

const LAYER: usize = 300_000;
/// What a volume holds, in bytes; twice that for the next, and so on.
const DATA: usize = 50_000;

async fn build(client: &Client, tag: &str, base: &str, seed: usize) {
    let file = format!("FROM {base}\nCOPY blob /blob-{seed}\nCMD [\"true\"]\n");
    let blob: Vec<u8> = (0..LAYER).map(|n| ((n * 31 + seed * 7) % 251) as u8).collect();
    let context = Bytes::from(tar_of(&[("Dockerfile", Ok(file.as_bytes())), ("blob", Ok(&blob))]));
    let query = [("tag", tag.to_owned()), ("network", "none".to_owned())];
    let pieces = futures_util::stream::iter([Ok(context)]).boxed();
    let mut stream = client.build("packhouse", &query, pieces).await.unwrap();
    while let Some(line) = stream.next().await.unwrap() {
        assert_eq!(line.problem, None, "{tag}");
    }
}

/// What the engine itself measures, in bytes: of images (shared layers once) and of volumes.
async fn measured(engine: &RealEngine) -> (i64, i64) {
    let engine = gubernum_engine::Engine::open(&engine.endpoint()).await.unwrap();
    let (_, body) = engine.call(http::Method::GET, "/system/df", None).await.unwrap();
    let df: serde_json::Value = serde_json::from_slice(&body).unwrap();
    let volumes = df["Volumes"].as_array().unwrap().iter();
    let volumes = volumes.filter_map(|v| v["UsageData"]["Size"].as_i64()).filter(|s| *s > 0).sum();
    (df["LayersSize"].as_i64().unwrap_or(0), volumes)
}

async fn on(engine: RealEngine, size: Size, layers_are_measured: bool) {
    let scratch = tempfile::tempdir().unwrap();
    let service = start(scratch.path(), None, Default::default()).await;
    let client = claim(&service).await;
    let address = engine.endpoint().to_string();
    let host =
        NewHost { name: "packhouse".into(), address, tls: None, ports_address: None, groups: Vec::new() };
    client.add_host(&host).await.unwrap();
    until("live", Duration::from_secs(20), async || client.hosts().await.unwrap()[0].engine.is_some()).await;

    // Images over images: every group shares a layer, the first of each group is in use.
    for n in 0..size.images {
        let first = n - n % size.group;
        let base = if n == first { IMAGE.to_owned() } else { format!("localhost/tarn/crop-{first}:1") };
        build(&client, &format!("localhost/tarn/crop-{n}:1"), &base, n).await;
    }
    let used = "localhost/tarn/crop-0:1";
    engine
        .tool(&[
            "run",
            "--detach",
            "--network=none",
            "--volume=in-use:/data",
            "--name=serving",
            used,
            "sleep",
            "1000",
        ])
        .unwrap();
    for n in 0..size.volumes {
        let name = format!("season-{n}");
        engine.tool(&["volume", "create", &name]).unwrap();
        let data = vec![b'x'; DATA * (n % 4 + 1)];
        let archive = tar_of(&[("readings", Ok(&data))]);
        let place = Place::Volume { reference: format!("packhouse/{name}") };
        let pieces = futures_util::stream::iter([Ok(Bytes::from(archive.clone()))]).boxed();
        client.put(&place, Some(archive.len() as u64), pieces, &[]).await.unwrap();
    }
    let direct = gubernum_engine::Engine::open(&engine.endpoint()).await.unwrap();
    let ended: Vec<String> = (0..size.containers).map(|n| format!("ended-{n}")).collect();
    let made = futures_util::stream::iter(&ended).map(|name| {
        let direct = &direct;
        async move {
            let mut d = gubernum_api::Definition::for_image(IMAGE);
            d.command = Some(vec!["true".to_owned()]);
            d.network.mode = Some("none".to_owned());
            let id = direct.make(name, &d, None, None).await.unwrap();
            direct.start(&id).await.unwrap();
        }
    });
    made.buffer_unordered(4).collect::<Vec<()>>().await;

    let wanted = size.containers + (size.images - 1) + size.volumes;
    let sizes_are_there = async || {
        let all = client.leftovers().await.unwrap();
        let sized = all.iter().filter(|s| s.leftover == Leftover::NamedVolume).all(|s| s.size.is_some());
        all.iter().filter(|s| s.piece.id != "cache").count() >= wanted && sized
    };
    until("all is known and measured", Duration::from_secs(60), sizes_are_there).await;
    let found = client.leftovers().await.unwrap();
    for offered in &found {
        assert!(
            !["serving", "in-use", used].contains(&offered.name.as_str()) && offered.name != IMAGE,
            "{offered:?}"
        );
    }
    let count = |kind: Leftover| found.iter().filter(|s| s.leftover == kind).count();
    assert_eq!(count(Leftover::StoppedContainer), size.containers);
    assert_eq!(count(Leftover::NamedVolume), size.volumes);

    // Containers first: as long as they are there, nothing of theirs is offered.
    let before = measured(&engine).await;
    let pieces: Vec<TidyPiece> =
        found.iter().filter(|s| s.leftover != Leftover::BuildCache).map(|s| s.piece.clone()).collect();
    let wish = NewOperation::new(Request::Tidy(TidyRequest { pieces }), Vec::new());
    let preview = client.preview(&wish).await.unwrap();
    assert!(preview.targets.iter().all(|t| t.refused.is_none()), "{preview:?}");
    let of = |object: gubernum_core::plan::ObjectKind| -> u64 {
        preview.targets.iter().filter(|t| t.object == object).filter_map(|t| t.bytes).sum()
    };
    let (images, volumes) =
        (of(gubernum_core::plan::ObjectKind::Image), of(gubernum_core::plan::ObjectKind::Volume));
    let wish = NewOperation { digest: Some(preview.digest.clone()), ..wish };
    let operation = client.submit(&wish, None).await.unwrap();
    let running = || async { client.operation(operation.id).await.unwrap().state != OperationState::Running };
    until("it is over", Duration::from_secs(300), running).await;
    let done = client.operation(operation.id).await.unwrap();
    let wrong: Vec<_> = done.targets.iter().filter(|t| !t.state.is_good()).collect();
    assert!(wrong.is_empty(), "{wrong:?}");
    let promised: u64 = preview.targets.iter().filter_map(|t| t.bytes).sum();
    let won: u64 = done.targets.iter().filter_map(|t| t.bytes).sum();
    let after = measured(&engine).await;
    println!(
        "promised {promised} bytes (images {images}, volumes {volumes}), told as won {won}; the engine measures images {} -> {}, volumes {} -> {}",
        before.0, after.0, before.1, after.1
    );
    assert_eq!(won, promised);
    let near = |a: i64, b: u64| {
        let b = i64::try_from(b).unwrap();
        (a - b).abs() <= b / 100 + 4096
    };
    assert!(near(before.1 - after.1, volumes), "volumes");
    if layers_are_measured {
        assert!(near(before.0 - after.0, images), "images");
    }
    // What serves still does, and what it needs is there.
    assert_eq!(engine.tool(&["exec", "serving", "echo", "here"]).unwrap().trim(), "here");
    let left: BTreeSet<String> = client.containers(&[]).await.unwrap().into_iter().map(|c| c.name).collect();
    until("only what serves is left", Duration::from_secs(20), async || {
        client.containers(&[]).await.unwrap().len() == 1
    })
    .await;
    assert!(left.contains("serving"));
    service.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_crowded_dockerd() {
    let size = Size { containers: 100, images: 60, group: 10, volumes: 40 };
    on(RealEngine::dockerd().unwrap(), size, true).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_less_crowded_podman() {
    let size = Size { containers: 12, images: 9, group: 3, volumes: 6 };
    on(RealEngine::podman().unwrap(), size, false).await;
}
