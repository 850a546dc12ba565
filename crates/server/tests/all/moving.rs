//! Moves and copies between simulated hosts: the data goes along, the original serves as before whatever fails, and a stack is one
//! of its new host.

use std::time::Duration;

use gubernum_api::requests::{ApplyRequest, MoveKind, MoveRequest, NewOperation, Request};
use gubernum_api::{ObjectKind, Operation, OperationState, State, Step, TargetState};
use gubernum_sim::Fault;

use crate::replacing::carried;
use crate::support::Bench;

const FROST: &str = "\
name: frostwatch
services:
  store:
    image: registry.tarnvalley.example/store:1
    command: sleep 100000
    pull_policy: never
    volumes: [readings:/data]
  api:
    image: registry.tarnvalley.example/api:1
    command: sleep 100000
    pull_policy: never
    depends_on: [store]
    ports: ['7311:80']
    configs: [frost]
volumes: {readings: {}}
configs: {frost: {content: 'level: 2'}}
";
const DATA: &str = "/var/lib/engine/volumes/frostwatch_readings/_data";

async fn bench() -> Bench {
    let bench = Bench::with(&["packhouse", "coldstore"]).await;
    let request = ApplyRequest {
        stack: "frostwatch".into(),
        files: [("stack.yaml".to_owned(), FROST.to_owned())].into(),
        main: vec!["stack.yaml".into()],
        watch_seconds: Some(1),
        ..ApplyRequest::default()
    };
    let apply = NewOperation::new(Request::Apply(request), vec!["packhouse".into()]);
    let operation = carried(&bench, &apply).await;
    assert_eq!(operation.state, OperationState::Succeeded, "{operation:#?}");
    bench.hosts[0].put_file(&format!("{DATA}/deep/notes"), b"minus four");
    bench.until("both are seen", async |b| on(b, "packhouse").await.len() == 2).await;
    bench
}

/// The stack's containers on a host that run.
async fn on(bench: &Bench, host: &str) -> Vec<String> {
    let all = bench.all().await;
    let of = all.into_iter().filter(|c| c.host == host && c.stack.is_some() && c.state == State::Running);
    of.map(|c| c.name).collect()
}

fn wish(change: impl FnOnce(&mut MoveRequest)) -> MoveRequest {
    let mut wish = MoveRequest {
        what: MoveKind::Stack,
        to: "coldstore".to_owned(),
        watch_seconds: Some(1),
        ..MoveRequest::default()
    };
    change(&mut wish);
    wish
}

fn moved(wish: MoveRequest) -> NewOperation {
    NewOperation::new(Request::Move(wish), vec!["packhouse/frostwatch".into()])
}

fn cloned(wish: MoveRequest) -> NewOperation {
    NewOperation::new(Request::Clone(wish), vec!["packhouse/frostwatch".into()])
}

fn said(operation: &Operation) -> String {
    operation.targets.iter().filter_map(|t| t.sentence.clone()).collect::<Vec<_>>().join("; ")
}

#[tokio::test]
async fn a_stack_goes_with_its_data_and_is_one_of_its_new_host() {
    let bench = bench().await;
    bench.hosts[1].remove_image("registry.tarnvalley.example/store:1");
    let asked = moved(wish(|w| w.first_pass = true));
    let preview = bench.client.preview(&asked).await.unwrap();
    assert!(preview.targets.iter().all(|t| t.refused.is_none()), "{preview:#?}");
    assert!(preview.targets.iter().any(|t| t.steps.iter().any(|s| matches!(s, Step::CopyImage { .. }))));
    let operation = carried(&bench, &NewOperation { digest: Some(preview.digest), ..asked }).await;
    assert_eq!(operation.state, OperationState::Succeeded, "{operation:#?}");
    let copied = said(&operation);
    assert!(copied.contains("10 B in 2 files, verified, checksum "), "{copied}");
    bench.until("it runs there", async |b| on(b, "coldstore").await.len() == 2).await;
    bench.until("it is gone here", async |b| on(b, "packhouse").await.is_empty()).await;
    assert_eq!(bench.hosts[1].file(&format!("{DATA}/deep/notes")).as_deref(), Some(&b"minus four"[..]));
    assert!(
        bench.hosts[0].file(&format!("{DATA}/deep/notes")).is_some(),
        "the data here stays until it is removed"
    );
    let kept = bench.client.stack_revisions("coldstore", "frostwatch").await.unwrap();
    assert_eq!(kept[0].comment.as_deref(), Some("moved from packhouse/frostwatch"));
    let drift = bench.client.stack_drift("coldstore", "frostwatch").await.unwrap();
    assert!(drift.targets.is_empty(), "{drift:#?}");
    // Nobody misses it where it was.
    assert!(bench.client.drifts().await.unwrap().is_empty());
    // What is in the text is not told to everybody.
    let text = serde_json::to_string(&operation).unwrap();
    assert!(!text.contains("level: 2"), "{text}");
}

