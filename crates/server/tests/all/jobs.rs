//! Jobs on simulated hosts: run by hand, at their times, beside another run, after the service was away.

use gubernum_api::jobs::{JobRow, RunOutcome};
use gubernum_api::requests::{ApplyRequest, NewOperation, Request, RunRequest};
use gubernum_api::{Operation, OperationState, TargetState};
use gubernum_client::LogOptions;
use gubernum_sim::{Action, Fault, Program};

use crate::replacing::carried;
use crate::support::Bench;

fn text(schedule: &str, command: &str) -> String {
    format!(
        "services:
  api: {{image: 'registry.tarnvalley.example/api:1', pull_policy: never, command: sleep 100000}}
  report:
    image: registry.tarnvalley.example/api:1
    pull_policy: never
    entrypoint: {command}
    configs: [frost]
    x-gubernum-schedule: {schedule}
configs: {{frost: {{content: 'level: 2'}}}}
"
    )
}

const SAYS: &str = "['sh', '-c', 'echo forty readings; echo a gap at four >&2; exit 0']";
const FAILS: &str = "['sh', '-c', 'echo the mast is silent >&2; exit 3']";
const LONG: &str = "['sh', '-c', 'echo begins; sleep 100000; exit 0']";

async fn deploy(bench: &Bench, text: &str) {
    let request = ApplyRequest {
        stack: "frostwatch".into(),
        files: [("stack.yaml".to_owned(), text.to_owned())].into(),
        main: vec!["stack.yaml".into()],
        watch_seconds: Some(1),
        ..ApplyRequest::default()
    };
    let operation =
        carried(bench, &NewOperation::new(Request::Apply(request), vec!["packhouse".into()])).await;
    assert_eq!(operation.state, OperationState::Succeeded, "{operation:#?}");
    bench.until("the job is known", async |b| row(b).await.is_some()).await;
}

fn wish() -> NewOperation {
    let request = RunRequest { stack: "frostwatch".into(), service: "report".into(), due: None };
    NewOperation::new(Request::Run(request), vec!["packhouse".into()])
}

async fn row(bench: &Bench) -> Option<JobRow> {
    bench.client.jobs().await.unwrap().into_iter().find(|row| row.service == "report")
}

/// The outcomes of its runs, the newest first.
async fn outcomes(bench: &Bench) -> Vec<RunOutcome> {
    let runs = bench.client.job_runs("packhouse", "frostwatch", "report").await.unwrap_or_default();
    runs.iter().map(|run| run.outcome).collect()
}

async fn has_run_container(bench: &Bench) -> bool {
    bench.all().await.iter().any(|c| c.name.starts_with("frostwatch-report"))
}

/// Whether the container of a run has written something.
async fn has_spoken(bench: &Bench) -> bool {
    let all = bench.all().await;
    let Some(run) = all.iter().find(|c| c.name.starts_with("frostwatch-report")) else { return false };
    let options = LogOptions { stdout: true, stderr: true, ..LogOptions::default() };
    let Ok(mut lines) = bench.client.logs(&run.reference(), &options).await else { return false };
    matches!(lines.next().await, Ok(Some(_)))
}

async fn attention(bench: &Bench, code: &str) -> Vec<String> {
    let all = bench.client.attention().await.unwrap();
    all.into_iter().filter(|item| item.reason.code == code).map(|item| item.reason.sentence).collect()
}

#[tokio::test]
async fn a_job_is_run_by_hand_and_what_it_said_is_kept() {
    let bench = Bench::with(&["packhouse"]).await;
    deploy(&bench, &text("{}", SAYS)).await;
    assert!(!has_run_container(&bench).await, "it does not run with the stack");
    let preview = bench.client.preview(&wish()).await.unwrap();
    let plan = &preview.targets[0];
    assert_eq!(plan.name, "frostwatch-report-run-1");
    assert!(plan.consequence.contains("at most 1 h"), "{plan:#?}");
    assert!(plan.steps_in_words.iter().any(|c| c.starts_with("Copy /frost into it")), "{plan:#?}");
    let operation = carried(&bench, &wish()).await;
    assert_eq!(operation.state, OperationState::Succeeded, "{operation:#?}");
    assert_eq!(operation.references, ["packhouse/frostwatch/report"]);
    assert_eq!(operation.targets[0].sentence.as_deref(), Some("exited with code 0"));
    let run = bench.client.job_runs("packhouse", "frostwatch", "report").await.unwrap().remove(0);
    assert_eq!(
        (run.outcome, run.exit_code, run.operation),
        (RunOutcome::Succeeded, Some(0), Some(operation.id))
    );
    let said = bench.client.job_run(run.id).await.unwrap();
    assert_eq!((said.output.as_str(), said.cut), ("forty readings\na gap at four\n", false));
    bench.until("its container is gone", async |b| !has_run_container(b).await).await;
    let drift = bench.client.stack_drift("packhouse", "frostwatch").await.unwrap();
    assert!(drift.targets.is_empty(), "{drift:#?}");
    let unknown = bench.client.job_runs("packhouse", "frostwatch", "nothing").await.unwrap_err().to_string();
    assert!(unknown.contains("no job"), "{unknown}");
}

