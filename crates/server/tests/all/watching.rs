//! What a fleet holds, what it uses and what has happened, through the service.

use std::time::Duration;

use gubernum_api::requests::{Request, RestartRequest, SetHost};
use gubernum_api::timeline::EventKind;
use gubernum_api::usage::UsageSubscription;
use gubernum_api::{Figure, FromClient, FromServer};
use gubernum_sim::ContainerSpec;

use crate::support::Bench;

fn pairs<const N: usize>(all: [(&'static str, &str); N]) -> Vec<(&'static str, String)> {
    all.into_iter().map(|(k, v)| (k, v.to_owned())).collect()
}

#[tokio::test]
async fn images_volumes_and_networks_come_with_their_users() {
    let bench = Bench::with(&["coldstore", "packhouse"]).await;
    let client = &bench.client;
    // One host alone has all three; both must have told theirs.
    let of_both = async |b: &Bench| {
        let all = b.client.images(&[]).await.unwrap();
        all.len() == 3 && all.iter().any(|i| i.copies.len() == 2)
    };
    bench.until("the images of both hosts are known", of_both).await;
    let all = client.images(&[]).await.unwrap();
    let api = all.iter().find(|i| i.tags[0].ends_with("api:1")).unwrap();
    assert_eq!(api.copies.len(), 2, "one row for both hosts");
    assert_eq!(api.copies[1].used_by, ["packhouse/api"]);
    // A leftover appears with since when, survives a restart of the service, and goes.
    bench.hosts[1].add_image(Some("registry.tarnvalley.example/old:1"), 5_000_000, 3, "arm64");
    bench.hosts[1].add_volume("lonely", 1000, 3);
    bench
        .until("the leftover is seen", async |b| {
            b.client.images(&pairs([("unused", "true")])).await.unwrap().len() == 1
                && b.client.volumes(&pairs([("unused", "true")])).await.unwrap().len() == 1
        })
        .await;
    let since = client.images(&pairs([("unused", "true")])).await.unwrap()[0].copies[0].unused_since.unwrap();
    let detail = client.image("old:1").await.unwrap();
    assert!(!detail.steps.is_empty() && detail.image.architecture.as_deref() == Some("arm64"), "{detail:?}");
    bench.hosts[1].remove_image("registry.tarnvalley.example/old:1");
    bench
        .until("it is gone", async |b| {
            b.client.images(&pairs([("unused", "true")])).await.unwrap().is_empty()
        })
        .await;
    assert!(since <= jiff::Timestamp::now());
    // A container that takes a volume into use.
    let mut spec = ContainerSpec::new("keeper", "registry.tarnvalley.example/api:1");
    spec.volumes.push(gubernum_sim::VolumeSpec {
        source: "lonely".into(),
        target: "/d".into(),
        read_only: true,
    });
    bench.hosts[1].run(spec);
    bench
        .until("it has a user", async |b| {
            let all = b.client.volumes(&[]).await.unwrap();
            let found = all.iter().find(|v| v.volume.name == "lonely").unwrap();
            found.unused_since.is_none()
                && found.used_by.iter().any(|u| u.container == "packhouse/keeper" && u.read_only)
        })
        .await;
    let networks = client.networks(&pairs([("host", "packhouse")])).await.unwrap();
    let bridge = networks.iter().find(|n| n.network.name == "bridge").unwrap();
    assert!(
        bridge.members.iter().any(|m| m.container == "packhouse/api" && m.address.is_some()),
        "{bridge:?}"
    );
}

#[tokio::test]
async fn unused_since_outlives_the_service() {
    let mut bench = Bench::with(&["packhouse"]).await;
    bench.hosts[0].add_volume("lonely", 1000, 3);
    let since = async |b: &Bench| {
        let all = b.client.volumes(&[]).await.unwrap();
        all.into_iter().find(|v| v.volume.name == "lonely").and_then(|v| v.unused_since)
    };
    bench.until("it is seen", async |b| since(b).await.is_some()).await;
    let before = since(&bench).await;
    // Long enough that a new beginning would show.
    tokio::time::sleep(Duration::from_millis(50)).await;
    bench.restart().await;
    bench.until("it is seen again", async |b| since(b).await.is_some()).await;
    assert_eq!(since(&bench).await, before);
}

#[tokio::test]
async fn a_ports_address_makes_links_of_ports() {
    let bench = Bench::with(&["packhouse"]).await;
    let mut spec = ContainerSpec::new("web", "registry.tarnvalley.example/web:1");
    spec.ports.push(gubernum_sim::PortSpec { host: Some(7311), container: 80, protocol: "tcp".into() });
    bench.hosts[0].run(spec);
    let ports = async |b: &Bench| b.client.ports(&pairs([("port", "7311")])).await.unwrap();
    bench.until("the port is known", async |b| ports(b).await.len() == 1).await;
    assert_eq!(ports(&bench).await[0].url, None);
    let wish = SetHost { ports_address: Some("packhouse.example".into()), groups: None };
    bench.client.set_host("packhouse", &wish).await.unwrap();
    assert_eq!(ports(&bench).await[0].url.as_deref(), Some("http://packhouse.example:7311/"));
    for bad in ["http://x", "a b", "<b>"] {
        let wish = SetHost { ports_address: Some(bad.into()), groups: None };
        assert!(bench.client.set_host("packhouse", &wish).await.is_err(), "{bad}");
    }
}

#[tokio::test]
async fn the_machine_and_its_troubles_are_reported() {
    let bench = Bench::with(&["packhouse"]).await;
    bench.hosts[0].set_clock_ahead(90);
    bench.hosts[0].set_fault(gubernum_sim::Fault::Refusing).unwrap();
    let host = async |b: &Bench| b.client.hosts().await.unwrap().remove(0);
    bench.until("it is lost", async |b| host(b).await.problem.is_some()).await;
    bench.hosts[0].set_fault(gubernum_sim::Fault::None).unwrap();
    bench
        .until("its clock is judged", async |b| {
            host(b).await.attention.is_some_and(|r| r.code == "clock-off")
        })
        .await;
    let host = host(&bench).await;
    assert!(host.machine.clock_ahead_ms.unwrap().abs_diff(90_000) < 1000, "{host:?}");
    assert_eq!(host.past_problems.len(), 1, "{host:?}");
    assert_eq!(host.machine.processors, Some(4));
}

#[tokio::test]
async fn usage_is_sampled_each_second_for_viewers_and_is_kept() {
    let bench = Bench::with(&["packhouse"]).await;
    let mut live = bench.client.live().await.unwrap();
    let wish = UsageSubscription { references: vec!["packhouse/api".into()] };
    live.send(&FromClient::Use { id: 4, wish }).await.unwrap();
    let mut rates = Vec::new();
    let begun = std::time::Instant::now();
    while rates.len() < 3 {
        let message = tokio::time::timeout(Duration::from_secs(10), live.next()).await.expect("it comes");
        let Some(FromServer::Used { id: 4, samples }) = message.unwrap() else { continue };
        for sample in samples {
            assert_eq!(sample.name, "api", "only what is looked at");
            rates.extend(sample.figures.processors);
        }
    }
    assert!(begun.elapsed() < Duration::from_secs(9), "every second: {:?}", begun.elapsed());
    let truth =
        bench.hosts[0].load_of("api").figures(jiff::Timestamp::now().as_second() as f64, None)[0].unwrap();
    let told = rates[2];
    assert!((told - truth).abs() < truth * 0.5, "{told} instead of about {truth}");
    let wrong = UsageSubscription { references: Vec::new() };
    live.send(&FromClient::Use { id: 5, wish: wrong }).await.unwrap();
    loop {
        match live.next().await.unwrap() {
            Some(FromServer::Refused { id: Some(5), .. }) => break,
            Some(_) => {}
            None => panic!("the connection stays"),
        }
    }
    // And the regular rounds go into history, which is there at once.
    bench
        .until("there is history", async |b| {
            let asked = pairs([("reference", "packhouse/api"), ("since", "10m"), ("figure", "memory")]);
            let history = b.client.history(&asked).await;
            history.is_ok_and(|h| h.series[0].figures[0].mean.iter().flatten().count() > 0)
        })
        .await;
    let all = bench.client.use_now(&[]).await.unwrap();
    assert_eq!(all.len(), 3);
}

#[tokio::test]
async fn history_is_answered_in_steps_and_as_csv() {
    let bench = Bench::with(&["packhouse"]).await;
    bench
        .until("sampled", async |b| {
            let asked = pairs([("host", "packhouse"), ("since", "5m"), ("figure", "processes")]);
            b.client.history(&asked).await.unwrap().series[0].figures[0].mean.iter().flatten().count() > 0
        })
        .await;
    let asked = pairs([("host", "packhouse"), ("since", "30d"), ("points", "100"), ("figure", "processes")]);
    let history = bench.client.history(&asked).await.unwrap();
    assert_eq!((history.step, history.series[0].figures[0].figure), (43_200, Figure::Processes));
    assert!(history.times.len() <= 100, "no more than can be shown: {}", history.times.len());
    let path = "/api/v1/history?reference=packhouse/*&since=1h&figure=memory&format=csv";
    let (status, text) = bench.client.raw(reqwest::Method::GET, path, None).await.unwrap();
    let text = String::from_utf8(text).unwrap();
    assert!(status.is_success() && text.starts_with("time,name,figure,min,mean,max\n"), "{text}");
    assert!(text.lines().skip(1).all(|l| l.split(',').count() == 6 && l.contains(",memory,")), "{text}");
    for (field, value, word) in [
        ("figure", "weather", "unknown figure"),
        ("points", "0", "'points' must be"),
        ("since", "yesterday", "is not a time"),
        ("since", "2999-01-01", "in the future"),
    ] {
        let asked = vec![("host", "packhouse".to_owned()), (field, value.to_owned())];
        let error = bench.client.history(&asked).await.unwrap_err().to_string();
        assert!(error.contains(word), "{error}");
    }
    let nobody =
        bench.client.history(&pairs([("reference", "packhouse/nobody")])).await.unwrap_err().to_string();
    assert!(nobody.contains("nothing in the fleet or its history"), "{nobody}");
}

#[tokio::test]
async fn history_outlives_the_container_and_the_service() {
    let bench = Bench::with(&["packhouse"]).await;
    let asked = pairs([("reference", "packhouse/worker"), ("since", "10m"), ("figure", "memory")]);
    let known = async |b: &Bench| {
        b.client.history(&asked).await.map_or(0, |h| h.series[0].figures[0].mean.iter().flatten().count())
    };
    bench.until("sampled", async |b| known(b).await > 0).await;
    let id = bench.one("packhouse", "worker").await.unwrap().id;
    bench.hosts[0].remove_container(&id);
    bench.until("removed", async |b| b.one("packhouse", "worker").await.is_none()).await;
    let before = known(&bench).await;
    let bench = bench.end_and_start().await;
    assert!(known(&bench).await >= before && before > 0);
}

#[tokio::test]
async fn the_timeline_tells_engines_operations_members_and_hosts() {
    let bench = Bench::with(&["packhouse"]).await;
    let wish = gubernum_api::requests::NewOperation::new(
        Request::Restart(RestartRequest { grace_seconds: Some(1), ..RestartRequest::default() }),
        vec!["packhouse/api".into()],
    );
    bench.client.submit(&wish, None).await.unwrap();
    let of = async |b: &Bench, fields: Vec<(&'static str, String)>| b.client.timeline(&fields).await.unwrap();
    bench
        .until("the restart is told", async |b| {
            let all = of(b, pairs([("object", "packhouse/api")])).await;
            all.iter().any(|e| e.kind == EventKind::Operation && e.action == "restart" && e.folded >= 2)
        })
        .await;
    // What the engine told of it is folded under the operation, and listed when that is asked for.
    let told = of(&bench, pairs([("object", "packhouse/api")])).await;
    assert!(!told.iter().any(|e| e.kind == EventKind::Engine && e.action == "exited"), "{told:?}");
    let folded = of(&bench, pairs([("operation", "1")])).await;
    let end =
        folded.iter().find(|e| e.kind == EventKind::Engine && e.action == "exited").expect("it is listed");
    assert!(!end.bad, "somebody asked for that end: {end:?}");
    let mine = of(&bench, pairs([("object", "packhouse/api")])).await;
    assert!(mine.iter().all(|e| e.name == "api" && e.host == "packhouse"), "only what concerns it");
    let restart = mine.iter().find(|e| e.action == "restart").unwrap();
    assert_eq!((restart.member.as_deref(), restart.operation, restart.bad), (Some("mara"), Some(1), false));
    let access = of(&bench, pairs([("kind", "access")])).await;
    assert!(access.iter().any(|e| e.member.as_deref() == Some("mara")), "{access:?}");
    let hosts = of(&bench, pairs([("kind", "host"), ("host", "packhouse")])).await;
    assert!(
        hosts.iter().any(|e| e.action == "connected") && hosts.iter().any(|e| e.action == "add-host"),
        "{hosts:?}"
    );
    // Pages follow one another without a gap or a repeat.
    let all = of(&bench, pairs([("limit", "1000")])).await;
    let mut paged = of(&bench, pairs([("limit", "3")])).await;
    while let Some(last) = paged.last().cloned() {
        let before = format!("{},{}", last.time, last.id);
        let next = of(&bench, vec![("limit", "3".to_owned()), ("before", before)]).await;
        if next.is_empty() {
            break;
        }
        paged.extend(next);
    }
    let tail = &paged[paged.len() - all.len()..];
    assert_eq!(tail.iter().map(|e| e.id).collect::<Vec<_>>(), all.iter().map(|e| e.id).collect::<Vec<_>>());
}
