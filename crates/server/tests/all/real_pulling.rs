//! One image to several real hosts at once: progress, calling it off half-way, the same again, and over to the other kind
//! of engine.

use std::time::Duration;

use bytes::Bytes;
use futures_util::StreamExt;
use gubernum_api::images::NewRegistry;
use gubernum_api::requests::{
    NewHost, NewOperation, PullRequest, PushRequest, RemoveImageRequest, Request, TagRequest,
};
use gubernum_api::{Operation, OperationState};
use gubernum_client::Client;
use gubernum_core::journal::TargetState;
use gubernum_testbed::hosts::HostNet;
use gubernum_testbed::real::{IMAGE, RealEngine};
use gubernum_testbed::registry::RealRegistry;

use crate::files::tar_of;
use crate::support::{claim, start, until};

const LAYERS: usize = 3;
/// Large enough that a fetch over loopback can be watched.
const LAYER: usize = 48 << 20;

/// Bytes that do not pack.
fn noise(seed: u64) -> Vec<u8> {
    let mut state = seed.wrapping_mul(0x9E37_79B9_7F4A_7C15) | 1;
    let words = std::iter::repeat_with(move || {
        state ^= state << 13;
        state ^= state >> 7;
        state ^= state << 17;
        state.to_le_bytes()
    });
    words.take(LAYER / 8).flatten().collect()
}

async fn over(client: &Client, id: u64) -> Operation {
    let running = || async { client.operation(id).await.unwrap().state != OperationState::Running };
    until("the operation is over", Duration::from_secs(180), running).await;
    client.operation(id).await.unwrap()
}

fn pull(image: &str) -> Request {
    Request::Pull(PullRequest { image: image.to_owned(), ..PullRequest::default() })
}

fn push(image: &str) -> Request {
    Request::Push(PushRequest { image: image.to_owned() })
}

async fn carried(client: &Client, request: Request, hosts: &[&str]) -> Operation {
    let targets = hosts.iter().map(|h| (*h).to_owned()).collect();
    let wish = NewOperation::new(request, targets);
    let operation = client.submit(&wish, None).await.unwrap();
    over(client, operation.id).await
}

async fn has(client: &Client, host: &str, image: &str) -> bool {
    let all = client.images(&[]).await.unwrap();
    all.iter().any(|i| i.tags.iter().any(|t| t == image) && i.copies.iter().any(|c| c.host == host))
}

fn said(operation: &Operation) -> String {
    operation.targets.iter().filter_map(|t| t.sentence.clone()).collect::<Vec<_>>().join("; ")
}