#[tokio::test]
async fn a_job_that_fails_needs_attention_until_it_is_good_again() {
    let bench = Bench::with(&["packhouse"]).await;
    deploy(&bench, &text("{}", FAILS)).await;
    let operation = carried(&bench, &wish()).await;
    assert_eq!(operation.state, OperationState::Failed, "{operation:#?}");
    let why = operation.targets[0].sentence.clone().unwrap();
    assert_eq!(why, "exited with code 3; last output: the mast is silent");
    bench.until("it needs attention", async |b| !attention(b, "job-failed").await.is_empty()).await;
    let told = attention(&bench, "job-failed").await;
    assert_eq!(told, [format!("Job report of frostwatch failed: {why}.")]);
    let (_, metrics) = bench.client.raw(reqwest::Method::GET, "/metrics", None).await.unwrap();
    let metrics = String::from_utf8(metrics.to_vec()).unwrap();
    let line = "gubernum_job_last_run_good{host=\"packhouse\",stack=\"frostwatch\",service=\"report\"} 0";
    assert!(metrics.contains(line), "{metrics}");
    deploy(&bench, &text("{}", SAYS)).await;
    carried(&bench, &wish()).await;
    bench.until("nothing is wrong", async |b| attention(b, "job-failed").await.is_empty()).await;
    assert_eq!(outcomes(&bench).await, [RunOutcome::Succeeded, RunOutcome::Failed]);
}

#[tokio::test]
async fn what_is_no_job_is_not_run() {
    let bench = Bench::with(&["packhouse"]).await;
    deploy(&bench, &text("{}", SAYS)).await;
    for (stack, service, words) in [
        ("frostwatch", "api", "has no job 'api'; it has report"),
        ("frostwatch", "nothing", "has no job 'nothing'"),
        ("orchard", "report", "deploy or adopt it first"),
    ] {
        let request = RunRequest { stack: stack.into(), service: service.into(), due: None };
        let wish = NewOperation::new(Request::Run(request), vec!["packhouse".into()]);
        let error = bench.client.submit(&wish, None).await.unwrap_err().to_string();
        assert!(error.contains(words), "{error}");
    }
}

#[tokio::test]
async fn one_that_takes_too_long_is_stopped_and_one_can_be_called_off() {
    let bench = Bench::with(&["packhouse"]).await;
    deploy(&bench, &text("{timeout: 1s}", LONG)).await;
    let operation = carried(&bench, &wish()).await;
    assert_eq!(operation.targets[0].state, TargetState::Failed, "{operation:#?}");
    assert!(
        operation.targets[0].sentence.as_ref().unwrap().contains("timed out after 1 s"),
        "{operation:#?}"
    );
    deploy(&bench, &text("{}", LONG)).await;
    let begun = bench.client.submit(&wish(), None).await.unwrap();
    bench
        .until("it runs", async |b| row(b).await.unwrap().running == [begun.id] && has_spoken(b).await)
        .await;
    bench.client.cancel(begun.id).await.unwrap();
    bench.until("it is over", async |b| outcomes(b).await.len() == 2).await;
    assert_eq!(outcomes(&bench).await, [RunOutcome::Cancelled, RunOutcome::TimedOut]);
    bench.until("nothing is left", async |b| !has_run_container(b).await).await;
    let output = bench.client.job_runs("packhouse", "frostwatch", "report").await.unwrap()[0].id;
    assert_eq!(bench.client.job_run(output).await.unwrap().output, "begins\n");
}

#[tokio::test]
async fn one_that_never_began_is_reported_among_the_runs() {
    let bench = Bench::with(&["packhouse"]).await;
    deploy(&bench, &text("{}", SAYS)).await;
    // Each call to the engine takes long enough that the run is cancelled before the container is started.
    bench.hosts[0].set_fault(Fault::Slow(std::time::Duration::from_millis(400))).unwrap();
    let begun = bench.client.submit(&wish(), None).await.unwrap();
    bench.client.cancel(begun.id).await.unwrap();
    bench.until("it is told", async |b| outcomes(b).await == [RunOutcome::Cancelled]).await;
    bench.hosts[0].set_fault(Fault::None).unwrap();
    let run = bench.client.job_runs("packhouse", "frostwatch", "report").await.unwrap().remove(0);
    assert_eq!(run.operation, Some(begun.id));
    assert!(run.sentence.unwrap().contains("cancelled"));
    bench.until("it is over", async |b| row(b).await.unwrap().running.is_empty()).await;
}

/// Sets the clock so that the next full minute is a moment away, and yet far enough for a slow machine to apply a stack before it.
fn just_before_a_minute(bench: &Bench) {
    let now = jiff::Timestamp::now().as_second();
    bench.pass(52 - now % 60);
}