#[tokio::test]
async fn what_is_kept_is_stopped_and_what_goes_takes_its_volumes_along() {
    let bench = bench().await;
    let operation = carried(&bench, &moved(wish(|w| w.keep = true))).await;
    assert_eq!(operation.state, OperationState::Succeeded, "{operation:#?}");
    bench.until("it is stopped here", async |b| on(b, "packhouse").await.is_empty()).await;
    assert_eq!(bench.all().await.iter().filter(|c| c.host == "packhouse" && c.stack.is_some()).count(), 2);
    // And back, by what the engines have.
    let back = NewOperation::new(
        Request::Move(wish(|w| {
            w.to = "packhouse".into();
            w.remove_volumes = true;
        })),
        vec!["coldstore/frostwatch".into()],
    );
    let refused = bench.client.preview(&back).await.unwrap();
    let words: Vec<&str> = refused.targets.iter().filter_map(|t| t.refused.as_deref()).collect();
    assert!(words.iter().any(|w| w.contains("already")), "what stayed is in the way: {words:?}");
    assert!(refused.targets.iter().all(|t| t.steps.is_empty()));
}

#[tokio::test]
async fn a_copy_has_another_name_other_ports_and_its_own_data() {
    let bench = bench().await;
    let asked = cloned(wish(|w| {
        w.to = "packhouse".into();
        w.name = Some("frosttrial".into());
        w.ports = [(7311, 17311)].into();
    }));
    let operation = carried(&bench, &asked).await;
    assert_eq!(operation.state, OperationState::Succeeded, "{operation:#?}");
    bench.until("both run", async |b| on(b, "packhouse").await.len() == 4).await;
    let copy = "/var/lib/engine/volumes/frosttrial_readings/_data/deep/notes";
    assert_eq!(bench.hosts[0].file(copy).as_deref(), Some(&b"minus four"[..]));
    let api = bench.client.definition("packhouse/frosttrial-api-1").await.unwrap();
    assert_eq!(api.definition.ports[0].host_port, Some(17311));
    let paused = operation.targets.iter().filter(|t| t.steps == [Step::Pause]).count();
    assert_eq!(paused, 1, "only what writes into the data holds still: {operation:#?}");
    let drift = bench.client.stack_drift("packhouse", "frosttrial").await.unwrap();
    assert!(drift.targets.is_empty(), "{drift:#?}");
}

#[tokio::test]
async fn one_container_and_one_volume_go_too() {
    let bench = bench().await;
    let alone = serde_json::json!({"image": "registry.tarnvalley.example/store:1", "name": "talk", "pull": "never",
        "command": ["sleep", "100000"], "mounts": [{"kind": "volume", "source": "talk", "target": "/talk"}]});
    let deploy =
        serde_json::from_value(serde_json::json!({"definition": alone, "watch_seconds": 1})).unwrap();
    let deploy = NewOperation::new(Request::Deploy(deploy), vec!["packhouse/talk".into()]);
    assert_eq!(carried(&bench, &deploy).await.state, OperationState::Succeeded);
    bench.hosts[0].put_file("/var/lib/engine/volumes/talk/_data/words", b"good evening");
    bench.until("it is seen", async |b| b.one("packhouse", "talk").await.is_some()).await;
    let one = wish(|w| w.what = MoveKind::Container);
    let asked = NewOperation::new(Request::Move(one), vec!["packhouse/talk".into()]);
    let operation = carried(&bench, &asked).await;
    assert_eq!(operation.state, OperationState::Succeeded, "{operation:#?}");
    let words = "/var/lib/engine/volumes/talk/_data/words";
    assert_eq!(bench.hosts[1].file(words).as_deref(), Some(&b"good evening"[..]));
    bench
        .until("it is there alone", async |b| {
            b.one("coldstore", "talk").await.is_some_and(|c| c.state == State::Running)
                && b.one("packhouse", "talk").await.is_none()
        })
        .await;
    let volume = wish(|w| {
        w.what = MoveKind::Volume;
        w.name = Some("talk-again".into());
    });
    let asked = NewOperation::new(Request::Move(volume), vec!["packhouse/talk".into()]);
    let operation = carried(&bench, &asked).await;
    assert_eq!(operation.state, OperationState::Succeeded, "{operation:#?}");
    assert!(bench.hosts[1].file("/var/lib/engine/volumes/talk-again/_data/words").is_some());
    assert!(bench.hosts[0].file(words).is_none(), "a moved volume is not here any more");
}

/// The original runs as before and the other host has nothing of it.
async fn as_before(bench: &Bench) {
    bench.until("the original runs", async |b| on(b, "packhouse").await.len() == 2).await;
    bench
        .until("nothing is there", async |b| {
            b.all().await.iter().all(|c| c.host != "coldstore" || c.stack.is_none())
        })
        .await;
    let no_volume = async |b: &Bench| {
        let volumes = b.client.volumes(&[]).await.unwrap();
        volumes.iter().all(|v| v.host != "coldstore" || !v.volume.name.starts_with("frost"))
    };
    bench.until("no volume is there", no_volume).await;
    let kept = bench.client.stack_revisions("coldstore", "frostwatch").await.unwrap();
    assert!(kept.is_empty(), "{kept:#?}");
}

