//! Observation: what happens on the hosts appears; a failing host harms nobody else.

use std::collections::HashSet;
use std::time::Duration;

use gubernum_api::requests::{NewToken, TestHost};
use gubernum_api::{Change, Container, FromClient, FromServer, LinkFault, LinkState};
use gubernum_client::Live;
use gubernum_sim::{ContainerSpec, Fault};
use rstest::rstest;

use crate::support::{Bench, until};

/// Enough containers to fill every buffer on the way to a reader.
const CROWD: usize = 2500;
/// How many messages of a hundred a slow reader reads.
const FEW: usize = 15;

async fn next(live: &mut Live) -> FromServer {
    // A large fleet takes a busy machine a while.
    let message = tokio::time::timeout(Duration::from_secs(60), live.next()).await;
    message.expect("a message in time").unwrap().expect("the connection holds")
}

#[tokio::test]
async fn what_somebody_does_at_the_host_appears_by_itself() {
    let bench = Bench::with(&["packhouse"]).await;
    let begun = std::time::Instant::now();
    let host = &bench.hosts[0];
    let id = host.run(ContainerSpec::new("by-hand", "base/toolbox:1"));
    bench.until("it is there", async |b| b.one("packhouse", "by-hand").await.is_some()).await;
    host.end_container(&id, 3, false);
    bench
        .until("it has ended", async |b| b.one("packhouse", "by-hand").await.unwrap().exit_code == Some(3))
        .await;
    host.remove_container(&id);
    bench.until("it is gone", async |b| b.one("packhouse", "by-hand").await.is_none()).await;
    println!("made, ended and removed, each seen, in {:?}", begun.elapsed());
}

#[rstest]
#[case::refusing(Fault::Refusing, LinkFault::Refused)]
#[case::hung(Fault::Hung, LinkFault::TimedOut)]
#[case::nonsense(Fault::Nonsense, LinkFault::NotAnEngine)]
#[case::cut_short(Fault::CutShort, LinkFault::Failed)]
#[case::failing(Fault::Failing, LinkFault::NotAnEngine)]
#[tokio::test]
async fn a_host_in_trouble_turns_stale_and_recovers_alone(#[case] fault: Fault, #[case] code: LinkFault) {
    let bench = Bench::with(&["packhouse", "coldstore"]).await;
    bench.hosts[0].set_fault(fault).unwrap();
    let host =
        async |name: &str| bench.client.hosts().await.unwrap().into_iter().find(|h| h.name == name).unwrap();
    until("stale", Duration::from_secs(60), async || host("packhouse").await.state == LinkState::Stale).await;
    // The first failure may be of another kind than that of the tries after it.
    until("its own fault", Duration::from_secs(60), async || {
        host("packhouse").await.problem.unwrap().code == code
    })
    .await;
    let stale = host("packhouse").await;
    let problem = stale.problem.unwrap();
    assert!(
        stale.last_seen.is_some() && problem.sentence.ends_with('.') && !problem.advice.is_empty(),
        "{problem:?}"
    );
    assert_eq!(bench.all().await.len(), 6, "what was known stays");
    // The other one is as lively as ever.
    bench.hosts[1].run(ContainerSpec::new("meanwhile", "base/toolbox:1"));
    until("meanwhile", Duration::from_secs(10), async || bench.one("coldstore", "meanwhile").await.is_some())
        .await;
    // What happens while it cannot be seen is right once it is back.
    bench.hosts[0].run(ContainerSpec::new("unseen", "base/toolbox:1"));
    bench.hosts[0].set_fault(Fault::None).unwrap();
    until("live again", Duration::from_secs(30), async || host("packhouse").await.state == LinkState::Live)
        .await;
    assert!(bench.one("packhouse", "unseen").await.is_some());
    assert!(host("packhouse").await.problem.is_none());
}

#[tokio::test]
async fn a_missing_socket_and_a_restarted_engine_are_reported() {
    let bench = Bench::with(&["packhouse"]).await;
    bench.hosts[0].remove_socket().unwrap();
    let code = async || bench.client.hosts().await.unwrap()[0].problem.as_ref().map(|p| p.code);
    until("missing", Duration::from_secs(30), async || code().await == Some(LinkFault::SocketMissing)).await;
    let wish = TestHost { name: Some("packhouse".into()), ..TestHost::default() };
    let test = bench.client.test_host(&wish);
    assert_eq!(test.await.unwrap().problem.unwrap().code, LinkFault::SocketMissing);
    bench.hosts[0].set_fault(Fault::None).unwrap();
    until("live", Duration::from_secs(30), async || code().await.is_none()).await;
    bench.hosts[0].restart_engine(Duration::from_millis(300)).await.unwrap();
    until("live again", Duration::from_secs(30), async || {
        bench.client.hosts().await.unwrap()[0].state == LinkState::Live && bench.all().await.len() == 3
    })
    .await;
}