#[tokio::test]
async fn it_is_run_at_its_time_and_not_beside_itself() {
    let bench = Bench::with(&["packhouse"]).await;
    just_before_a_minute(&bench);
    deploy(&bench, &text("'* * * * *'", LONG)).await;
    bench.until("it is run", async |b| !row(b).await.unwrap().running.is_empty()).await;
    let first = row(&bench).await.unwrap();
    assert!(first.next.is_some());
    let operation: Operation = bench.client.operation(first.running[0]).await.unwrap();
    assert_eq!(operation.author, "schedule");
    let Request::Run(run) = &operation.request else { panic!("{operation:#?}") };
    assert_eq!(run.due.unwrap().as_second() % 60, 0);
    // Its next time comes while it is under way.
    bench.pass(60);
    deploy(&bench, &text("'* * * * *'", &LONG.replace("begins", "goes"))).await;
    bench.until("the second is left out", async |b| outcomes(b).await == [RunOutcome::Skipped]).await;
    bench.client.cancel(operation.id).await.unwrap();
    bench.until("it is over", async |b| outcomes(b).await[0] == RunOutcome::Cancelled).await;
}

#[tokio::test]
async fn one_that_replaces_ends_the_run_before_it() {
    let bench = Bench::with(&["packhouse"]).await;
    deploy(&bench, &text("{cron: '* * * * *', concurrency: replace}", LONG)).await;
    let by_hand = bench.client.submit(&wish(), None).await.unwrap();
    bench.until("it runs", async |b| has_run_container(b).await).await;
    just_before_a_minute(&bench);
    bench.pass(60);
    deploy(&bench, &text("{cron: '* * * * *', concurrency: replace, keep: 30}", LONG)).await;
    bench
        .until("the new one runs", async |b| {
            let running = row(b).await.unwrap().running;
            !running.is_empty() && !running.contains(&by_hand.id)
        })
        .await;
    assert_eq!(outcomes(&bench).await[0], RunOutcome::Cancelled);
}

#[rstest::rstest]
#[case::told("skip", RunOutcome::Missed)]
#[case::made_up_for("once", RunOutcome::Succeeded)]
#[tokio::test]
async fn times_while_the_service_was_away(#[case] missed: &str, #[case] outcome: RunOutcome) {
    let bench = Bench::with(&["packhouse"]).await;
    let schedule = format!("{{cron: '17 * * * *', missed_runs: {missed}}}");
    deploy(&bench, &text(&schedule, SAYS)).await;
    let bench = {
        bench.pass(5 * 3600 + 61);
        bench.end_and_start().await
    };
    bench.until("it is told", async |b| !outcomes(b).await.is_empty()).await;
    bench.until("it is over", async |b| outcomes(b).await == [outcome]).await;
    if outcome == RunOutcome::Missed {
        bench.until("it needs attention", async |b| !attention(b, "job-missed").await.is_empty()).await;
        let told = attention(&bench, "job-missed").await;
        assert_eq!(told, ["Job report of frostwatch missed its last 5 runs."]);
    }
}

#[tokio::test]
async fn a_run_goes_on_when_the_service_ends_in_the_middle() {
    let bench = Bench::with(&["packhouse"]).await;
    let slow = Program::new(vec![
        Action::Out("half".into()),
        Action::Wait(4000),
        Action::Out("whole".into()),
        Action::Exit(0),
    ]);
    let text = text("{}", SAYS).replace(
        "    configs: [frost]\n",
        &format!("    labels: {{sim.program: '{}'}}\n", serde_json::to_string(&slow).unwrap()),
    );
    deploy(&bench, &text).await;
    let begun = bench.client.submit(&wish(), None).await.unwrap();
    bench.until("it runs", async |b| has_run_container(b).await).await;
    let bench = bench.end_and_start().await;
    bench.until("it is over", async |b| outcomes(b).await == [RunOutcome::Succeeded]).await;
    let run = bench.client.job_runs("packhouse", "frostwatch", "report").await.unwrap().remove(0);
    assert_eq!(run.operation, Some(begun.id));
    assert_eq!(bench.client.job_run(run.id).await.unwrap().output, "half\nwhole\n");
    bench
        .until("the journal says so", async |b| {
            b.client.operation(begun.id).await.unwrap().state == OperationState::Succeeded
        })
        .await;
}

#[tokio::test]
async fn a_host_that_is_out_of_reach_is_a_run_that_failed() {
    let mut bench = Bench::with(&["packhouse"]).await;
    deploy(&bench, &text("'* * * * *'", SAYS)).await;
    drop(bench.hosts.remove(0));
    bench
        .until("it is lost", async |b| {
            b.client.hosts().await.unwrap()[0].state != gubernum_core::host::LinkState::Live
        })
        .await;
    just_before_a_minute(&bench);
    bench.pass(60);
    let bench = bench.end_and_start().await;
    // It is waited for as long as a start may take.
    let told = async || outcomes(&bench).await.contains(&RunOutcome::Failed);
    crate::support::until("it is told", std::time::Duration::from_secs(60), told).await;
    let run = bench.client.job_runs("packhouse", "frostwatch", "report").await.unwrap().remove(0);
    assert!(run.sentence.as_ref().is_some_and(|why| why.contains("packhouse")), "{run:#?}");
}