#[tokio::test]
async fn a_full_disk_leaves_the_original_as_it_was() {
    let bench = bench().await;
    // More than a simulated disk takes together with what comes.
    bench.hosts[0].put_file(&format!("{DATA}/large"), &vec![1; 20 << 20]);
    bench.hosts[1].put_file("/srv/large", &vec![1; 240 << 20]);
    let operation = carried(&bench, &moved(wish(|_| ()))).await;
    assert_eq!(operation.state, OperationState::Failed, "{operation:#?}");
    assert!(
        said(&operation).contains("coldstore refused the data") && said(&operation).contains("no space left"),
        "{}",
        said(&operation)
    );
    as_before(&bench).await;
}

#[tokio::test]
async fn a_cancelled_move_leaves_the_original_as_it_was() {
    let bench = bench().await;
    bench.hosts[1].set_fault(Fault::Slow(Duration::from_millis(300))).unwrap();
    let begun = bench.client.submit(&moved(wish(|_| ())), None).await.unwrap();
    let stopped = async |b: &Bench| {
        let now = b.client.operation(begun.id).await.unwrap();
        now.targets.iter().any(|t| {
            t.host == "packhouse" && t.object == ObjectKind::Container && t.state == TargetState::Running
        })
    };
    bench.until("the original stops", stopped).await;
    bench.client.cancel(begun.id).await.unwrap();
    bench
        .until("it is over", async |b| {
            b.client.operation(begun.id).await.unwrap().state != OperationState::Running
        })
        .await;
    let over = bench.client.operation(begun.id).await.unwrap();
    assert_eq!(over.state, OperationState::Cancelled, "{over:#?}");
    bench.hosts[1].set_fault(Fault::None).unwrap();
    as_before(&bench).await;
}

#[tokio::test]
async fn after_the_end_of_the_service_in_the_middle_the_original_runs() {
    let bench = bench().await;
    bench.hosts[1].set_fault(Fault::Slow(Duration::from_millis(200))).unwrap();
    let begun = bench.client.submit(&moved(wish(|w| w.first_pass = true)), None).await.unwrap();
    let copying = async |b: &Bench| {
        let now = b.client.operation(begun.id).await.unwrap();
        now.targets.iter().any(|t| {
            t.steps.iter().any(|s| matches!(s, Step::CopyVolume { .. }))
                && t.steps.len() == 1
                && t.state == TargetState::Running
        })
    };
    bench.until("the second pass runs", copying).await;
    bench.hosts[1].set_fault(Fault::Hung).unwrap();
    let bench = bench.end_and_start().await;
    bench.hosts[1].set_fault(Fault::None).unwrap();
    bench
        .until("it is settled", async |b| {
            b.client.operation(begun.id).await.unwrap().state != OperationState::Running
        })
        .await;
    as_before(&bench).await;
}

#[tokio::test]
async fn what_is_invalid_is_refused_at_its_place() {
    let bench = bench().await;
    let refused = async |asked: NewOperation| bench.client.preview(&asked).await.unwrap_err().to_string();
    let there = refused(moved(wish(|w| w.to = "packhouse".into()))).await;
    assert!(there.contains("it is on packhouse already"), "{there}");
    let nowhere = refused(moved(wish(|w| w.to = "orchard".into()))).await;
    assert!(nowhere.contains("no host 'orchard'"), "{nowhere}");
    let ports = refused(cloned(wish(|w| w.ports = [(81, 82)].into()))).await;
    assert!(ports.contains("port 81 is not published"), "{ports}");
    let part = wish(|w| w.what = MoveKind::Container);
    let part =
        refused(NewOperation::new(Request::Move(part), vec!["packhouse/frostwatch-api-1".into()])).await;
    assert!(part.contains("it belongs to the stack 'frostwatch'"), "{part}");
    let unknown = NewOperation::new(Request::Move(wish(|_| ())), vec!["packhouse/orchard".into()]);
    assert!(refused(unknown).await.contains("adopt it first"));
    let several =
        NewOperation::new(Request::Move(wish(|_| ())), vec!["packhouse/a".into(), "packhouse/b".into()]);
    assert!(refused(several).await.contains("only one object can be moved or cloned at a time"));
    bench.hosts[1].add_volume("frostwatch_readings", 3, 0);
    let full = bench.client.preview(&moved(wish(|_| ()))).await.unwrap();
    assert!(full.targets.iter().all(|t| t.steps.is_empty()), "{full:#?}");
    assert!(full.targets.iter().any(|t| t.refused.as_deref().is_some_and(|w| w.contains("would be mixed"))));
}
