//! Members at work at the same time: who is at it is told, the second may queue, notes and mentions reach those who see what
//! they are on, and who is there is seen.

use std::time::Duration;

use gubernum_api::live::{FromClient, FromServer};
use gubernum_api::requests::{ApplyRequest, EditRequest, NewOperation, Request, RestartRequest};
use gubernum_api::team::{ChangeNote, NewNote, NotedObject, TeamState};
use gubernum_api::{OperationState, Problem, State};
use gubernum_client::{Client, ClientError};

use crate::support::{Bench, slow, until};

fn problem<T: std::fmt::Debug>(result: Result<T, ClientError>) -> Problem {
    match result {
        Err(ClientError::Problem(problem)) => *problem,
        other => panic!("a problem was expected: {other:?}"),
    }
}

fn restart(target: &str, wait: Option<u32>) -> NewOperation {
    let request = Request::Restart(RestartRequest { grace_seconds: None, rolling: None });
    NewOperation { wait_seconds: wait, ..NewOperation::new(request, vec![target.to_owned()]) }
}

async fn with_slow(milliseconds: u64) -> Bench {
    let bench = Bench::with(&["packhouse"]).await;
    bench.hosts[0].run(slow("press", milliseconds));
    bench.until("the slow one is listed", async |b| b.one("packhouse", "press").await.is_some()).await;
    bench
}

async fn over(client: &Client, id: u64) -> OperationState {
    let state = async || client.operation(id).await.unwrap().state;
    until("the operation is over", Duration::from_secs(20), async || {
        state().await != OperationState::Running
    })
    .await;
    state().await
}

#[tokio::test]
async fn the_second_hears_who_since_when_and_what() {
    let bench = with_slow(3000).await;
    let jory = bench.member("jory", &["operator@fleet"]).await;
    let first = jory.submit(&restart("packhouse/press", None), None).await.unwrap();
    let preview = bench.client.preview(&restart("packhouse/press", None)).await.unwrap();
    assert!(preview.targets[0].busy && preview.targets[0].refused.is_some(), "it may queue");
    let second = bench.client.submit(&restart("packhouse/press", None), None).await.unwrap();
    let told = second.targets[0].sentence.clone().unwrap();
    for words in
        [format!("operation {}", first.id), "restart by jory".into(), "UTC".into(), "queue behind it".into()]
    {
        assert!(told.contains(&words), "{words}: {told}");
    }
    assert_eq!(over(&jory, first.id).await, OperationState::Succeeded);
}

#[tokio::test]
async fn a_container_that_is_being_replaced_stays_taken_under_its_name() {
    let bench = with_slow(0).await;
    let before = bench.one("packhouse", "press").await.unwrap().id;
    let mut definition = bench.client.definition("packhouse/press").await.unwrap().definition;
    definition.labels.insert("round".into(), "2".into());
    let edit =
        EditRequest { definition: Box::new(definition), watch_seconds: Some(4), ..EditRequest::default() };
    let wish = NewOperation::new(Request::Edit(edit), vec!["packhouse/press".to_owned()]);
    let first = bench.client.submit(&wish, None).await.unwrap();
    bench
        .until("the new one runs under the name", async |b| {
            b.one("packhouse", "press").await.is_some_and(|c| c.id != before && c.state == State::Running)
        })
        .await;
    let second = bench.client.submit(&restart("packhouse/press", None), None).await.unwrap();
    let told = second.targets[0].sentence.clone().unwrap_or_default();
    assert!(told.contains(&format!("operation {}", first.id)), "it is still watched: {told}");
    let queued = bench.client.submit(&restart("packhouse/press", Some(30)), None).await.unwrap();
    assert_eq!(over(&bench.client, first.id).await, OperationState::Succeeded);
    assert_eq!(over(&bench.client, queued.id).await, OperationState::Succeeded);
}

#[tokio::test]
async fn two_at_the_same_moment_run_one_after_the_other_when_the_second_waits() {
    let bench = with_slow(1500).await;
    let jory = bench.member("jory", &["operator@fleet"]).await;
    let tess = bench.member("tess", &["operator@fleet"]).await;
    let wish = restart("packhouse/press", Some(30));
    let (first, second) = tokio::join!(jory.submit(&wish, None), tess.submit(&wish, None));
    let (first, second) = (first.unwrap(), second.unwrap());
    for id in [first.id, second.id] {
        assert_eq!(over(&bench.client, id).await, OperationState::Succeeded);
    }
    let (a, b) =
        (bench.client.operation(first.id).await.unwrap(), bench.client.operation(second.id).await.unwrap());
    let (earlier, later) = if a.id < b.id { (a, b) } else { (b, a) };
    assert!(later.targets[0].began.unwrap() >= earlier.targets[0].ended.unwrap(), "never both at once");
}

