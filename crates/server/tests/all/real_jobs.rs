//! On real engines: images that are built from a stack's files, hooks at their moments, a replacement that is never down, and a job.

use std::collections::BTreeMap;

use gubernum_api::requests::{ApplyRequest, Request, RunRequest};
use gubernum_api::{ObjectKind, OperationState};
use gubernum_testbed::real::IMAGE;

use crate::real_stacks::Ground;

const TEXT: &str = r#"
services:
  api:
    build: {context: api, network: none, labels: {example.season: frost}}
    network_mode: none
    stop_grace_period: 1s
    command: ["sh", "-c", "trap 'exit 0' TERM; while true; do sleep 1 & wait $$!; done"]
    volumes: [kept:/kept]
    deploy: {update_config: {order: start-first}}
    pre_start: [{command: [sh, -c, "cat /level >> /kept/prepared"]}]
    post_start: [{command: [sh, -c, "cat /level > /tmp/started"], user: "0"}]
    pre_stop: [{command: [sh, -c, "echo $$LEVEL >> /kept/stopped"], environment: {LEVEL: drained}}]
  report:
    image: IMAGE
    pull_policy: never
    network_mode: none
    command: ["sh", "-c", "cat /season; cat /kept/prepared >&2; exit $CODE"]
    configs: [season]
    volumes: ["kept:/kept:ro"]
    x-gubernum-schedule: {timeout: 1m}
volumes: {kept: {}}
configs: {season: {content: "late frost\n"}}
"#;

fn wish(level: &str, code: &str) -> ApplyRequest {
    let dockerfile = "FROM IMAGE\nCOPY level /level\n".replace("IMAGE", IMAGE);
    let text = TEXT.replace("IMAGE", IMAGE).replace("$CODE", code);
    ApplyRequest {
        stack: "frostwatch".into(),
        files: BTreeMap::from([
            ("stack.yaml".into(), text),
            ("api/Dockerfile".into(), dockerfile),
            ("api/level".into(), format!("{level}\n")),
        ]),
        main: vec!["stack.yaml".into()],
        watch_seconds: Some(1),
        ..ApplyRequest::default()
    }
}

async fn on(ground: Ground) {
    let read = |path: &str| ground.host().tool(&["exec", "frostwatch-api-1", "cat", path]).unwrap();
    let first = ground.apply(wish("two", "0")).await;
    assert_eq!(first.state, OperationState::Succeeded, "{first:#?}");
    assert_eq!((read("/tmp/started").trim(), read("/kept/prepared").trim()), ("two", "two"));
    ground.seen("it is listed").await;
    assert_eq!(ground.differs(wish("two", "0")).await, Vec::<String>::new());
    let season = ["inspect", "--format", "{{index .Config.Labels \"example.season\"}}", "frostwatch-api-1"];
    assert_eq!(ground.host().tool(&season).unwrap().trim(), "frost", "the image's labels are set");

    let second = ground.apply(wish("three", "0")).await;
    assert_eq!(second.state, OperationState::Succeeded, "{second:#?}");
    assert_eq!(second.targets.iter().filter(|t| t.object == ObjectKind::Image).count(), 1);
    let api = second.targets.iter().find(|t| t.name == "frostwatch-api-1").unwrap();
    assert_eq!(api.sentence, None, "nothing was down");
    assert_eq!((read("/tmp/started").trim(), read("/kept/prepared").trim()), ("three", "two\nthree"));
    assert_eq!(read("/kept/stopped").trim(), "drained", "the old one was told before it was stopped");
    ground.seen("the new one is listed").await;
    assert_eq!(ground.differs(wish("three", "0")).await, Vec::<String>::new());

    let run = || Request::Run(RunRequest { stack: "frostwatch".into(), service: "report".into(), due: None });
    let good = ground.carry_out(run()).await;
    assert_eq!(good.state, OperationState::Succeeded, "{good:#?}");
    let runs = ground.client.job_runs("packhouse", "frostwatch", "report").await.unwrap();
    let said = ground.client.job_run(runs[0].id).await.unwrap().output;
    let mut lines: Vec<&str> = said.lines().collect();
    // Engines hand both outputs over in an order of their own.
    lines.sort_unstable();
    assert_eq!(lines, ["late frost", "three", "two"]);
    ground.apply(wish("three", "7")).await;
    let bad = ground.carry_out(run()).await;
    assert_eq!(bad.state, OperationState::Failed, "{bad:#?}");
    let why = bad.targets[0].sentence.as_deref().unwrap();
    assert!(why.starts_with("exited with code 7"), "{why}");
    let all = ground.host().tool(&["ps", "--all", "--format", "{{.Names}}"]).unwrap();
    assert_eq!(
        all.split_whitespace().collect::<Vec<_>>(),
        ["frostwatch-api-1"],
        "runs and hooks leave nothing"
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn builds_hooks_and_jobs_on_dockerd() {
    on(Ground::dockerd(81).await).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn builds_hooks_and_jobs_on_podman() {
    on(Ground::podman(82).await).await;
}
