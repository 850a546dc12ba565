//! Stacks on simulated hosts: what is refused before anything is touched, what a preview says, and calling off.

use std::time::Duration;

use gubernum_api::requests::{ApplyRequest, NewOperation, RemoveStackRequest, Request};
use gubernum_api::stacks::{CheckStack, VariableState};
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
    assert!(api.downtime.is_some() && api.steps.contains(&Step::CreateBeside), "{api:#?}");
    assert_eq!(plan(&preview.targets, "frostwatch_readings").object, ObjectKind::Volume);
    assert!(plan(&preview.targets, "frostwatch-store-1").unchanged.is_some());
    let before = stack(&bench).await;
    let wish = NewOperation { digest: Some(preview.digest), ..wish };
    let operation = carried(&bench, &wish).await;
    assert_eq!(operation.state, OperationState::Succeeded, "{operation:#?}");
    bench.until("the new one is seen", async |b| stack(b).await[0].1 != before[0].1).await;
    assert_eq!(stack(&bench).await[1], before[1], "the other one is not touched");
    let file = bench.client.definition("packhouse/frostwatch-api-1").await.unwrap();
    assert!(file.definition.labels["gubernum.files"].contains("/frost"));
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
    let words = "the network cold is 'external' but does not exist";
    assert!(told.iter().any(|t| t.contains(words)), "{told:?}");
    assert!(operation.targets.iter().all(|t| t.state != TargetState::Succeeded), "{operation:#?}");
    for (from, to, words) in [
        ("depends_on: [store]", "depends_on: [stoer]", "stack.yaml, line 11, column 18"),
        ("environment:", "enviroment:", "did you mean 'environment'"),
        ("volumes: [readings:/data]", "volumes: ['./in:/data']", "write an absolute path on the host"),
    ] {
        let error =
            bench.client.submit(&apply(&FROST.replace(from, to)), None).await.unwrap_err().to_string();
        assert!(error.contains(words), "{error}");
    }
    let back = ApplyRequest { stack: "frostwatch".into(), revision: Some(7), ..ApplyRequest::default() };
    let wish = NewOperation::new(Request::Apply(back), vec!["packhouse".into()]);
    let error = bench.client.submit(&wish, None).await.unwrap_err().to_string();
    assert!(error.contains("no revision 7"), "{error}");
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

fn apply_with(text: &str, variables: &[(&str, &str)]) -> NewOperation {
    let Request::Apply(request) = apply(text).request else { unreachable!() };
    let variables = variables.iter().map(|(k, v)| ((*k).to_owned(), (*v).to_owned())).collect();
    NewOperation::new(Request::Apply(ApplyRequest { variables, ..request }), vec!["packhouse".into()])
}

/// The newest revision once more, with something beside it.
fn again(change: impl FnOnce(&mut ApplyRequest)) -> NewOperation {
    let mut request = ApplyRequest {
        stack: "frostwatch".into(),
        revision: Some(1),
        watch_seconds: Some(1),
        ..ApplyRequest::default()
    };
    change(&mut request);
    NewOperation::new(Request::Apply(request), vec!["packhouse".into()])
}

#[tokio::test]
async fn texts_are_kept_hidden_compared_and_taken_back_edited() {
    let bench = Bench::with(&["packhouse"]).await;
    let text = FROST.replace("TZ: UTC", "TZ: '${ZONE:-UTC}', API_KEY: russet-pears");
    let wish = apply_with(&text, &[("ZONE", "CET"), ("STORE_PASSWORD", "plums in march")]);
    let operation = carried(&bench, &wish).await;
    assert_eq!(operation.state, OperationState::Succeeded, "{operation:#?}");
    bench.until("both are seen", async |b| stack(b).await.len() == 2).await;
    let kept = bench.client.stack_definition("packhouse", "frostwatch", 1).await.unwrap();
    let words = serde_json::to_string(&kept).unwrap();
    assert!(!words.contains("russet") && !words.contains("plums"), "{words}");
    assert!(kept.files["stack.yaml"].contains("ZONE:-UTC"), "{words}");

    // Edited as it was shown, what is hidden stays what it was.
    let edited =
        kept.files["stack.yaml"].replace("sleep 100000\n    depends_on", "sleep 99999\n    depends_on");
    let Request::Apply(request) = apply(&edited).request else { unreachable!() };
    let request = ApplyRequest { variables: kept.variables.clone(), ..request };
    let wish = NewOperation::new(Request::Apply(request.clone()), vec!["packhouse".into()]);
    let preview = bench.client.preview(&wish).await.unwrap();
    let api = plan(&preview.targets, "frostwatch-api-1");
    let told: Vec<String> = api.differences.iter().map(|d| d.words()).collect();
    assert_eq!(told.len(), 1, "only the command differs: {told:?}");
    let operation = carried(&bench, &wish).await;
    assert_eq!(operation.state, OperationState::Succeeded, "{operation:#?}");
    let difference = bench.client.stack_difference("packhouse", "frostwatch", 2, None).await.unwrap();
    let lines = serde_json::to_string(&difference).unwrap();
    assert!(lines.contains("sleep 99999") && !lines.contains("russet"), "{lines}");
    assert!(difference.values.is_empty(), "{lines}");

    // A line that hides something and is another is refused at its line.
    let files = [("stack.yaml".to_owned(), edited.replace("API_KEY", "OTHER_KEY"))].into();
    let wish = NewOperation::new(Request::Apply(ApplyRequest { files, ..request }), vec!["packhouse".into()]);
    let error = bench.client.preview(&wish).await.unwrap_err();
    let gubernum_client::ClientError::Problem(problem) = &error else { panic!("{error}") };
    assert_eq!((problem.errors[0].file.as_str(), problem.errors[0].line), ("stack.yaml", 12), "{problem:?}");
    assert!(bench.client.stack_definition("packhouse", "frostwatch", 9).await.is_err());
    assert!(bench.client.stack_difference("packhouse", "frostwatch", 2, Some(9)).await.is_err());
}

