//! Terminals and one-off commands, on the simulated engine and on both real ones.

use std::time::Duration;

use bytes::Bytes;
use gubernum_api::Definition;
use gubernum_api::requests::NewHost;
use gubernum_api::terminals::{NewOneOff, NewTerminal, RunCommand, TerminalEnd};
use gubernum_client::{Client, CommandStream, FromTerminal, HeldTerminal};
use gubernum_core::definition::PullPolicy;
use gubernum_testbed::real::{IMAGE, RealEngine};

use crate::support::{Bench, claim, start, until};

fn wish(container: &str) -> NewTerminal {
    NewTerminal {
        container: container.to_owned(),
        shell: None,
        command: Vec::new(),
        attach: false,
        user: None,
        folder: None,
        columns: 80,
        rows: 24,
    }
}

/// Reads until its text holds these words.
async fn reads(held: &mut HeldTerminal, words: &str) -> String {
    let mut said = String::new();
    let reading = async {
        while !said.contains(words) {
            match held.next().await {
                FromTerminal::Text(bytes) => said.push_str(&String::from_utf8_lossy(&bytes)),
                other => panic!("'{words}' never came: {other:?} after {said}"),
            }
        }
    };
    let timed = tokio::time::timeout(Duration::from_secs(20), reading).await;
    assert!(timed.is_ok(), "'{words}' never came: {said}");
    said
}

async fn ends(held: &mut HeldTerminal) -> TerminalEnd {
    let reading = async {
        loop {
            match held.next().await {
                FromTerminal::Ended(end) => return end,
                FromTerminal::Text(_) => {}
                FromTerminal::Lost => panic!("it was lost before it ended"),
            }
        }
    };
    tokio::time::timeout(Duration::from_secs(20), reading).await.expect("it ends")
}

async fn types(held: &mut HeldTerminal, text: &str) {
    held.keys(Bytes::copy_from_slice(text.as_bytes())).await.unwrap();
}