#[tokio::test(flavor = "multi_thread")]
async fn many_at_the_same_moment_all_have_their_turn() {
    let bench = Bench::with(&["packhouse"]).await;
    for _ in 0..5 {
        let wish = restart("packhouse/api", Some(60));
        let all: Vec<_> = (0..8)
            .map(|_| {
                let (client, wish) = (bench.client.clone(), wish.clone());
                tokio::spawn(async move { client.submit(&wish, None).await.unwrap().id })
            })
            .collect();
        for asked in all {
            assert_eq!(over(&bench.client, asked.await.unwrap()).await, OperationState::Succeeded);
        }
    }
}

/// A stack whose one container is made again at each level.
fn apply(level: &str, wait: Option<u32>) -> NewOperation {
    let text = format!(
        "services:\n  press:\n    image: registry.tarnvalley.example/api:1\n    pull_policy: never\n    \
         stop_grace_period: 1s\n    labels: {{level: '{level}'}}\n"
    );
    let request = ApplyRequest {
        stack: "orchard".into(),
        files: [("stack.yaml".to_owned(), text)].into(),
        main: vec!["stack.yaml".into()],
        watch_seconds: Some(2),
        ..ApplyRequest::default()
    };
    NewOperation {
        wait_seconds: wait,
        ..NewOperation::new(Request::Apply(request), vec!["packhouse".into()])
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn of_two_who_apply_the_same_stack_at_the_same_moment_one_runs() {
    let bench = Bench::with(&["packhouse"]).await;
    let jory = bench.member("jory", &["operator@fleet"]).await;
    let tess = bench.member("tess", &["operator@fleet"]).await;
    let first = bench.client.submit(&apply("1", None), None).await.unwrap();
    assert_eq!(over(&bench.client, first.id).await, OperationState::Succeeded);

    let (two, three) = (apply("2", None), apply("3", None));
    let (one, other) = tokio::join!(jory.submit(&two, None), tess.submit(&three, None));
    let (mut runs, mut told) = (Vec::new(), Vec::new());
    for (who, outcome) in [("jory", one), ("tess", other)] {
        match outcome {
            Ok(operation) if operation.state == OperationState::Running => runs.push((who, operation.id)),
            Ok(operation) => told.extend(operation.targets.iter().filter_map(|t| t.sentence.clone())),
            Err(error) => told.push(error.to_string()),
        }
    }
    assert_eq!(runs.len(), 1, "{runs:?} {told:?}");
    let (who, id) = runs[0];
    let words = [format!("apply by {who}"), "queue behind it".to_owned()];
    assert!(told.iter().any(|sentence| words.iter().all(|w| sentence.contains(w.as_str()))), "{told:?}");
    assert_eq!(over(&bench.client, id).await, OperationState::Succeeded);

    let (four, five) = (apply("4", Some(60)), apply("5", Some(60)));
    let (one, other) = tokio::join!(jory.submit(&four, None), tess.submit(&five, None));
    let (one, other) = (one.unwrap().id, other.unwrap().id);
    for id in [one, other] {
        assert_eq!(over(&bench.client, id).await, OperationState::Succeeded);
    }
    let ended = async |id| bench.client.operation(id).await.unwrap().ended.unwrap();
    let begun = async |id| {
        let operation = bench.client.operation(id).await.unwrap();
        operation.targets.iter().filter_map(|t| t.began).min().unwrap()
    };
    let (earlier, later) = if one < other { (one, other) } else { (other, one) };
    assert!(begun(later).await >= ended(earlier).await, "never both at once");
    let revisions = bench.client.stack_revisions("packhouse", "orchard").await.unwrap();
    assert_eq!(revisions.len(), 4, "{revisions:?}");
}

#[tokio::test]
async fn whoever_waits_is_seen_and_whoever_leaves_is_not() {
    let bench = with_slow(4000).await;
    let jory = bench.member("jory", &["operator@fleet"]).await;
    let tess = bench.member("tess", &["operator@fleet"]).await;
    let blind = bench.member("wim", &["operator@stack:none"]).await;
    let first = jory.submit(&restart("packhouse/press", None), None).await.unwrap();
    let waiting = tokio::spawn({
        let tess = tess.clone();
        async move { tess.submit(&restart("packhouse/press", Some(60)), None).await }
    });
    bench.until("she is seen to wait", async |b| !b.client.team().await.unwrap().waiting.is_empty()).await;
    let seen = bench.client.team().await.unwrap().waiting;
    assert_eq!((seen[0].member.as_str(), seen[0].targets[0].as_str()), ("tess", "packhouse/press"));
    assert!(blind.team().await.unwrap().waiting.is_empty(), "whoever does not see it is not told");
    waiting.abort();
    bench.until("her place is given up", async |b| b.client.team().await.unwrap().waiting.is_empty()).await;
    assert_eq!(over(&bench.client, first.id).await, OperationState::Succeeded);
    let all = bench.client.operations(50).await.unwrap();
    assert!(all.iter().all(|o| o.author != "tess"), "what was waited for was not done");
}

#[tokio::test]
async fn a_wait_ends_with_the_holders_name() {
    let bench = with_slow(5000).await;
    let jory = bench.member("jory", &["operator@fleet"]).await;
    jory.submit(&restart("packhouse/press", None), None).await.unwrap();
    let second = bench.client.submit(&restart("packhouse/press", Some(1)), None).await.unwrap();
    assert!(second.targets[0].sentence.as_ref().unwrap().contains("restart by jory"));
    let long = restart("packhouse/press", Some(3601));
    assert_eq!(problem(bench.client.submit(&long, None).await).field.as_deref(), Some("/wait_seconds"));
}

fn on(text: &str) -> NotedObject {
    text.parse().unwrap()
}

fn note(object: &str, text: &str, pinned: bool) -> NewNote {
    NewNote { on: on(object), text: text.to_owned(), pinned }
}

#[tokio::test]
async fn notes_are_read_by_whoever_sees_what_they_are_on() {
    let bench = Bench::with(&["packhouse", "coldstore"]).await;
    let tess = bench.member("tess", &["viewer@host:coldstore"]).await;
    let here = note("container:packhouse/api", "do not restart before @Mara and @tess agree", true);
    let secret = bench.client.write_note(&here).await.unwrap();
    assert_eq!(secret.mentions, ["mara", "tess"]);
    let open =
        bench.client.write_note(&note("host:coldstore", "new disk on Friday, @tess", false)).await.unwrap();
    let seen = tess.notes(None).await.unwrap();
    assert_eq!(
        seen.iter().map(|n| n.id).collect::<Vec<_>>(),
        [open.id],
        "what is on the unseen is not there"
    );
    assert!(seen[0].is_new);
    let team = tess.team().await.unwrap();
    assert_eq!((team.pinned.len(), team.mentions.len(), team.noted.len()), (0, 1, 1));
    assert_eq!(problem(tess.write_note(&note("container:packhouse/api", "hello", false)).await).status, 404);
    assert_eq!(problem(tess.write_note(&note("host:nowhere", "hello", false)).await).status, 404);
    assert_eq!(problem(tess.remove_note(secret.id).await).status, 404);
    assert_eq!(problem(tess.remove_note(open.id).await).word(), "not-allowed");
    let other = ChangeNote { text: Some("mine now".into()), pinned: None };
    assert_eq!(problem(tess.change_note(open.id, &other).await).word(), "not-allowed");
    tess.seen_mentions(&[open.id]).await.unwrap();
    assert!(tess.team().await.unwrap().mentions.is_empty());
    let pinned = ChangeNote { text: None, pinned: Some(true) };
    assert!(tess.change_note(open.id, &pinned).await.unwrap().pinned, "whoever sees it may pin it");
    assert_eq!(bench.client.team().await.unwrap().pinned.len(), 2);
    // Changed, it does not call again whom it called already.
    let changed = ChangeNote { text: Some("new disk on Monday, @tess".into()), pinned: None };
    assert!(bench.client.change_note(open.id, &changed).await.unwrap().edited.is_some());
    assert!(tess.team().await.unwrap().mentions.is_empty());
    bench.client.remove_note(secret.id).await.unwrap();
    assert_eq!(bench.client.notes(None).await.unwrap().len(), 1);
    let audit = bench.client.audit().await.unwrap();
    for action in ["write-note", "change-note", "remove-note"] {
        assert!(audit.iter().any(|e| e.action == action), "{action}");
    }
    for (text, field) in [("", "/text"), (&"x".repeat(4001), "/text"), ("a\u{7}b", "/text")] {
        assert_eq!(
            problem(bench.client.write_note(&note("fleet", text, false)).await).field.as_deref(),
            Some(field)
        );
    }
}

/// The next state of the team that a live connection tells.
async fn told(live: &mut gubernum_client::Live, holds: impl Fn(&TeamState) -> bool) -> TeamState {
    let waited = tokio::time::timeout(Duration::from_secs(15), async {
        loop {
            if let Some(FromServer::Team { team, .. }) = live.next().await.unwrap()
                && holds(&team)
            {
                return *team;
            }
        }
    });
    waited.await.expect("the team is told")
}

#[tokio::test]
async fn a_live_connection_is_told_of_the_team_as_it_is_seen() {
    let bench = Bench::with(&["packhouse", "coldstore"]).await;
    let tess = bench.member("tess", &["viewer@host:coldstore"]).await;
    let mut hers = tess.live().await.unwrap();
    hers.send(&FromClient::Team { id: 1 }).await.unwrap();
    told(&mut hers, |team| team.noted.is_empty()).await;
    bench.client.write_note(&note("host:packhouse", "unseen", true)).await.unwrap();
    bench.client.write_note(&note("host:coldstore", "seen", true)).await.unwrap();
    let team = told(&mut hers, |team| !team.pinned.is_empty()).await;
    assert!(team.pinned.iter().all(|n| n.text == "seen") && team.noted.len() == 1);
}