#[tokio::test]
async fn a_text_is_checked_while_it_is_written() {
    let bench = Bench::with(&["packhouse"]).await;
    let check = async |text: &str, variables: &[(&str, &str)]| {
        let wish = CheckStack {
            files: [("stack.yaml".to_owned(), text.to_owned())].into(),
            main: vec!["stack.yaml".into()],
            variables: variables.iter().map(|(k, v)| ((*k).to_owned(), (*v).to_owned())).collect(),
            ..CheckStack::default()
        };
        bench.client.check_stack(&wish).await.unwrap()
    };
    let told = check(FROST, &[]).await;
    assert!(told.valid, "{told:#?}");
    assert_eq!(told.services.iter().map(|s| s.name.as_str()).collect::<Vec<_>>(), ["api", "store"]);
    let told =
        check(&FROST.replace("environment:", "enviroment:").replace("api:1", "api:${TAG:?}"), &[]).await;
    let lines: Vec<u64> = told.errors.iter().map(|e| e.line).collect();
    assert_eq!(lines, [8, 12], "all errors at once: {told:#?}");
    assert_eq!((told.variables[0].name.as_str(), told.variables[0].state), ("TAG", VariableState::Required));
    // What this text means and cannot be carried out here is reported as well.
    let told = check(&FROST.replace("volumes: [readings:/data]", "volumes: ['./in:/data']"), &[]).await;
    assert!(!told.valid && told.errors[0].sentence.contains("absolute path"), "{told:#?}");
}

#[tokio::test]
async fn scaled_and_given_other_variables_without_a_file() {
    let bench = Bench::with(&["packhouse"]).await;
    let text = FROST.replace("TZ: UTC", "TZ: '${ZONE:-UTC}'");
    carried(&bench, &apply_with(&text, &[("ZONE", "CET")])).await;
    bench.until("both are seen", async |b| stack(b).await.len() == 2).await;
    let more = again(|r| {
        r.scale.insert("store".into(), 3);
    });
    let operation = carried(&bench, &more).await;
    assert_eq!(operation.state, OperationState::Succeeded, "{operation:#?}");
    bench.until("there are more", async |b| stack(b).await.len() == 4).await;
    let zone = again(|r| {
        r.revision = Some(2);
        r.variables.insert("ZONE".into(), "EET".into());
    });
    let operation = carried(&bench, &zone).await;
    let changed = operation.targets.iter().filter(|t| t.state == TargetState::Succeeded);
    assert_eq!(changed.map(|t| t.name.as_str()).collect::<Vec<_>>(), ["frostwatch-api-1"], "{operation:#?}");
    let kept = bench.client.stack_definition("packhouse", "frostwatch", 3).await.unwrap();
    assert_eq!((kept.scale["store"], kept.variables["ZONE"].as_str()), (3, "EET"));
    assert_eq!(kept.revision.comment.as_deref(), Some("another ZONE"));
    let wrong = again(|r| {
        r.scale.insert("stoer".into(), 3);
    });
    let error = bench.client.preview(&wrong).await.unwrap_err().to_string();
    assert!(error.contains("no such service"), "{error}");
}