#[tokio::test]
async fn a_slow_engine_is_waited_for() {
    let bench = Bench::with(&["packhouse"]).await;
    bench.hosts[0].set_fault(Fault::Slow(Duration::from_millis(700))).unwrap();
    bench.hosts[0].run(ContainerSpec::new("late", "base/toolbox:1"));
    until("late", Duration::from_secs(10), async || bench.one("packhouse", "late").await.is_some()).await;
    assert_eq!(bench.client.hosts().await.unwrap()[0].state, LinkState::Live);
}

#[tokio::test]
async fn hosts_come_and_go_at_run_time() {
    let bench = Bench::with(&["packhouse", "coldstore"]).await;
    bench.client.remove_host("coldstore").await.unwrap();
    assert_eq!(bench.all().await.len(), 3);
    assert_eq!(bench.client.hosts().await.unwrap().len(), 1);
    let wish = gubernum_api::requests::NewHost {
        name: "annex".into(),
        address: bench.hosts[1].address(),
        tls: None,
        ports_address: None,
        groups: Vec::new(),
    };
    bench.client.add_host(&wish).await.unwrap();
    bench
        .until("listed under its new name", async |b| {
            b.all().await.iter().filter(|c| c.host == "annex").count() == 3
        })
        .await;
}

#[tokio::test]
async fn a_listing_that_is_known_is_not_sent_again() {
    let bench = Bench::with(&["packhouse", "coldstore"]).await;
    let http = reqwest::Client::new();
    let wish = NewToken { name: "listing".into(), expires_in_days: None, bounds: None, networks: Vec::new() };
    let token = bench.client.make_token(&wish).await.unwrap().secret;
    for query in ["", "?host=packhouse", "?reference=*/frost-*"] {
        let ask = async |tag: Option<&str>| {
            let url = format!("{}/api/v1/containers{query}", bench.client.url());
            let request = http.get(url).bearer_auth(&token);
            let request = tag.iter().fold(request, |r, tag| r.header("if-none-match", *tag));
            let answer = request.send().await.unwrap();
            let tag = answer.headers()["etag"].to_str().unwrap().to_owned();
            assert_eq!(answer.headers()["cache-control"], "private, no-cache");
            (answer.status().as_u16(), tag, answer.bytes().await.unwrap())
        };
        let (status, tag, body) = ask(None).await;
        assert!(status == 200 && body.starts_with(b"["), "{query}: {status}");
        // Nothing has moved between the two, or it is told.
        let again = ask(Some(&tag)).await;
        assert!(again == (304, tag.clone(), "".into()) || again.1 != tag, "{query}: {again:?}");
        bench.hosts[0].run(ContainerSpec::new(&format!("new{}", query.len()), "base/toolbox:1"));
        bench.until("it is sent again", async |_| ask(Some(&tag)).await.0 == 200).await;
    }
    let refused = http.get(format!("{}/api/v1/containers", bench.client.url())).send().await.unwrap();
    assert!(refused.status() == 401 && refused.headers().get("etag").is_none());
}

#[tokio::test]
async fn the_live_connection_tells_changes_and_resumes() {
    let bench = Bench::with(&["packhouse"]).await;
    let mut live = bench.client.live().await.unwrap();
    live.send(&FromClient::Fleet { id: 1, since: None }).await.unwrap();
    let FromServer::Snapshot { id: 1, part: 0, more: false, fleet } = next(&mut live).await else {
        panic!("a snapshot comes first")
    };
    assert_eq!(fleet.containers.len(), 3);
    bench.hosts[0].run(ContainerSpec::new("new", "base/toolbox:1"));
    let delta = deltas_until(&mut live, 1, fleet.revision, "new").await;
    drop(live);
    // While away:
    bench.hosts[0].run(ContainerSpec::new("missed", "base/toolbox:1"));
    bench.until("missed is known", async |b| b.one("packhouse", "missed").await.is_some()).await;
    let mut live = bench.client.live().await.unwrap();
    live.send(&FromClient::Fleet { id: 7, since: Some((fleet.epoch.clone(), delta)) }).await.unwrap();
    deltas_until(&mut live, 7, delta, "missed").await;
    // From another run of the service, only a snapshot helps.
    live.send(&FromClient::Fleet { id: 8, since: Some(("elsewhere".into(), 1)) }).await.unwrap();
    // Deltas of the subscription before it may still be on their way.
    let answer = loop {
        match next(&mut live).await {
            FromServer::Delta { id: 7, .. } => {}
            other => break other,
        }
    };
    assert!(matches!(answer, FromServer::Snapshot { id: 8, .. }), "{answer:?}");
}

