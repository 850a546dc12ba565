//! Stacks from a real Git repository on loopback, over HTTP and SSH: a push is seen, previewed, approved and applied, or applied by
//! itself; hooks are signed; what a repository should not have is refused and nothing is touched.

use std::time::Duration;

use gubernum_api::requests::{ApplyRequest, NewOperation, Request};
use gubernum_api::sources::{SetSource, StackSource};
use gubernum_api::{OperationState, State};
use gubernum_client::{Client, ClientError};
use gubernum_store::Seal;
use gubernum_testbed::git::{ACCOUNT, GitPeer};

use crate::replacing::carried;
use crate::support::{Bench, until};

const TEXT: &str = "\
services:
  api:
    image: registry.tarnvalley.example/api:1
    pull_policy: never
    command: sleep 100000
    env_file: [conf/level.env]
    configs: [frost]
configs: {frost: {file: ./frost.txt}}
";
const AT: &str = "stacks/frost/stack.yaml";

fn http(peer: &GitPeer) -> SetSource {
    SetSource {
        url: peer.http_url(),
        reference: "main".into(),
        paths: vec![AT.into()],
        account: Some(ACCOUNT.0.into()),
        token: Some(ACCOUNT.1.into()),
        poll_seconds: 0,
        ..SetSource::default()
    }
}

fn ssh(peer: &GitPeer) -> SetSource {
    SetSource {
        url: peer.ssh_url(),
        account: None,
        token: None,
        ssh_key: Some(peer.ssh_key().unwrap()),
        known_hosts: Some(peer.known_hosts().unwrap()),
        ..http(peer)
    }
}

fn pushed(peer: &GitPeer, level: &str, subject: &str) -> String {
    let files = [
        (AT, Some(TEXT)),
        ("stacks/frost/conf/level.env", Some(level)),
        ("stacks/frost/frost.txt", Some("hard\n")),
        ("stacks/frost/unused.yaml", Some("a: 1\n")),
        ("elsewhere.txt", Some("not of the stack\n")),
    ];
    peer.push(&files, subject).unwrap()
}

async fn source(bench: &Bench) -> StackSource {
    bench.client.stack_source("packhouse", "frostwatch").await.unwrap()
}

async fn set(bench: &Bench, wish: &SetSource) -> Result<StackSource, ClientError> {
    bench.client.set_stack_source("packhouse", "frostwatch", wish).await
}

/// Waits until a commit was fetched.
async fn found(bench: &Bench, commit: &str) -> StackSource {
    until("the commit is found", Duration::from_secs(60), async || {
        let now = source(bench).await;
        assert_eq!(now.failed, None, "{now:?}");
        now.commit.is_some_and(|c| c.id == commit)
    })
    .await;
    source(bench).await
}

async fn failed(bench: &Bench) -> String {
    until("it failed", Duration::from_secs(60), async || source(bench).await.failed.is_some()).await;
    source(bench).await.failed.unwrap()
}

fn waiting() -> NewOperation {
    let request = ApplyRequest {
        stack: "frostwatch".into(),
        waiting: true,
        watch_seconds: Some(1),
        ..ApplyRequest::default()
    };
    NewOperation::new(Request::Apply(request), vec!["packhouse".into()])
}

async fn level(client: &Client) -> Option<String> {
    let found = client.definition("packhouse/frostwatch-api-1").await.ok()?;
    found.definition.environment.iter().find(|e| e.name == "LEVEL").map(|e| e.value.clone())
}

async fn hook(bench: &Bench, path: &str, body: &str, signature: Option<String>) -> u16 {
    let url = format!("{}{path}", bench.service.url());
    let mut request = reqwest::Client::new().post(url).body(body.to_owned());
    if let Some(signature) = signature {
        request = request.header("X-Hub-Signature-256", signature);
    }
    request.send().await.unwrap().status().as_u16()
}

fn signed(secret: &str, body: &str) -> Option<String> {
    let code = Seal::signature(secret, body.as_bytes());
    Some(format!("sha256={}", code.iter().map(|b| format!("{b:02x}")).collect::<String>()))
}