/// What any engine must do.
async fn talk(client: &Client, container: &str) {
    let opened = client.open_terminal(&wish(container)).await.unwrap();
    let mut held = client.hold_terminal(&opened.id).await.unwrap();
    held.resize(101, 37).await.unwrap();
    types(&mut held, "echo be\"gun\"\r").await;
    reads(&mut held, "be").await;
    // Whoever comes back within a minute continues where it was, and sees what was said before.
    drop(held);
    let mut held = client.hold_terminal(&opened.id).await.unwrap();
    reads(&mut held, "be").await;
    types(&mut held, "exit 5\r").await;
    let end = ends(&mut held).await;
    assert_eq!(end.exit_code, Some(5), "{end:?}");
    // Both ends of it are in the audit log.
    let audit = || async { client.audit().await.unwrap() };
    until("its end is written down", Duration::from_secs(10), async || {
        audit().await.iter().any(|e| e.action == "close-terminal" && e.outcome.contains("exit code 5"))
    })
    .await;
    assert!(audit().await.iter().any(|e| e.action == "open-terminal" && e.object == container));

    let run = RunCommand {
        command: ["sh", "-c", "echo out; echo err >&2; exit 3"].map(str::to_owned).to_vec(),
        ..RunCommand::default()
    };
    let mut stream = client.run_command(container, &run).await.unwrap();
    let (mut out, mut err, mut code) = (String::new(), String::new(), None);
    while let Some(piece) = stream.next().await.unwrap() {
        if piece.stderr { &mut err } else { &mut out }.push_str(&piece.text);
        code = code.or(piece.exit_code);
    }
    assert_eq!((out.as_str(), err.as_str(), code), ("out\n", "err\n", Some(3)));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_terminal_on_the_simulated_engine() {
    let bench = Bench::with(&["packhouse"]).await;
    talk(&bench.client, "packhouse/api").await;
    // The size that is shown is the size that it has; a closed one ends.
    let opened = bench.client.open_terminal(&wish("packhouse/api")).await.unwrap();
    let mut held = bench.client.hold_terminal(&opened.id).await.unwrap();
    held.resize(91, 33).await.unwrap();
    types(&mut held, "stty size\r").await;
    reads(&mut held, "33 91").await;
    bench.client.close_terminal(&opened.id).await.unwrap();
    let end = ends(&mut held).await;
    assert!(end.sentence.contains("it was closed"), "{end:?}");
    // One whose container dies says so.
    let opened = bench.client.open_terminal(&wish("packhouse/api")).await.unwrap();
    let mut held = bench.client.hold_terminal(&opened.id).await.unwrap();
    let id = bench.one("packhouse", "api").await.unwrap().id;
    bench.hosts[0].end_container(&id, 1, false);
    let end = ends(&mut held).await;
    assert!(end.exit_code == Some(137) || end.sentence.contains("container"), "{end:?}");
    bench
        .until("it ended", async |b| b.one("packhouse", "api").await.is_some_and(|c| c.exit_code.is_some()))
        .await;
    let error = bench.client.open_terminal(&wish("packhouse/api")).await.unwrap_err().to_string();
    assert!(error.contains("is not running"), "{error}");
    let error = bench.client.open_terminal(&wish("packhouse/nothing")).await.unwrap_err().to_string();
    assert!(error.contains("packhouse/nothing"), "{error}");
    assert!(bench.client.hold_terminal("none").await.is_err());
}

fn fresh(words: &[&str], image: &str) -> NewOneOff {
    let command = Some(words.iter().map(|w| (*w).to_owned()).collect());
    let mut definition = Definition {
        command,
        // The words are the whole command, whatever the image begins with.
        entrypoint: Some(Vec::new()),
        pull: PullPolicy::Never,
        ..Definition::for_image(image)
    };
    definition.network.mode = Some("none".to_owned());
    NewOneOff { host: "packhouse".into(), definition, limit_seconds: Some(60) }
}

/// All that a command says, its exit code and what went wrong.
async fn whole(mut stream: CommandStream) -> (String, String, Option<i64>, Option<String>) {
    let (mut out, mut err) = (String::new(), String::new());
    while let Some(piece) = stream.next().await.unwrap() {
        if piece.stderr { &mut err } else { &mut out }.push_str(&piece.text);
        if piece.ended {
            return (out, err, piece.exit_code, piece.problem);
        }
    }
    panic!("it was interrupted after {out}{err}");
}

/// Whether a container for one command is there: it appears in no list, but its image is in use.
async fn one_off_is_there(client: &Client) -> bool {
    let listed = client.containers(&[]).await.unwrap();
    assert!(!listed.iter().any(|c| c.name.starts_with("run-once-")), "{listed:?}");
    let images = client.images(&[]).await.unwrap();
    let mut users = images.iter().flat_map(|i| &i.copies).flat_map(|c| &c.used_by);
    users.any(|user| user == "packhouse/one-off-command")
}

async fn nothing_is_left(client: &Client) {
    until("its container is gone", Duration::from_secs(20), async || !one_off_is_there(client).await).await;
}

/// A command in a container of its own, which is gone afterwards however the command ends.
async fn alone(client: &Client, image: &str) {
    let words = ["sh", "-c", "echo out; echo err >&2; sleep 0.2; exit 4"];
    let (out, err, code, problem) = whole(client.run_fresh(&fresh(&words, image)).await.unwrap()).await;
    assert_eq!((out.as_str(), err.as_str(), code), ("out\n", "err\n", Some(4)), "{problem:?}");
    nothing_is_left(client).await;
    // Its limit.
    let wish = NewOneOff { limit_seconds: Some(1), ..fresh(&["sleep", "600"], image) };
    let (.., code, problem) = whole(client.run_fresh(&wish).await.unwrap()).await;
    assert_eq!(code, None);
    assert!(problem.as_deref().is_some_and(|p| p.contains("time limit of 1 s")), "{problem:?}");
    nothing_is_left(client).await;
    // The caller leaves.
    let stream = client.run_fresh(&fresh(&["sleep", "600"], image)).await.unwrap();
    until("it is there", Duration::from_secs(20), async || one_off_is_there(client).await).await;
    drop(stream);
    nothing_is_left(client).await;
    // What cannot be done is said before or after, and leaves nothing.
    let mut wish = fresh(&["true"], image);
    wish.definition.restart.policy = "always".into();
    let error = client.run_fresh(&wish).await.err().expect("an error").to_string();
    assert!(error.contains("cannot have a restart policy"), "{error}");
    let wish = fresh(&["true"], "registry.tarnvalley.example/never-made:1");
    let said = match client.run_fresh(&wish).await {
        Ok(stream) => whole(stream).await.3.unwrap_or_default(),
        Err(error) => error.to_string(),
    };
    assert!(said.contains("not have the image"), "{said}");
    nothing_is_left(client).await;
    let ended = async || {
        let audit = client.audit().await.unwrap();
        audit.iter().any(|e| e.action == "run-once-finished" && e.outcome.contains("exit code 4"))
    };
    until("its end is written down", Duration::from_secs(10), ended).await;
}

/// Joined to a container's own process: its words from now on, keys to it, and leaving it as it is.
async fn joined(client: &Client) {
    let wish = NewTerminal { attach: true, ..wish("packhouse/loud") };
    let opened = client.open_terminal(&wish).await.unwrap();
    let mut held = client.hold_terminal(&opened.id).await.unwrap();
    held.resize(100, 30).await.unwrap();
    types(&mut held, "words for it\r").await;
    reads(&mut held, "words for it").await;
    client.close_terminal(&opened.id).await.unwrap();
    let end = ends(&mut held).await;
    assert!(end.sentence.contains("the container keeps running"), "{end:?}");
    let still = client.containers(&[]).await.unwrap();
    assert!(still.iter().any(|c| c.name == "loud" && c.state.is_alive()));
    // Its end is the terminal's.
    let opened = client.open_terminal(&wish).await.unwrap();
    let mut held = client.hold_terminal(&opened.id).await.unwrap();
    types(&mut held, "\x03").await;
    let end = ends(&mut held).await;
    assert_eq!(end.exit_code, Some(130), "{end:?}");
    until("it is seen", Duration::from_secs(20), async || {
        !client.containers(&[]).await.unwrap().iter().any(|c| c.name == "loud" && c.state.is_alive())
    })
    .await;
    let error = client.open_terminal(&wish).await.unwrap_err().to_string();
    assert!(error.contains("is not running"), "{error}");
}

#[tokio::test(flavor = "multi_thread")]
async fn alone_and_joined_on_the_simulated_engine() {
    let bench = Bench::with(&["packhouse"]).await;
    let image = "registry.tarnvalley.example/api:1";
    let mut spec = gubernum_sim::ContainerSpec::new("loud", image);
    spec.terminal = true;
    bench.hosts[0].run(spec);
    bench.until("it is there", async |b| b.one("packhouse", "loud").await.is_some()).await;
    alone(&bench.client, image).await;
    joined(&bench.client).await;
}

async fn on_real(engine: RealEngine) {
    let folder = tempfile::tempdir().unwrap();
    let service = start(folder.path(), None, Default::default()).await;
    let client = claim(&service).await;
    let address = engine.endpoint().to_string();
    let host =
        NewHost { name: "packhouse".into(), address, tls: None, ports_address: None, groups: Vec::new() };
    client.add_host(&host).await.unwrap();
    engine.tool(&["run", "--detach", "--network=none", "--name", "box", IMAGE, "sleep", "1000"]).unwrap();
    until("it is known", Duration::from_secs(20), async || {
        client.containers(&[]).await.unwrap().iter().any(|c| c.name == "box" && c.started.is_some())
    })
    .await;
    assert!(client.shells("packhouse/box").await.unwrap().shells.contains(&"/bin/sh".to_owned()));
    talk(&client, "packhouse/box").await;
    alone(&client, IMAGE).await;
    let loud = "trap 'exit 130' INT; while true; do read -r line && echo \"heard $line\"; done";
    let run = ["run", "--detach", "--tty", "--interactive", "--network=none", "--name", "loud", IMAGE];
    engine.tool(&[&run[..], &["sh", "-c", loud]].concat()).unwrap();
    until("it is known", Duration::from_secs(20), async || {
        client.containers(&[]).await.unwrap().iter().any(|c| c.name == "loud" && c.state.is_alive())
    })
    .await;
    joined(&client).await;

    // A paste of 100 kB arrives whole, in a program that counts it.
    let opened = client.open_terminal(&wish("packhouse/box")).await.unwrap();
    let mut held = client.hold_terminal(&opened.id).await.unwrap();
    types(&mut held, "head -c 100000 | wc -c\r").await;
    reads(&mut held, "wc -c").await;
    let line = format!("{}\n", "x".repeat(99));
    let paste = line.repeat(1000);
    for piece in paste.as_bytes().chunks(16 * 1024) {
        held.keys(Bytes::copy_from_slice(piece)).await.unwrap();
    }
    reads(&mut held, "100000").await;
    // Interrupt: what runs is ended, the shell goes on.
    types(&mut held, "sleep 500\r").await;
    reads(&mut held, "sleep 500").await;
    tokio::time::sleep(Duration::from_millis(300)).await;
    types(&mut held, "\x03").await;
    types(&mut held, "echo af\"ter\"\r").await;
    reads(&mut held, "af").await;
    // Closing ends the shell's processes in the container too.
    client.close_terminal(&opened.id).await.unwrap();
    ends(&mut held).await;
    until("no shell is left", Duration::from_secs(20), async || {
        let processes = engine.tool(&["exec", "box", "ps"]).unwrap_or_default();
        !processes.lines().any(|l| l.trim_end().ends_with("sh") && !l.contains("sleep"))
    })
    .await;
    // The container ends, and the terminal says so.
    let opened = client.open_terminal(&wish("packhouse/box")).await.unwrap();
    let mut held = client.hold_terminal(&opened.id).await.unwrap();
    engine.tool(&["rm", "--force", "box"]).unwrap();
    let end = ends(&mut held).await;
    assert!(!end.sentence.is_empty());
    println!("the container is gone: {}", end.sentence);
    service.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_terminal_on_dockerd() {
    on_real(RealEngine::dockerd().unwrap()).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_terminal_on_podman() {
    on_real(RealEngine::podman().unwrap()).await;
}
