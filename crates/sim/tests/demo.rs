//! The demo fleet: the same from the same seed, and with the trouble that the tour shows.

// All of this is tests: their helpers may fail as the tests themselves may.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

use std::collections::BTreeMap;
use std::path::Path;
use std::time::Duration;

use gubernum_core::container::{Container, Health, State};
use gubernum_engine::logs::LogQuery;
use gubernum_engine::{Endpoint, Engine};
use gubernum_sim::{SimHost, demo};

async fn engine(host: &SimHost) -> Engine {
    let path = host.address().trim_start_matches("unix://").to_owned();
    Engine::open(&Endpoint::Unix(path.into())).await.unwrap()
}

/// Every container of the demo by `host/name`.
async fn fleet(folder: &Path, seed: u64) -> (Vec<SimHost>, BTreeMap<String, Container>) {
    let hosts = demo::start(folder, seed).unwrap();
    let mut all = BTreeMap::new();
    for host in &hosts {
        for c in engine(host).await.list().await.unwrap() {
            all.insert(format!("{}/{}", host.name(), c.name), c);
        }
    }
    (hosts, all)
}

/// The texts of a container's log, without what it has said since it was made.
async fn past(host: &SimHost, c: &Container) -> Vec<String> {
    let mut reader = engine(host).await.logs(&c.id, c.terminal, &LogQuery::default()).await.unwrap();
    let mut texts = Vec::new();
    while let Some(lines) = reader.next().await.unwrap() {
        texts.extend(lines.iter().map(|l| String::from_utf8_lossy(&l.bytes).into_owned()));
    }
    texts.truncate(100);
    texts
}

#[tokio::test]
async fn the_same_seed_grows_the_same_fleet() {
    let folders = [tempfile::tempdir().unwrap(), tempfile::tempdir().unwrap(), tempfile::tempdir().unwrap()];
    let (hosts, first) = fleet(folders[0].path(), 7).await;
    let (again_hosts, again) = fleet(folders[1].path(), 7).await;
    let (_other_hosts, other) = fleet(folders[2].path(), 8).await;
    assert_eq!(first.len(), 32);
    let shape = |all: &BTreeMap<String, Container>| -> Vec<_> {
        all.iter()
            .map(|(k, c)| (k.clone(), c.id.clone(), c.image.clone(), c.ports.clone(), c.mounts.clone()))
            .collect()
    };
    assert_eq!(shape(&first), shape(&again));
    assert_ne!(shape(&first), shape(&other), "another seed has other ids");
    assert!(first.keys().eq(other.keys()), "and the same names");
    let api = &first["packhouse/frostwatch-api-1"];
    assert_eq!(past(&hosts[0], api).await, past(&again_hosts[0], api).await, "the same past");
}

#[tokio::test]
async fn there_is_trouble_worth_looking_at() {
    let folder = tempfile::tempdir().unwrap();
    let (hosts, all) = fleet(folder.path(), 7).await;
    let memory = &all["packhouse/grading-classifier-1"];
    assert_eq!((memory.state, memory.exit_code, memory.out_of_memory), (State::Exited, Some(137), true));
    let printer = &all["coldstore/label-printer"];
    assert!(printer.error.as_deref().unwrap().contains("address already in use"));
    assert!(all["packhouse/auction-bids-1"].restart_count >= 41);
    assert_eq!(all["office/ledger-archive-1"].state, State::Paused);
    assert!(all["coldstore/coldchain-alarm-1"].terminal);
    let packhouse = engine(&hosts[0]).await;
    let sorter = &all["packhouse/grading-sorter-1"].id;
    let mut health = Health::Starting;
    for _ in 0..200 {
        health = packhouse.inspect(sorter).await.unwrap().container.health;
        if health == Health::Unhealthy {
            break;
        }
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    assert_eq!(health, Health::Unhealthy);
}