#[tokio::test(flavor = "multi_thread")]
async fn a_push_is_seen_previewed_approved_and_applied_over_http() {
    let bench = Bench::with(&["packhouse"]).await;
    let peer = GitPeer::start().unwrap();
    let first = pushed(&peer, "LEVEL=2\n", "The first levels");
    let made = set(&bench, &http(&peer)).await.unwrap();
    let secret = made.hook_secret.clone().expect("it is told once");
    assert_eq!(source(&bench).await.hook_secret, None);
    let now = found(&bench, &first).await;
    assert!(now.waiting && now.has_token, "{now:?}");
    let commit = now.commit.unwrap();
    assert_eq!((commit.subject.as_str(), commit.author.as_str()), ("The first levels", "Mara Quill"));
    assert!(bench.all().await.iter().all(|c| c.stack.is_none()), "nothing is touched before it is approved");

    let preview = bench.client.preview(&waiting()).await.unwrap();
    assert!(preview.targets.iter().any(|p| p.name == "frostwatch-api-1"), "{preview:#?}");
    let wish = NewOperation { digest: Some(preview.digest), ..waiting() };
    let operation = carried(&bench, &wish).await;
    assert_eq!(operation.state, OperationState::Succeeded, "{operation:#?}");
    assert_eq!(level(&bench.client).await.as_deref(), Some("2"), "files that the text names came along");
    let revisions = bench.client.stack_revisions("packhouse", "frostwatch").await.unwrap();
    assert_eq!(revisions[0].commit.as_deref(), Some(first.as_str()));
    assert_eq!(revisions[0].comment.as_deref(), Some("The first levels"));
    let kept = bench.client.stack_definition("packhouse", "frostwatch", 1).await.unwrap();
    let names: Vec<&str> = kept.files.keys().map(String::as_str).collect();
    assert_eq!(names, ["conf/level.env", "frost.txt", "stack.yaml"], "and no others");
    assert!(!source(&bench).await.waiting);

    // Nobody looks before the hook says so; only a signed one does.
    let second = pushed(&peer, "LEVEL=3\n", "Colder");
    let body = r#"{"ref":"refs/heads/main"}"#;
    for forged in [None, signed("another secret", body), signed(&secret, "{}"), Some("sha256=00".into())] {
        assert_eq!(hook(&bench, &made.hook, body, forged).await, 401);
    }
    assert_eq!(hook(&bench, "/api/v1/hooks/nobody", body, signed(&secret, body)).await, 401);
    let words = format!("{:?}", source(&bench).await);
    assert!(words.contains(&first) && !words.contains(ACCOUNT.1) && !words.contains(&secret), "{words}");
    assert_eq!(hook(&bench, &made.hook, body, signed(&secret, body)).await, 202);
    assert!(found(&bench, &second).await.waiting);
    assert_eq!(level(&bench.client).await.as_deref(), Some("2"), "it waits");
    let fresh = bench.client.fresh_hook_secret("packhouse", "frostwatch").await.unwrap();
    assert_eq!(hook(&bench, &made.hook, body, signed(&secret, body)).await, 401, "the old one ended");
    assert_eq!(hook(&bench, &made.hook, body, signed(&fresh.hook_secret.unwrap(), body)).await, 202);
    assert!(found(&bench, &second).await.waiting);
    assert_eq!(carried(&bench, &waiting()).await.state, OperationState::Succeeded);
    assert_eq!(level(&bench.client).await.as_deref(), Some("3"));
    let error = bench.client.preview(&waiting()).await.unwrap_err().to_string();
    assert!(error.contains("no commit waits"), "{error}");
    bench.client.remove_stack_source("packhouse", "frostwatch").await.unwrap();
    assert!(bench.client.stack_source("packhouse", "frostwatch").await.is_err());
}