#[tokio::test(flavor = "multi_thread")]
async fn to_three_hosts_called_off_and_again_and_over_to_podman() {
    let mut net = HostNet::new(62).unwrap();
    let names = ["packhouse", "coldstore", "orchard-edge"];
    for name in names {
        net.add(name).unwrap();
    }
    let registry = RealRegistry::start_at(&net.registry_address().unwrap(), None).unwrap();
    let podman = RealEngine::podman_with(&registry.address).unwrap();
    let folder = tempfile::tempdir().unwrap();
    let service = start(folder.path(), None, Default::default()).await;
    let client = claim(&service).await;
    let mut places: Vec<(&str, String)> =
        net.hosts().iter().zip(names).map(|(h, n)| (n, h.socket_address())).collect();
    places.push(("office", podman.endpoint().to_string()));
    for (name, address) in places {
        let host = NewHost { name: name.into(), address, tls: None, ports_address: None, groups: Vec::new() };
        client.add_host(&host).await.unwrap();
    }
    until("all are live", Duration::from_secs(30), async || {
        client.hosts().await.unwrap().iter().all(|h| h.engine.is_some())
    })
    .await;
    let plain = NewRegistry {
        address: registry.address.clone(),
        account: None,
        secret: None,
        ca: None,
        plain_http: true,
    };
    client.set_registry(&plain).await.unwrap();

    // An image of several large layers, built and sent by way of the service.
    let image = format!("{}/tarn/grading:7", registry.address);
    let blobs: Vec<Vec<u8>> = (1..=LAYERS).map(|n| noise(n as u64)).collect();
    let lines: String = (1..=LAYERS).map(|n| format!("COPY blob-{n} /blob-{n}\n")).collect();
    let file = format!("FROM {IMAGE}\n{lines}");
    let names_of: Vec<String> = (1..=LAYERS).map(|n| format!("blob-{n}")).collect();
    let mut entries: Vec<(&str, Result<&[u8], &str>)> = vec![("Dockerfile", Ok(file.as_bytes()))];
    entries.extend(names_of.iter().zip(&blobs).map(|(name, blob)| (name.as_str(), Ok(blob.as_slice()))));
    let context = Bytes::from(tar_of(&entries));
    let query = [("tag", image.clone()), ("network", "none".to_owned())];
    let mut stream =
        client.build("packhouse", &query, futures_util::stream::iter([Ok(context)]).boxed()).await.unwrap();
    while let Some(line) = stream.next().await.unwrap() {
        assert_eq!(line.problem, None);
    }
    until("it is known", Duration::from_secs(30), async || has(&client, "packhouse", &image).await).await;
    let sent = carried(&client, push(&image), &["packhouse"]).await;
    assert_eq!(sent.state, OperationState::Succeeded, "{}", said(&sent));
    let removed = NewOperation::new(
        Request::RemoveImage(RemoveImageRequest::default()),
        vec![format!("packhouse/{image}")],
    );
    let operation = client.submit(&removed, None).await.unwrap();
    assert_eq!(over(&client, operation.id).await.state, OperationState::Succeeded);

    // To all three at once; called off when there is something to see.
    let targets: Vec<String> = names.iter().map(|n| (*n).to_owned()).collect();
    let wish = NewOperation::new(
        Request::Pull(PullRequest { image: image.clone(), ..PullRequest::default() }),
        targets,
    );
    let operation = client.submit(&wish, None).await.unwrap();
    let whole = (LAYERS * LAYER) as u64;
    let seen = std::cell::Cell::new((0u64, 0usize));
    until("bytes of layers are seen", Duration::from_secs(60), async || {
        let now = client.operation(operation.id).await.unwrap();
        assert_eq!(now.state, OperationState::Running, "it was over before: {}", said(&now));
        let progress = now.targets.iter().filter_map(|t| t.progress.as_ref());
        let most = progress.max_by_key(|p| p.done).map(|p| (p.done, p.layers.len()));
        seen.set(most.unwrap_or_default());
        seen.get().0 > 0 && seen.get().1 >= LAYERS
    })
    .await;
    client.cancel(operation.id).await.unwrap();
    let ended = over(&client, operation.id).await;
    println!("called off with {:?} of {whole} bytes: {}", seen.get(), said(&ended));
    assert_eq!(ended.state, OperationState::Cancelled, "{ended:?}");
    let called_off = ended.targets.iter().filter(|t| t.state == TargetState::Cancelled).count();
    assert!(called_off >= 1, "{ended:?}");
    for target in &ended.targets {
        assert!(target.progress.is_none(), "nothing goes on: {target:?}");
    }

    // The same again.
    let again = carried(&client, pull(&image), &names).await;
    assert_eq!(again.state, OperationState::Succeeded, "{}", said(&again));
    until("all three have it", Duration::from_secs(30), async || {
        let mut all = true;
        for name in names {
            all &= has(&client, name, &image).await;
        }
        all
    })
    .await;
    let rows = client.images(&[]).await.unwrap();
    let row = rows.iter().filter(|r| r.tags.contains(&image)).collect::<Vec<_>>();
    assert_eq!((row.len(), row[0].copies.len()), (1, 3), "the same image on each");
    // And once more: nothing to do.
    let third = carried(&client, pull(&image), &names).await;
    assert!(third.targets.iter().all(|t| t.state == TargetState::Unchanged), "{}", said(&third));

    // What one kind of engine sent, the other fetches, and back under another name.
    let fetched = carried(&client, pull(&image), &["office"]).await;
    assert_eq!(fetched.state, OperationState::Succeeded, "{}", said(&fetched));
    until("podman has it", Duration::from_secs(30), async || has(&client, "office", &image).await).await;
    let other = format!("{}/tarn/grading:from-office", registry.address);
    let wish = NewOperation::new(
        Request::Tag(TagRequest { image: image.clone(), new_name: other.clone() }),
        vec!["office".into()],
    );
    let operation = client.submit(&wish, None).await.unwrap();
    assert_eq!(over(&client, operation.id).await.state, OperationState::Succeeded);
    until("it has both names", Duration::from_secs(30), async || has(&client, "office", &other).await).await;
    let sent = carried(&client, push(&other), &["office"]).await;
    assert_eq!(sent.state, OperationState::Succeeded, "{}", said(&sent));
    let back = carried(&client, pull(&other), &["coldstore"]).await;
    assert_eq!(back.state, OperationState::Succeeded, "{}", said(&back));
    service.stop().await;
}
