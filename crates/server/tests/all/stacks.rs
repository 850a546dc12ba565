//! Stacks on simulated hosts: what is refused before anything is touched, what a preview says, and calling off.

use std::time::Duration;

use gubernum_api::requests::{ApplyRequest, NewOperation, Request};
use gubernum_api::{ObjectKind, Operation, OperationState, State, Step, TargetPlan, TargetState};

use crate::replacing::carried;
use crate::support::Bench;

const FROST: &str = "\
services:
  store:
    image: registry.tarnvalley.example/store:1
    pull_policy: never
    command: sleep 100000
    volumes: [readings:/data]
  api:
    image: registry.tarnvalley.example/api:1
    pull_policy: never
    command: sleep 100000
    depends_on: [store]
    environment: {TZ: UTC}
    configs: [frost]
volumes: {readings: {}}
configs: {frost: {content: 'level: 2'}}
";

fn apply(text: &str) -> NewOperation {
    let request = ApplyRequest {
        stack: "frostwatch".into(),
        files: [("stack.yaml".to_owned(), text.to_owned())].into(),
        main: vec!["stack.yaml".into()],
        watch_seconds: Some(1),
        ..ApplyRequest::default()
    };
    NewOperation::new(Request::Apply(request), vec!["packhouse".into()])
}

async fn stack(bench: &Bench) -> Vec<(String, String, State)> {
    let all = bench.client.containers(&[("stack", "frostwatch".to_owned())]).await.unwrap();
    let mut all: Vec<_> = all.into_iter().map(|c| (c.name, c.id, c.state)).collect();
    all.sort();
    all
}

async fn deployed() -> Bench {
    let bench = Bench::with(&["packhouse"]).await;
    let operation = carried(&bench, &apply(FROST)).await;
    assert_eq!(operation.state, OperationState::Succeeded, "{operation:#?}");
    bench.until("both are seen", async |b| stack(b).await.len() == 2).await;
    bench
}

fn plan<'a>(plans: &'a [TargetPlan], name: &str) -> &'a TargetPlan {
    plans.iter().find(|p| p.name == name).unwrap()
}

#[tokio::test]
async fn a_preview_tells_each_part_and_a_change_touches_one() {
    let bench = deployed().await;
    let same = bench.client.preview(&apply(FROST)).await.unwrap();
    assert!(same.targets.iter().all(|p| p.unchanged.is_some()), "{same:#?}");
    let wish = apply(&FROST.replace("TZ: UTC", "TZ: CET"));
    let preview = bench.client.preview(&wish).await.unwrap();
    let api = plan(&preview.targets, "frostwatch-api-1");
    assert_eq!(api.differences[0].words(), "environment TZ: UTC → CET");
    assert!(api.downtime.is_some() && api.steps.contains(&Step::MakeBeside), "{api:#?}");
    assert_eq!(plan(&preview.targets, "frostwatch_readings").object, ObjectKind::Volume);
    assert!(plan(&preview.targets, "frostwatch-store-1").unchanged.is_some());
    let before = stack(&bench).await;
    let wish = NewOperation { digest: Some(preview.digest), ..wish };
    let operation = carried(&bench, &wish).await;
    assert_eq!(operation.state, OperationState::Succeeded, "{operation:#?}");
    bench.until("the new one is seen", async |b| stack(b).await[0].1 != before[0].1).await;
    assert_eq!(stack(&bench).await[1], before[1], "the other one is not touched");
    let file = bench.client.definition("packhouse/frostwatch-api-1").await.unwrap();
    assert!(file.definition.labels["org.gubernum.files"].contains("/frost"));
}

#[tokio::test]
async fn nothing_is_touched_when_a_part_is_refused_or_the_text_is_wrong() {
    let bench = deployed().await;
    let before = stack(&bench).await;
    let other =
        FROST.replace("TZ: UTC}", "TZ: CET}\n    networks: [cold]") + "networks: {cold: {external: true}}\n";
    let operation = carried(&bench, &apply(&other)).await;
    assert_eq!(operation.state, OperationState::Failed, "{operation:#?}");
    let told: Vec<String> = operation.targets.iter().filter_map(|t| t.sentence.clone()).collect();
    let words = "the text says that the network cold is there already";
    assert!(told.iter().any(|t| t.contains(words)), "{told:?}");
    assert!(operation.targets.iter().all(|t| t.state != TargetState::Succeeded), "{operation:#?}");
    for (from, to, words) in [
        ("depends_on: [store]", "depends_on: [stoer]", "stack.yaml, line 11, column 18"),
        ("environment:", "enviroment:", "did you mean `environment`"),
        ("volumes: [readings:/data]", "volumes: ['./in:/data']", "write the whole path on the host"),
    ] {
        let error =
            bench.client.submit(&apply(&FROST.replace(from, to)), None).await.unwrap_err().to_string();
        assert!(error.contains(words), "{error}");
    }
    let back = ApplyRequest { stack: "frostwatch".into(), revision: Some(7), ..ApplyRequest::default() };
    let wish = NewOperation::new(Request::Apply(back), vec!["packhouse".into()]);
    let error = bench.client.submit(&wish, None).await.unwrap_err().to_string();
    assert!(error.contains("there is no revision 7"), "{error}");
    assert_eq!(stack(&bench).await, before);
}

#[tokio::test]
async fn called_off_it_is_what_it_was() {
    let bench = deployed().await;
    let before = stack(&bench).await;
    let text =
        FROST.replace("TZ: UTC", "TZ: CET").replace("sleep 100000\n    volumes", "sleep 99999\n    volumes");
    let Request::Apply(request) = apply(&text).request else { unreachable!() };
    let request = Request::Apply(ApplyRequest { watch_seconds: Some(600), ..request });
    let wish = NewOperation::new(request, vec!["packhouse".into()]);
    let operation = bench.client.submit(&wish, None).await.unwrap();
    let id = operation.id;
    let is_watched = |o: &Operation| {
        let step = |t: &gubernum_api::Target| t.steps.get(t.at? as usize).cloned();
        o.targets.iter().filter_map(step).filter(|s| matches!(s, Step::Watch { .. })).count() == 2
    };
    bench.until("both are watched", async |b| is_watched(&b.client.operation(id).await.unwrap())).await;
    bench.client.cancel(id).await.unwrap();
    bench
        .until("it is over", async |b| b.client.operation(id).await.unwrap().state != OperationState::Running)
        .await;
    let over = bench.client.operation(id).await.unwrap();
    assert_eq!(over.state, OperationState::Cancelled, "{over:#?}");
    bench.until("what was runs again", async |b| stack(b).await == before).await;
    assert_eq!(bench.client.stack_revisions("packhouse", "frostwatch").await.unwrap().len(), 1);
    tokio::time::timeout(Duration::from_secs(30), carried(&bench, &apply(&text))).await.unwrap();
    assert_eq!(bench.client.stack_revisions("packhouse", "frostwatch").await.unwrap().len(), 2);
}
