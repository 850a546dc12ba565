//! A host whose disk fills in the middle of a pull or of an upload: the sentence names the cause, what runs goes on, and
//! what a file was before is still there.

use std::time::Duration;

use bytes::Bytes;
use futures_util::StreamExt;
use gubernum_api::images::NewRegistry;
use gubernum_api::requests::{DeployRequest, NewHost, NewOperation, PushRequest, Request, UpdateRequest};
use gubernum_api::{Container, Operation, OperationState, State};
use gubernum_client::{Client, Place};
use gubernum_testbed::hosts::HostNet;
use gubernum_testbed::real::IMAGE;
use gubernum_testbed::registry::RealRegistry;

use crate::support::{claim, start, until};

const DISK: u32 = 96;
/// More than the disk holds.
const LARGE: u64 = 160 << 20;

async fn over(client: &Client, wish: &NewOperation) -> Operation {
    let id = client.submit(wish, None).await.unwrap().id;
    let running = || async { client.operation(id).await.unwrap().state != OperationState::Running };
    until("the operation is over", Duration::from_secs(120), running).await;
    client.operation(id).await.unwrap()
}

fn said(operation: &Operation) -> String {
    operation.targets.iter().filter_map(|t| t.sentence.clone()).collect::<Vec<_>>().join("; ")
}

async fn the_one(client: &Client) -> Option<Container> {
    client.containers(&[]).await.unwrap().into_iter().find(|c| c.name == "frost-api")
}

/// An archive with a file that no such disk holds, beside a busybox.
fn large_archive(net: &HostNet) -> std::path::PathBuf {
    let root = net.folder().join("image");
    std::fs::File::create(root.join("large")).unwrap().set_len(LARGE).unwrap();
    let archive = net.folder().join("large.tar");
    let words = ["-C", root.to_str().unwrap(), "-cf", archive.to_str().unwrap(), "."];
    gubernum_testbed::process::run("tar", &words).unwrap();
    archive
}

/// `net` has a large host first, then the cramped one.
async fn on(net: HostNet, registry: RealRegistry) {
    let folder = tempfile::tempdir().unwrap();
    let service = start(folder.path(), None, Default::default()).await;
    let client = claim(&service).await;
    for host in net.hosts() {
        let address = host.socket_address();
        let new =
            NewHost { name: host.name.clone(), address, tls: None, ports_address: None, groups: Vec::new() };
        client.add_host(&new).await.unwrap();
    }
    until("all are live", Duration::from_secs(30), async || {
        client.hosts().await.unwrap().iter().all(|h| h.engine.is_some())
    })
    .await;
    let address = registry.address.clone();
    let plain = NewRegistry { address, account: None, secret: None, ca: None, plain_http: true };
    client.set_registry(&plain).await.unwrap();
    let cramped = &net.hosts()[1];
    let image = format!("{}/tarn/frost-api:3", registry.address);
    let serves = ["sh", "-c", "trap 'exit 0' TERM; while true; do sleep 1 & wait $!; done"];
    cramped.make_image(net.archive(), &image, &serves).unwrap();
    let definition = serde_json::json!({"image": image, "name": "frost-api", "pull": "never", "network": {"mode": "none"}});
    let deploy = NewOperation::new(
        Request::Deploy(DeployRequest {
            definition: Box::new(serde_json::from_value(definition).unwrap()),
            watch_seconds: Some(1),
            ..DeployRequest::default()
        }),
        vec!["cramped/frost-api".into()],
    );
    until("the image is known", Duration::from_secs(20), async || {
        client.images(&[]).await.unwrap().iter().any(|i| i.tags.contains(&image))
    })
    .await;
    let done = over(&client, &deploy).await;
    assert_eq!(done.state, OperationState::Succeeded, "{}", said(&done));
    until("it runs", Duration::from_secs(20), async || {
        the_one(&client).await.is_some_and(|c| c.state == State::Running)
    })
    .await;
    let before = the_one(&client).await.unwrap();

    // The newest under its name does not fit.
    net.hosts()[0].make_image(&large_archive(&net), &image, &serves).unwrap();
    until("the large one is known", Duration::from_secs(20), async || {
        let all = client.images(&[]).await.unwrap();
        all.iter().any(|i| i.tags.contains(&image) && i.copies.iter().any(|c| c.host == "packhouse"))
    })
    .await;
    let push =
        NewOperation::new(Request::Push(PushRequest { image: image.clone() }), vec!["packhouse".into()]);
    let done = over(&client, &push).await;
    assert_eq!(done.state, OperationState::Succeeded, "{}", said(&done));
    let update = NewOperation::new(
        Request::Update(UpdateRequest { watch_seconds: Some(1), ..UpdateRequest::default() }),
        vec!["cramped/frost-api".into()],
    );
    let done = over(&client, &update).await;
    println!("pull: {}", said(&done));
    assert_eq!(done.state, OperationState::Failed);
    assert!(said(&done).contains("disk") && said(&done).contains("full"), "{}", said(&done));
    assert!(said(&done).contains("what runs was not touched"), "{}", said(&done));
    let now = the_one(&client).await.unwrap();
    assert_eq!((now.id.as_str(), now.state), (before.id.as_str(), State::Running));

    // An upload over a file that is there.
    let place = Place::File { of: "cramped/frost-api".into(), path: "/tmp/readings".into() };
    let send = async |size: u64| {
        let pieces = (0..size >> 20).map(|_| Ok(Bytes::from(vec![7u8; 1 << 20])));
        client.put(&place, Some(size), futures_util::stream::iter(pieces).boxed(), &[]).await
    };
    send(1 << 20).await.unwrap();
    let error = send(LARGE).await.unwrap_err().to_string();
    println!("upload: {error}");
    assert!(error.contains("disk") && error.contains("full"), "{error}");
    let size = cramped.tool(&["exec", "frost-api", "wc", "-c", "/tmp/readings"]).unwrap();
    assert!(size.starts_with("1048576 "), "what was there is as before: {size}");
    until("the half is gone", Duration::from_secs(20), async || {
        !cramped.tool(&["exec", "frost-api", "ls", "-a", "/tmp"]).unwrap().contains(".part")
    })
    .await;
    // The host still works: what was sent half is gone, and something small goes through.
    send(2 << 20).await.unwrap();
    assert_eq!(the_one(&client).await.unwrap().state, State::Running);
    cramped.tool(&["run", "--rm", "--network", "none", IMAGE, "true"]).unwrap();
    service.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_disk_that_fills_on_dockerd() {
    let mut net = HostNet::new(66).unwrap();
    net.add("packhouse").unwrap();
    net.add_cramped("cramped", DISK).unwrap();
    let registry = RealRegistry::start_at(&net.registry_address().unwrap(), None).unwrap();
    on(net, registry).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_disk_that_fills_on_podman() {
    let mut net = HostNet::new(67).unwrap();
    net.add("packhouse").unwrap();
    let address = net.registry_address().unwrap();
    net.add_cramped_podman("cramped", &address, DISK).unwrap();
    let registry = RealRegistry::start_at(&address, None).unwrap();
    on(net, registry).await;
}
