//! `kill -9` of the service while files are sent into a container of a real engine: what has come is resumed
//! afterwards, or removed when nobody does, and nothing of it is ever seen under the file's name.

use bytes::Bytes;
use futures_util::StreamExt;
use gubernum_client::{Client, ClientError, Download, Place, Trust};
use gubernum_store::{Seal, Store};
use gubernum_testbed::real::{IMAGE, RealEngine};
use jiff::{SignedDuration, Timestamp};

use crate::killed::{Ground, until};

const KEY: &str = "frost2026half";

/// The two files, in a container each: an engine may write into a container one file after another.
fn large() -> Place {
    Place::File { of: "packhouse/box".into(), path: "/tmp/large".into() }
}

fn kept() -> Place {
    Place::File { of: "packhouse/crate".into(), path: "/tmp/kept".into() }
}

/// Sends so much of it, and then an end, or neither more nor an end.
async fn send(
    client: Client,
    place: Place,
    bytes: Vec<u8>,
    most: usize,
    query: Vec<(&'static str, String)>,
) -> Result<(), ClientError> {
    let pieces: Vec<std::io::Result<Bytes>> =
        bytes[..most].chunks(50_000).map(|c| Ok(Bytes::copy_from_slice(c))).collect();
    let sent = futures_util::stream::iter(pieces);
    let stream =
        if most == bytes.len() { sent.boxed() } else { sent.chain(futures_util::stream::pending()).boxed() };
    client.put(&place, Some(bytes.len() as u64), stream, &query).await
}

async fn all(mut download: Download) -> Vec<u8> {
    let mut out = Vec::new();
    while let Some(piece) = download.next().await.unwrap() {
        out.extend_from_slice(&piece);
    }
    out
}

async fn on(engine: RealEngine) {
    let mut ground = Ground::new(&engine).await;
    let mut roots = Vec::new();
    for name in ["box", "crate"] {
        engine.tool(&["run", "--detach", "--network=none", "--name", name, IMAGE, "sleep", "1000"]).unwrap();
        until("it is known", || ground.told(&["list", "containers"]).to_string().contains(name));
        let pid = engine.tool(&["inspect", "--format", "{{.State.Pid}}", name]).unwrap();
        roots.push(format!("/proc/{}/root/tmp", pid.trim()));
    }
    let here = |ground: &Ground| {
        Client::new(ground.service().url(), Some(ground.token().to_owned()), Trust::System).unwrap()
    };
    // Looked at past the engine, which may answer nothing about a container that it writes into.
    let hidden = || {
        let entries = roots.iter().flat_map(|root| std::fs::read_dir(root).unwrap().map_while(Result::ok));
        let names = entries.map(|e| (e.file_name().to_string_lossy().into_owned(), e.metadata()));
        names.filter(|(n, m)| n.starts_with('.') && m.as_ref().is_ok_and(|m| m.len() > 0)).count()
    };
    let whole: Vec<u8> = (0..2_000_000u32).map(|n| (n % 241) as u8).collect();
    let client = here(&ground);
    send(client.clone(), kept(), b"as it was".to_vec(), 9, Vec::new()).await.unwrap();
    let key = || ("upload", KEY.to_owned());
    tokio::spawn(send(client.clone(), large(), whole.clone(), 1_200_000, vec![key()]));
    tokio::spawn(send(client, kept(), whole.clone(), 800_000, Vec::new()));
    until("both are half there", || hidden() == 2);

    ground.kill_and_start();
    ground.settled();
    let client = here(&ground);
    // The one continues from where it stood; the other's file is what it was.
    let from = client.received(&large(), KEY).await.unwrap();
    println!("resumed from byte {from} of {}", whole.len());
    assert!(from < whole.len() as u64, "{from}");
    assert!(client.fetch(&large(), 0).await.is_err(), "nothing is under its name");
    let mut query = vec![key()];
    query.extend((from > 0).then(|| ("from", from.to_string())));
    let rest = whole[from as usize..].to_vec();
    let most = rest.len();
    send(client.clone(), large(), rest, most, query).await.unwrap();
    assert!(all(client.fetch(&large(), 0).await.unwrap()).await == whole, "the same bytes");
    assert_eq!(all(client.fetch(&kept(), 0).await.unwrap()).await, b"as it was");
    assert_eq!(hidden(), 1);

    // As if an hour had passed while the service was away: nobody will resume it.
    ground.kill();
    {
        let seal = Seal::open(&ground.folder().join("seal.key")).unwrap();
        let store = Store::open(&ground.folder().join("gubernum.db"), seal).unwrap();
        let left = store.overdue_uploads(Timestamp::now() + SignedDuration::from_hours(2)).unwrap();
        assert_eq!(left.len(), 1, "what is whole is forgotten: {left:?}");
        assert!(store.note_upload(&left[0], Timestamp::now() - SignedDuration::from_mins(1)).unwrap());
    }
    ground.kill_and_start();
    until("what was left is removed", || hidden() == 0);
}

#[tokio::test(flavor = "multi_thread")]
async fn outlive_the_service_on_dockerd() {
    on(RealEngine::dockerd().unwrap()).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn outlive_the_service_on_podman() {
    on(RealEngine::podman().unwrap()).await;
}
