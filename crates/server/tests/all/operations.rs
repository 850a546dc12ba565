//! Changes: outcomes, refusals, locks, cancelling, retries, and the truth after a crash.

use std::time::Duration;

use gubernum_api::requests::{
    KillRequest, NewOperation, RemoveRequest, Request, RestartRequest, StartRequest, StopRequest,
    UpdateRequest,
};
use gubernum_api::{Operation, OperationState, State, TargetState};
use gubernum_client::ClientError;
use gubernum_core::journal::Target;
use gubernum_core::plan::{ObjectKind, Step};
use gubernum_sim::{ContainerSpec, Fault};
use gubernum_store::{Seal, Store};
use jiff::{SignedDuration, Timestamp};

use crate::support::{Bench, slow};

fn wish(request: Request, targets: &[&str]) -> NewOperation {
    NewOperation::new(request, targets.iter().map(|t| (*t).to_owned()).collect())
}

async fn over(bench: &Bench, operation: Operation) -> Operation {
    bench
        .until("the operation is over", async |b| {
            b.client.operation(operation.id).await.unwrap().state != OperationState::Running
        })
        .await;
    bench.client.operation(operation.id).await.unwrap()
}

async fn done(bench: &Bench, wish: &NewOperation) -> Operation {
    let operation = bench.client.submit(wish, None).await.unwrap();
    over(bench, operation).await
}

fn states(operation: &Operation) -> Vec<TargetState> {
    operation.targets.iter().map(|t| t.state).collect()
}

#[tokio::test]
async fn operations_are_found_by_object_member_kind_outcome_and_time() {
    let bench = Bench::with(&["packhouse"]).await;
    let mut broken = ContainerSpec::new("broken", "base/toolbox:1");
    broken.program.start_error = Some("port 9100 is taken".into());
    bench.hosts[0].run(broken);
    bench.until("broken is known", async |b| b.one("packhouse", "broken").await.is_some()).await;
    let failed = done(&bench, &wish(Request::Start(StartRequest::default()), &["packhouse/broken"])).await.id;
    let other = wish(Request::Restart(RestartRequest::default()), &["packhouse/api"]);
    let restarted = done(&bench, &other).await.id;
    let found = async |fields: &[(&str, &str)]| -> Vec<u64> {
        let fields: Vec<(&str, String)> = fields.iter().map(|(n, v)| (*n, (*v).to_owned())).collect();
        bench.client.operations_where(&fields).await.unwrap().into_iter().map(|o| o.id).collect()
    };
    assert_eq!(found(&[]).await, [restarted, failed]);
    assert_eq!(found(&[("object", "HOUSE/AP")]).await, [restarted]);
    assert_eq!(found(&[("object", "packhouse/b")]).await, [failed]);
    assert_eq!(found(&[("member", "mara"), ("kind", "restart")]).await, [restarted]);
    assert_eq!(found(&[("outcome", "failed")]).await, [failed]);
    assert_eq!(found(&[("outcome", "succeeded"), ("since", "1h")]).await, [restarted]);
    assert!(found(&[("until", "1h")]).await.is_empty());
    assert!(found(&[("outcome", "running")]).await.is_empty());
    let before = restarted.to_string();
    assert_eq!(found(&[("before", &before), ("limit", "1")]).await, [failed]);
    for (field, value, status) in
        [("kind", "explode", 400), ("outcome", "well", 400), ("since", "yesterday", 422), ("limit", "0", 422)]
    {
        let error = bench.client.operations_where(&[(field, value.to_owned())]).await.unwrap_err();
        let ClientError::Problem(problem) = error else { panic!("{error}") };
        assert_eq!((problem.status, problem.field.as_deref()), (status, Some(format!("?{field}").as_str())));
    }
}

#[tokio::test]
async fn each_target_has_an_outcome_of_its_own() {
    let bench = Bench::with(&["packhouse", "coldstore"]).await;
    let mut broken = ContainerSpec::new("broken", "base/toolbox:1");
    broken.program.start_error = Some("port 9100 is taken".into());
    bench.hosts[1].run(broken);
    bench.until("broken is known", async |b| b.one("coldstore", "broken").await.is_some()).await;
    let operation = done(&bench, &wish(Request::Restart(RestartRequest::default()), &["*/*"])).await;
    assert_eq!((operation.state, operation.targets.len()), (OperationState::Partly, 7));
    let failed: Vec<_> = operation.targets.iter().filter(|t| t.state == TargetState::Failed).collect();
    assert_eq!(failed.len(), 1);
    assert_eq!(
        (failed[0].name.as_str(), failed[0].sentence.as_deref()),
        ("broken", Some("port 9100 is taken (the engine's answer to: restart)"))
    );
    let entry = bench.client.audit().await.unwrap().remove(0);
    assert_eq!(
        (entry.member.as_str(), entry.action.as_str(), entry.object.as_str()),
        ("mara", "restart", "*/*")
    );
    assert!(entry.outcome.contains("6 succeeded") && entry.outcome.contains("1 failed"), "{}", entry.outcome);
}