fn ids(containers: Vec<Container>) -> HashSet<String> {
    containers.into_iter().map(|c| c.id).collect()
}

/// Reads deltas, each of which follows the one before, until a container is reported; returns the last revision. What the host itself
/// tells (its disk, what it holds) may come in between or together with it.
async fn deltas_until(live: &mut Live, subscription: u32, mut revision: u64, name: &str) -> u64 {
    loop {
        let message = next(live).await;
        let FromServer::Delta { id, delta } = message else { panic!("it goes on where it was: {message:?}") };
        revision += 1;
        assert_eq!((id, delta.revision), (subscription, revision));
        let is_it = |c: &Change| matches!(c, Change::ContainerPut { container } if container.name == name);
        if delta.changes.iter().any(is_it) {
            return revision;
        }
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_reader_that_falls_behind_gets_a_fresh_snapshot() {
    let bench = Bench::with(&["packhouse"]).await;
    let mut live = bench.client.live().await.unwrap();
    live.send(&FromClient::Fleet { id: 1, since: None }).await.unwrap();
    let FromServer::Snapshot { fleet, .. } = next(&mut live).await else { panic!("a snapshot comes first") };
    // It hardly reads while a thousand large changes come, each told by itself: far more than fit into the sockets. (One that
    // reads nothing at all for half a minute is cut off.)
    let (mut known, mut snapshots) = (ids(fleet.containers), 0);
    let mut take = |message: FromServer, known: &mut HashSet<String>| match message {
        FromServer::Snapshot { part, fleet, .. } => {
            if part == 0 {
                known.clear();
                snapshots += 1;
            }
            known.extend(ids(fleet.containers));
        }
        FromServer::Delta { delta, .. } => {
            known.extend(delta.changes.into_iter().filter_map(|c| match c {
                Change::ContainerPut { container } => Some(container.id),
                _ => None,
            }));
        }
        other => panic!("{other:?}"),
    };
    let note = "n".repeat(20_000);
    for n in 0..CROWD {
        let mut spec = ContainerSpec::new(&format!("crowd-{n}"), "base/toolbox:1");
        spec.labels.insert("note".into(), note.clone());
        bench.hosts[0].run(spec);
        if n % 100 == 99 {
            let last = format!("packhouse/crowd-{n}");
            until("all until now are known", Duration::from_secs(60), async || {
                bench.client.containers(&[("reference", last.clone())]).await.unwrap().len() == 1
            })
            .await;
            // A window of the connection opens only once a good part of it was read.
            for _ in 0..FEW {
                take(next(&mut live).await, &mut known);
            }
        }
    }
    while known.len() < CROWD + 3 {
        take(next(&mut live).await, &mut known);
    }
    assert!(snapshots >= 1, "it was told to start afresh");
}

#[tokio::test]
async fn odd_messages_are_refused_and_the_connection_holds() {
    let bench = Bench::with(&["packhouse"]).await;
    let mut live = bench.client.live().await.unwrap();
    live.send_text("{\"type\":\"dance\"}".into()).await.unwrap();
    let FromServer::Refused { problem, .. } = next(&mut live).await else { panic!("refused") };
    assert_eq!(problem.status, 400);
    let wish =
        gubernum_api::logs::LogRequest { references: vec!["packhouse/nobody".into()], ..Default::default() };
    live.send(&FromClient::Logs { id: 5, wish }).await.unwrap();
    let FromServer::Refused { id, problem } = next(&mut live).await else { panic!("refused") };
    assert_eq!((id, problem.status, problem.field.as_deref()), (Some(5), 404, Some("/wish/references")));
    live.send(&FromClient::Fleet { id: 1, since: None }).await.unwrap();
    assert!(matches!(next(&mut live).await, FromServer::Snapshot { .. }));
}