#[tokio::test(flavor = "multi_thread")]
async fn a_push_is_applied_by_itself_over_ssh() {
    let bench = Bench::with(&["packhouse"]).await;
    let peer = GitPeer::start().unwrap();
    pushed(&peer, "LEVEL=2\n", "The first levels");
    set(&bench, &SetSource { applies: true, poll_seconds: 30, ..ssh(&peer) }).await.unwrap();
    let is_level = async |wanted: &str| {
        until("it is applied", Duration::from_secs(60), async || {
            // The next look of its own would come with the bench's clock, which stands still: on a machine that is too busy
            // for the connection to come up in time, it is asked for here.
            if let Some(why) = source(&bench).await.failed {
                eprintln!("a look failed: {why}");
                bench.client.look_at_stack_source("packhouse", "frostwatch").await.unwrap();
            }
            level(&bench.client).await.as_deref() == Some(wanted)
        })
        .await;
    };
    is_level("2").await;
    until("it runs", Duration::from_secs(60), async || {
        bench.all().await.iter().any(|c| c.name == "frostwatch-api-1" && c.state == State::Running)
    })
    .await;
    let second = pushed(&peer, "LEVEL=3\n", "Colder");
    bench.client.look_at_stack_source("packhouse", "frostwatch").await.unwrap();
    is_level("3").await;
    until("its revision is kept", Duration::from_secs(60), async || {
        let all = bench.client.stack_revisions("packhouse", "frostwatch").await.unwrap();
        all.first().is_some_and(|r| r.commit.as_ref() == Some(&second) && r.member == "git")
    })
    .await;

    // A text that cannot be read: told, and nothing is touched.
    peer.push(&[(AT, Some(&TEXT.replace("command:", "comand:")))], "A slip").unwrap();
    bench.client.look_at_stack_source("packhouse", "frostwatch").await.unwrap();
    let why = failed(&bench).await;
    assert!(why.contains("stack.yaml, line 5") && why.contains("did you mean 'command'"), "{why}");
    assert_eq!(level(&bench.client).await.as_deref(), Some("3"));
}

#[tokio::test(flavor = "multi_thread")]
async fn what_a_repository_should_not_have_or_cannot_give_is_reported() {
    let bench = Bench::with(&["packhouse"]).await;
    let peer = GitPeer::start().unwrap();
    pushed(&peer, "LEVEL=2\n", "The first levels");
    for (wish, words) in [
        (SetSource { url: "file:///etc".into(), ..http(&peer) }, "not 'file'"),
        (SetSource { url: "ext::sh -c id".into(), ..http(&peer) }, "not a repository address"),
        (
            SetSource { url: "https://mara:x@127.0.0.1/a.git".into(), ..http(&peer) },
            "set the token separately",
        ),
        (SetSource { reference: "--upload-pack=id".into(), ..http(&peer) }, "not a branch or tag name"),
        (SetSource { paths: vec!["../stack.yaml".into()], ..http(&peer) }, "not a path in the repository"),
        (SetSource { poll_seconds: 1, ..http(&peer) }, "poll every 30"),
        (SetSource { ssh_key: None, ..ssh(&peer) }, "needs a private key"),
    ] {
        let error = set(&bench, &wish).await.unwrap_err().to_string();
        assert!(error.contains(words), "{error}");
    }
    for (wish, words) in [
        (SetSource { token: Some("wrong".into()), ..http(&peer) }, "'git' failed"),
        (SetSource { reference: "winter".into(), ..http(&peer) }, "no branch or tag 'winter'"),
        (SetSource { paths: vec!["stacks/frost/none.yaml".into()], ..http(&peer) }, "no file"),
        (SetSource { known_hosts: Some("127.0.0.1 ssh-ed25519 AAAA".into()), ..ssh(&peer) }, "'git' failed"),
        (SetSource { url: "http://127.0.0.1:9/frost.git".into(), ..http(&peer) }, "'git' failed"),
    ] {
        let _ = bench.client.remove_stack_source("packhouse", "frostwatch").await;
        set(&bench, &wish).await.unwrap();
        let why = failed(&bench).await;
        assert!(why.contains(words) && !why.contains("wrong"), "{why}");
    }
    // A link may lead anywhere.
    peer.push_link("stacks/frost/frost.txt", "/etc/passwd", "A link").unwrap();
    let _ = bench.client.remove_stack_source("packhouse", "frostwatch").await;
    set(&bench, &http(&peer)).await.unwrap();
    let why = failed(&bench).await;
    assert!(why.contains("'stacks/frost/frost.txt' is a link"), "{why}");
    assert!(bench.all().await.iter().all(|c| c.stack.is_none()), "nothing is touched");
    let left = std::fs::read_dir(bench.folder.path().join("git")).map(Iterator::count);
    assert_eq!(left.unwrap_or(0), 0, "nothing of it is left on the disk");
}