#[tokio::test]
async fn stopping_twice_changes_nothing_the_second_time() {
    let bench = Bench::with(&["packhouse"]).await;
    let stop = wish(Request::Stop(StopRequest { grace_seconds: Some(2), rolling: None }), &["packhouse/api"]);
    assert_eq!(states(&done(&bench, &stop).await), [TargetState::Succeeded]);
    bench
        .until("seen as stopped", async |b| b.one("packhouse", "api").await.unwrap().state == State::Exited)
        .await;
    assert_eq!(states(&done(&bench, &stop).await), [TargetState::Unchanged]);
    let kill = done(&bench, &wish(Request::Kill(KillRequest::default()), &["packhouse/api"])).await;
    assert_eq!(states(&kill), [TargetState::Failed]);
    assert!(kill.targets[0].sentence.as_deref().unwrap().contains("not running"), "the engine's error");
}

#[tokio::test]
async fn removing_what_runs_is_refused_before_the_engine_is_asked() {
    let bench = Bench::with(&["packhouse"]).await;
    // The engine would fail whatever it is asked.
    bench.hosts[0].set_fault(Fault::Failing).unwrap();
    let refused = done(&bench, &wish(Request::Remove(RemoveRequest::default()), &["packhouse/api"])).await;
    assert_eq!(states(&refused), [TargetState::Refused]);
    assert!(refused.targets[0].sentence.as_deref().unwrap().contains("force"));
    bench.hosts[0].set_fault(Fault::None).unwrap();
    bench.until("live", async |b| b.client.hosts().await.unwrap()[0].problem.is_none()).await;
    let forced = wish(Request::Remove(RemoveRequest { force: true, volumes: true }), &["packhouse/api"]);
    assert_eq!(states(&done(&bench, &forced).await), [TargetState::Succeeded]);
    bench.until("it is gone", async |b| b.one("packhouse", "api").await.is_none()).await;
}

#[tokio::test]
async fn two_operations_never_work_on_one_container() {
    let bench = Bench::with(&["packhouse"]).await;
    bench.hosts[0].run(slow("slow", 1500));
    bench.until("slow is known", async |b| b.one("packhouse", "slow").await.is_some()).await;
    let first = bench
        .client
        .submit(&wish(Request::Stop(StopRequest::default()), &["packhouse/slow"]), None)
        .await
        .unwrap();
    let second = bench
        .client
        .submit(
            &wish(Request::Restart(RestartRequest::default()), &["packhouse/slow", "packhouse/api"]),
            None,
        )
        .await
        .unwrap();
    let busy = second.targets.iter().find(|t| t.name == "slow").unwrap();
    assert_eq!(busy.state, TargetState::Refused);
    let sentence = busy.sentence.as_deref().unwrap();
    assert!(sentence.contains(&format!("operation {}", first.id)) && sentence.contains("mara"), "{sentence}");
    assert_eq!(over(&bench, second).await.state, OperationState::Partly);
    assert_eq!(over(&bench, first).await.state, OperationState::Succeeded);
    assert_eq!(
        states(&done(&bench, &wish(Request::Start(StartRequest::default()), &["packhouse/slow"])).await),
        [TargetState::Succeeded]
    );
}

#[tokio::test]
async fn cancelling_leaves_what_has_not_begun() {
    let bench = Bench::with(&["packhouse"]).await;
    for n in 0..12 {
        bench.hosts[0].run(slow(&format!("slow-{n}"), 1200));
    }
    bench.until("all are known", async |b| b.all().await.len() == 15).await;
    let operation = bench
        .client
        .submit(&wish(Request::Stop(StopRequest::default()), &["packhouse/slow-*"]), None)
        .await
        .unwrap();
    bench
        .until("some have begun", async |b| {
            states(&b.client.operation(operation.id).await.unwrap()).contains(&TargetState::Running)
        })
        .await;
    let running = states(&bench.client.operation(operation.id).await.unwrap());
    assert!(running.iter().filter(|s| **s == TargetState::Running).count() <= 4, "a few at once on a host");
    bench.client.cancel(operation.id).await.unwrap();
    let operation = over(&bench, operation).await;
    let cancelled = states(&operation).iter().filter(|s| **s == TargetState::Cancelled).count();
    assert!(operation.cancel_requested && (4..12).contains(&cancelled), "{:?}", states(&operation));
    let again = bench.client.cancel(operation.id).await.unwrap_err();
    assert_eq!(again.kind(), Some("over"));
}