#[tokio::test]
async fn what_differs_is_watched_and_needs_attention() {
    let bench = deployed().await;
    let differs = async |b: &Bench| -> Option<Vec<String>> {
        let all = b.client.drifts().await.unwrap();
        all.into_iter().find(|row| row.stack == "frostwatch").map(|row| row.differs)
    };
    bench.until("it is as applied", async |b| differs(b).await == Some(Vec::new())).await;
    let api = stack(&bench).await[0].1.clone();
    bench.hosts[0].remove_container(&api);
    bench.until("it is seen", async |b| differs(b).await == Some(vec!["frostwatch-api-1".to_owned()])).await;
    let needs = async |b: &Bench| {
        let all = b.client.attention().await.unwrap();
        all.into_iter().find(|item| item.reason.code == "drift").map(|item| item.reason.sentence)
    };
    let sentence = needs(&bench).await.unwrap();
    assert_eq!(sentence, "Drift from revision 1 of the stack frostwatch: frostwatch-api-1.");
    let mut preferences = bench.client.preferences().await.unwrap();
    preferences.drift_needs_attention = false;
    bench.client.set_preferences(&preferences).await.unwrap();
    assert_eq!(needs(&bench).await, None, "a member does not want it there");
    carried(&bench, &again(|_| {})).await;
    bench.until("it is as applied again", async |b| differs(b).await == Some(Vec::new())).await;
    let told = bench.client.timeline(&[("stack", "frostwatch".to_owned())]).await.unwrap();
    assert!(told.iter().any(|e| e.name == "frostwatch-api-1"), "{told:#?}");
    assert!(told.iter().all(|e| e.name.starts_with("frostwatch")), "{told:#?}");
}

#[tokio::test]
async fn a_stack_goes_as_a_whole_and_comes_back() {
    let bench = deployed().await;
    let remove = |volumes| {
        let request = RemoveStackRequest { stack: "frostwatch".into(), volumes, images: false };
        NewOperation::new(Request::RemoveStack(request), vec!["packhouse".into()])
    };
    let operation = carried(&bench, &remove(false)).await;
    assert_eq!(operation.state, OperationState::Succeeded, "{operation:#?}");
    assert_eq!(operation.references, ["packhouse/frostwatch"]);
    bench.until("nothing of it is left", async |b| stack(b).await.is_empty()).await;
    let volumes = async |b: &Bench| -> bool {
        b.client.volumes(&[]).await.unwrap().iter().any(|v| v.volume.name == "frostwatch_readings")
    };
    assert!(volumes(&bench).await, "its data stays");
    bench.until("nobody expects it", async |b| b.client.drifts().await.unwrap().is_empty()).await;
    let error = bench.client.preview(&remove(true)).await.unwrap_err().to_string();
    assert!(error.contains("no container of the stack"), "{error}");
    let operation = carried(&bench, &again(|_| {})).await;
    assert_eq!(operation.state, OperationState::Succeeded, "{operation:#?}");
    bench.until("it is back", async |b| stack(b).await.len() == 2).await;
    bench.until("it is watched again", async |b| b.client.drifts().await.unwrap().len() == 1).await;
    let operation = carried(&bench, &remove(true)).await;
    assert_eq!(operation.state, OperationState::Succeeded, "{operation:#?}");
    bench.until("its data is gone", async |b| !volumes(b).await).await;
}

#[tokio::test]
async fn one_text_on_several_hosts_has_the_values_of_each() {
    let bench = Bench::with(&["packhouse", "coldstore"]).await;
    let text = FROST.replace("TZ: UTC", "LEVEL: '${LEVEL:?say which}', SITE: '${SITE:-none}'");
    let mut wish = apply(&text);
    wish.targets = vec!["*".into()];
    let Request::Apply(request) = &mut wish.request else { unreachable!() };
    request.variables = [("LEVEL".to_owned(), "2".to_owned()), ("SITE".to_owned(), "tarn".to_owned())].into();
    let own = [("coldstore".to_owned(), [("LEVEL".to_owned(), "5".to_owned())].into())];
    request.host_variables = own.into();
    let operation = carried(&bench, &wish).await;
    assert_eq!(operation.state, OperationState::Succeeded, "{operation:#?}");
    for (host, level) in [("packhouse", "2"), ("coldstore", "5")] {
        let reference = format!("{host}/frostwatch-api-1");
        bench.until("it is seen", async |b| b.one(host, "frostwatch-api-1").await.is_some()).await;
        let file = bench.client.definition(&reference).await.unwrap();
        let value =
            |name: &str| file.definition.environment.iter().find(|e| e.name == name).unwrap().value.clone();
        assert_eq!((value("LEVEL"), value("SITE")), (level.to_owned(), "tarn".to_owned()));
        // Each host's revision has the values that it was applied with, and nothing differs from it.
        let kept = bench.client.stack_definition(host, "frostwatch", 1).await.unwrap();
        assert_eq!(kept.variables["LEVEL"], level);
        let drift = bench.client.stack_drift(host, "frostwatch").await.unwrap();
        assert!(drift.targets.is_empty(), "{drift:#?}");
    }
    let mut elsewhere = wish.clone();
    elsewhere.targets = vec!["packhouse".into()];
    let error = bench.client.submit(&elsewhere, None).await.unwrap_err().to_string();
    assert!(error.contains("'coldstore' is not one of the target hosts"), "{error}");
}
