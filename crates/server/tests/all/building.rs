//! Services whose images are built, that start before the old ones stop, and that have hooks: on simulated hosts.

use std::collections::BTreeMap;

use gubernum_api::requests::{ApplyRequest, NewOperation, Request, StopRequest};
use gubernum_api::{ObjectKind, Operation, OperationState, State, Step, TargetState};

use crate::replacing::carried;
use crate::support::Bench;

fn apply(text: &str, more: &[(&str, &str)]) -> NewOperation {
    let mut files: BTreeMap<String, String> = [("stack.yaml".to_owned(), text.to_owned())].into();
    files.extend(more.iter().map(|(path, text)| ((*path).to_owned(), (*text).to_owned())));
    let request = ApplyRequest {
        stack: "frostwatch".into(),
        files,
        main: vec!["stack.yaml".into()],
        watch_seconds: Some(1),
        ..ApplyRequest::default()
    };
    NewOperation::new(Request::Apply(request), vec!["packhouse".into()])
}

async fn good(bench: &Bench, wish: &NewOperation) -> Operation {
    let operation = carried(bench, wish).await;
    assert_eq!(operation.state, OperationState::Succeeded, "{operation:#?}");
    operation
}

async fn image_of(bench: &Bench, name: &str) -> Option<String> {
    bench.one("packhouse", name).await.map(|c| c.image)
}

const BUILT: &str = "services: {api: {build: ./api, image: 'registry.tarnvalley.example/frost-api:3', command: sleep 100000}}";

#[tokio::test]
async fn an_image_is_built_from_the_stacks_files_and_another_one_when_they_change() {
    let bench = Bench::with(&["packhouse"]).await;
    let files = [("api/Dockerfile", "FROM scratch\nCOPY frost.conf /"), ("api/frost.conf", "level: 2")];
    let preview = bench.client.preview(&apply(BUILT, &files)).await.unwrap();
    let plan = preview.targets.iter().find(|p| p.object == ObjectKind::Image).unwrap();
    assert!(matches!(plan.steps[..], [Step::Build { .. }]), "{plan:#?}");
    assert!(plan.consequence.contains("Builds it from 2 of the stack's files"), "{plan:#?}");
    good(&bench, &apply(BUILT, &files)).await;
    bench.until("it runs", async |b| image_of(b, "frostwatch-api-1").await.is_some()).await;
    let image = image_of(&bench, "frostwatch-api-1").await.unwrap();
    assert!(image.starts_with("localhost/frostwatch-api:build-"), "{image}");
    bench
        .until("the other name is there too", async |b| {
            let images = b.client.images(&[]).await.unwrap();
            images.iter().any(|row| row.tags.iter().any(|t| t == "registry.tarnvalley.example/frost-api:3"))
        })
        .await;
    let again = bench.client.preview(&apply(BUILT, &files)).await.unwrap();
    assert!(again.targets.iter().all(|p| p.unchanged.is_some()), "{again:#?}");
    let other = [files[0], ("api/frost.conf", "level: 3")];
    good(&bench, &apply(BUILT, &other)).await;
    bench
        .until("it is another", async |b| image_of(b, "frostwatch-api-1").await.is_some_and(|i| i != image))
        .await;
    // Back to the first: nothing is built, its image is there.
    let back = bench.client.preview(&apply(BUILT, &files)).await.unwrap();
    assert!(back.targets.iter().all(|p| p.object != ObjectKind::Image), "{back:#?}");
}