#[tokio::test]
async fn an_idempotency_key_makes_a_retry_safe() {
    let bench = Bench::with(&["packhouse"]).await;
    let remove = wish(Request::Remove(RemoveRequest { force: true, volumes: false }), &["packhouse/api"]);
    let first = bench.client.submit(&remove, Some("retry-1")).await.unwrap();
    let first = over(&bench, first).await;
    bench.until("it is gone", async |b| b.one("packhouse", "api").await.is_none()).await;
    let again = bench.client.submit(&remove, Some("retry-1")).await.unwrap();
    assert_eq!((again.id, again.state), (first.id, first.state), "though its target is gone");
    let other = bench
        .client
        .submit(&wish(Request::Stop(StopRequest::default()), &["packhouse/store"]), Some("retry-1"))
        .await
        .unwrap_err();
    assert_eq!(other.kind(), Some("key-reused"));
}

#[tokio::test]
async fn gubernum_does_not_stop_the_container_it_runs_in() {
    // Ids of simulated containers come from the seed, so a first service learns the id.
    let id = Bench::with(&["packhouse"]).await.one("packhouse", "store").await.unwrap().id;
    let bench = Bench::guarding(&["packhouse"], Some(id)).await;
    for request in [
        Request::Stop(StopRequest::default()),
        Request::Restart(RestartRequest::default()),
        Request::Kill(KillRequest::default()),
        Request::Remove(RemoveRequest { force: true, volumes: false }),
    ] {
        let kind = request.kind();
        let operation = done(&bench, &wish(request, &["packhouse/store"])).await;
        assert_eq!(states(&operation), [TargetState::Refused], "{kind}");
    }
    assert!(bench.one("packhouse", "store").await.unwrap().is_self);
    assert_eq!(
        states(&done(&bench, &wish(Request::Stop(StopRequest::default()), &["packhouse/api"])).await),
        [TargetState::Succeeded]
    );
}

#[tokio::test]
async fn a_host_out_of_reach_fails_its_targets_with_the_reason() {
    let bench = Bench::with(&["packhouse", "coldstore"]).await;
    bench.hosts[0].set_fault(Fault::Refusing).unwrap();
    bench.until("stale", async |b| b.client.hosts().await.unwrap().iter().any(|h| h.problem.is_some())).await;
    let operation = done(&bench, &wish(Request::Restart(RestartRequest::default()), &["*/api"])).await;
    let lost = operation.targets.iter().find(|t| t.host == "packhouse").unwrap();
    assert_eq!(lost.state, TargetState::Failed);
    assert!(lost.sentence.as_deref().unwrap().contains("unreachable"), "{:?}", lost.sentence);
    assert_eq!(operation.state, OperationState::Partly);
}

/// What a service that was killed in the middle has left in its journal.
fn interrupted(folder: &std::path::Path, id: &str) -> u64 {
    let seal = Seal::open(&folder.join("seal.key")).unwrap();
    let store = Store::open(&folder.join("gubernum.db"), seal).unwrap();
    let target = |name: &str, state, began| Target {
        host: "packhouse".into(),
        id: if name == "api" { id.to_owned() } else { format!("{name}-id") },
        name: name.into(),
        object: ObjectKind::Container,
        after: Vec::new(),
        steps: vec![Step::Stop { grace_seconds: None }],
        at: None,
        progress: None,
        bytes: None,
        state,
        sentence: None,
        began,
        ended: None,
    };
    let request = Request::Stop(StopRequest::default());
    let new = gubernum_store::journal::NewOperation {
        request: &request,
        references: &["packhouse/*".to_owned()],
        author: "mara",
        address: "192.0.2.7",
        created: Timestamp::now(),
        targets: vec![
            target("api", TargetState::Waiting, None),
            target("worker", TargetState::Waiting, None),
        ],
        idempotency: None,
    };
    let (operation, _) = store.add_operation(new).unwrap();
    let began = Some(Timestamp::now() - SignedDuration::from_secs(1));
    store.set_target(operation.id, 0, &target("api", TargetState::Running, began)).unwrap();
    operation.id
}