#[tokio::test]
async fn what_cannot_be_built_leaves_the_stack_as_it_is() {
    let bench = Bench::with(&["packhouse"]).await;
    let good_files = [("api/Dockerfile", "FROM scratch")];
    good(&bench, &apply(BUILT, &good_files)).await;
    bench.until("it runs", async |b| image_of(b, "frostwatch-api-1").await.is_some()).await;
    let before = bench.one("packhouse", "frostwatch-api-1").await.unwrap().id;
    let operation = carried(&bench, &apply(BUILT, &[("api/Dockerfile", "FROM scratch\nRUN false")])).await;
    assert_eq!(operation.state, OperationState::Failed, "{operation:#?}");
    let failed = operation.targets.iter().find(|t| t.state == TargetState::Failed).unwrap();
    let why = failed.sentence.as_deref().unwrap();
    assert!(why.contains("build failed") && why.contains("returned a non-zero code: 1"), "{why}");
    assert_eq!(bench.one("packhouse", "frostwatch-api-1").await.unwrap().id, before);
    let error = bench.client.submit(&apply(BUILT, &[]), None).await.unwrap_err().to_string();
    assert!(error.contains("the file 'api/Dockerfile' is missing"), "{error}");
}

const FIRST: &str = "\
services:
  api:
    image: registry.tarnvalley.example/api:1
    pull_policy: never
    command: sleep 100000
    environment: {LEVEL: '2'}
    deploy: {update_config: {order: start-first}}
";

#[tokio::test]
async fn with_start_first_nothing_is_down() {
    let bench = Bench::with(&["packhouse"]).await;
    good(&bench, &apply(FIRST, &[])).await;
    bench.until("it runs", async |b| image_of(b, "frostwatch-api-1").await.is_some()).await;
    let before = bench.one("packhouse", "frostwatch-api-1").await.unwrap().id;
    let other = FIRST.replace("'2'", "'3'");
    let preview = bench.client.preview(&apply(&other, &[])).await.unwrap();
    let plan = preview.targets.iter().find(|p| p.name == "frostwatch-api-1").unwrap();
    assert!(
        plan.downtime.is_none() && plan.consequence.contains("before the old one is stopped"),
        "{plan:#?}"
    );
    let operation = good(&bench, &apply(&other, &[])).await;
    let target = operation.targets.iter().find(|t| t.name == "frostwatch-api-1").unwrap();
    assert_eq!(target.sentence, None, "nothing was down");
    bench
        .until("it is another", async |b| {
            b.one("packhouse", "frostwatch-api-1")
                .await
                .is_some_and(|c| c.id != before && c.state == State::Running)
        })
        .await;
    let stack = bench.client.containers(&[("stack", "frostwatch".to_owned())]).await.unwrap();
    assert_eq!(stack.len(), 1, "{stack:#?}");
    // One that does not come up is removed, and the old one ran all the time.
    let bad = FIRST.replace("command: sleep 100000", "entrypoint: ['sh', '-c', 'echo no; exit 4']");
    let operation = carried(&bench, &apply(&bad, &[])).await;
    assert_eq!(operation.state, OperationState::Failed, "{operation:#?}");
    let target = operation.targets.iter().find(|t| t.name == "frostwatch-api-1").unwrap();
    assert!(target.sentence.as_ref().unwrap().ends_with("what runs was not touched"), "{target:#?}");
}

fn hooked(hooks: &str) -> String {
    format!(
        "services:
  api:
    image: registry.tarnvalley.example/api:1
    pull_policy: never
    command: sleep 100000
    {hooks}
"
    )
}