#[tokio::test]
async fn after_a_crash_the_journal_is_finished_or_explained() {
    let mut bench = Bench::with(&["packhouse"]).await;
    let api = bench.one("packhouse", "api").await.unwrap().id;
    // The engine did what it was requested just before the service died.
    bench.hosts[0].end_container(&api, 143, false);
    let id = interrupted(bench.folder.path(), &api);
    bench.restart().await;
    let operation = over(&bench, bench.client.operation(id).await.unwrap()).await;
    assert_eq!(states(&operation), [TargetState::Succeeded, TargetState::Interrupted]);
    let sentences: Vec<_> = operation.targets.iter().map(|t| t.sentence.clone().unwrap()).collect();
    assert!(
        sentences[0].contains("the container is exited") && sentences[1].contains("had not received"),
        "{sentences:?}"
    );
    assert_eq!(operation.state, OperationState::Interrupted);
    // And the containers are free again.
    bench.until("listed", async |b| b.all().await.len() == 3).await;
    assert_eq!(
        states(&done(&bench, &wish(Request::Start(StartRequest::default()), &["packhouse/api"])).await),
        [TargetState::Succeeded]
    );
}

#[tokio::test]
async fn a_preview_changes_nothing() {
    let bench = Bench::with(&["packhouse"]).await;
    let preview = bench
        .client
        .preview(&wish(Request::Remove(RemoveRequest::default()), &["packhouse/*"]))
        .await
        .unwrap();
    assert_eq!(preview.targets.len(), 3);
    assert!(preview.targets.iter().all(|t| t.refused.is_some()));
    assert!(bench.client.operations(10).await.unwrap().is_empty());
    assert_eq!(bench.all().await.iter().filter(|c| c.state == State::Running).count(), 3);
}

/// How long twenty restarts take, asked for one by one.
async fn twenty_restarts(bench: &Bench) -> Duration {
    let begun = std::time::Instant::now();
    let all: Vec<_> = (0..20)
        .map(|n| {
            let client = bench.client.clone();
            async move {
                let target = format!("packhouse/row-{n}");
                client
                    .submit(&wish(Request::Restart(RestartRequest::default()), &[&target]), None)
                    .await
                    .unwrap()
            }
        })
        .collect();
    for operation in futures_util::future::join_all(all).await {
        let operation = over(bench, operation).await;
        assert_eq!(states(&operation), [TargetState::Succeeded]);
    }
    begun.elapsed()
}

#[tokio::test]
async fn a_registry_that_never_answers_delays_only_what_needs_it() {
    let bench = Bench::with(&["packhouse"]).await;
    for n in 0..20 {
        bench.hosts[0].run(gubernum_sim::ContainerSpec::new(&format!("row-{n}"), "base/toolbox:1"));
    }
    bench.until("all are listed", async |b| b.all().await.len() >= 20).await;
    let without = twenty_restarts(&bench).await;
    // It takes connections and says nothing.
    let silent = tokio::net::TcpListener::bind("127.0.0.1:0").await.unwrap();
    let registry = silent.local_addr().unwrap();
    let (coming, mut came) = tokio::sync::mpsc::channel(64);
    let holding = tokio::spawn(async move {
        let mut held = Vec::new();
        while let Ok((socket, _)) = silent.accept().await {
            held.push(socket);
            let _ = coming.try_send(());
        }
    });
    let asking: Vec<_> = (0..6)
        .map(|n| {
            let client = bench.client.clone();
            let image = Some(format!("{registry}/cold/api:{n}"));
            let update = UpdateRequest { image, ..UpdateRequest::default() };
            let wish = wish(Request::Update(update), &[&format!("packhouse/row-{n}")]);
            tokio::spawn(async move { drop(client.preview(&wish).await) })
        })
        .collect();
    came.recv().await.expect("the registry is asked");
    let with = twenty_restarts(&bench).await;
    // Nothing here is measured to the millisecond; a registry's silence would cost fifteen seconds.
    assert!(with < without * 2 + Duration::from_secs(3), "{with:?} instead of {without:?}");
    assert!(asking.iter().any(|a| !a.is_finished()), "the registry is still waited for");
    asking.iter().for_each(tokio::task::JoinHandle::abort);
    holding.abort();
}