#[tokio::test]
async fn hooks_are_run_at_their_moments_and_one_that_fails_ends_it() {
    let bench = Bench::with(&["packhouse"]).await;
    let bad_start = hooked("post_start: [{command: ['false']}]");
    let operation = carried(&bench, &apply(&bad_start, &[])).await;
    assert_eq!(operation.state, OperationState::Failed, "{operation:#?}");
    let failed = operation.targets.iter().find(|t| t.state == TargetState::Failed).unwrap();
    let why = failed.sentence.as_deref().unwrap();
    assert!(why.contains("its post_start 'false' failed, so the start failed: exited with code 1"), "{why}");
    bench.until("it is removed", async |b| b.one("packhouse", "frostwatch-api-1").await.is_none()).await;

    let before = hooked("pre_start: [{command: ['sh', '-c', 'echo no room; exit 5']}]");
    let operation = carried(&bench, &apply(&before, &[])).await;
    let failed = operation.targets.iter().find(|t| t.state == TargetState::Failed).unwrap();
    let why = failed.sentence.as_deref().unwrap();
    assert!(why.contains("its pre_start 'sh -c echo no room; exit 5' failed"), "{why}");
    assert!(bench.all().await.iter().all(|c| !c.name.contains("pre-start")), "nothing of it is left");

    let all = hooked(
        "pre_start: [{command: ['true']}]\n    post_start: [{command: ['true']}]\n    pre_stop: [{command: ['false']}]",
    );
    good(&bench, &apply(&all, &[])).await;
    bench
        .until("it runs", async |b| {
            b.one("packhouse", "frostwatch-api-1").await.is_some_and(|c| c.state == State::Running)
        })
        .await;
    let stop = Request::Stop(StopRequest::default());
    let stop = NewOperation::new(stop, vec!["packhouse/frostwatch-api-1".into()]);
    let operation = carried(&bench, &stop).await;
    let why = operation.targets[0].sentence.as_deref().unwrap();
    assert!(
        why.contains("its pre_stop 'false' failed, so it was not stopped ('kill' skips the hook)"),
        "{why}"
    );
    assert_eq!(bench.one("packhouse", "frostwatch-api-1").await.unwrap().state, State::Running);
    // Another hook is another container; the old one's hook still has its say.
    let other = all.replace("pre_stop: [{command: ['false']}]", "pre_stop: [{command: ['true']}]");
    let operation = carried(&bench, &apply(&other, &[])).await;
    assert_eq!(operation.state, OperationState::Failed, "{operation:#?}");
}

fn three(action: &str, level: u32, command: &str) -> String {
    let service = |more: &str| {
        format!(
            "{{image: 'registry.tarnvalley.example/api:1', pull_policy: never, environment: {{LEVEL: '{level}'}}{more}}}"
        )
    };
    let update = format!(
        ", {command}, healthcheck: {{test: ['CMD', 'true'], interval: 1s}}, deploy: {{update_config: {{failure_action: {action}}}}}"
    );
    format!(
        "services:\n  bad: {}\n  beside: {}\n  behind: {}\n",
        service(&update),
        service(", command: sleep 100000"),
        service(", command: sleep 100000, depends_on: {bad: {condition: service_healthy}}")
    )
}

#[rstest::rstest]
#[case::all_of_it_comes_back("rollback", OperationState::Failed, ["1", "1", "1"])]
#[case::the_rest_goes_on("continue", OperationState::Partly, ["1", "2", "1"])]
#[tokio::test]
async fn what_is_done_when_a_service_fails_is_as_its_text_says(
    #[case] action: &str,
    #[case] state: OperationState,
    #[case] levels: [&str; 3],
) {
    let bench = Bench::with(&["packhouse"]).await;
    good(&bench, &apply(&three(action, 1, "command: sleep 100000"), &[])).await;
    let names = ["bad", "beside", "behind"].map(|service| format!("frostwatch-{service}-1"));
    bench
        .until("all run", async |b| {
            b.client.containers(&[("stack", "frostwatch".to_owned())]).await.unwrap().len() == 3
        })
        .await;
    let ends = three(action, 2, "entrypoint: ['sh', '-c', 'echo no; exit 4']");
    let operation = carried(&bench, &apply(&ends, &[])).await;
    assert_eq!(operation.state, state, "{operation:#?}");
    for (name, level) in names.iter().zip(levels) {
        let file = bench.client.definition(&format!("packhouse/{name}")).await.unwrap();
        let value = &file.definition.environment.iter().find(|e| e.name == "LEVEL").unwrap().value;
        assert_eq!(value, level, "{name}: {operation:#?}");
    }
}
