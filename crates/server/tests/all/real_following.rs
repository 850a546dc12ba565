//! Real engines: ten containers are followed over forty edits, some of which come back, and over a recreation by the
//! engine's own client. Every line comes once, in order, under the container's lasting name; so it is kept.

use std::collections::BTreeMap;
use std::sync::{Arc, Mutex};
use std::time::Duration;

use gubernum_api::logs::{KeepScope, NewKeepRule};
use gubernum_api::requests::{EditRequest, NewHost, NewOperation, Request};
use gubernum_api::{Operation, OperationState, State};
use gubernum_client::{Client, LogOptions, MergedItem};
use gubernum_testbed::hosts::HostNet;

use crate::support::{claim, start, until};

const ROWS: usize = 10;
const ROUNDS: usize = 4;
/// One engine at a time: twenty shells that start a program for each line are more than a small machine can do beside the edits.
static ONE_AT_A_TIME: tokio::sync::Mutex<()> = tokio::sync::Mutex::const_new(());
const IMAGE: &str = "localhost/tarn/row:1";
/// Says `run number`, four times a second, and `run end number` when it is asked to end. With `CRASH` it fails by itself.
const PROGRAM: &str = r#"run=$(cat /proc/sys/kernel/random/uuid); n=0; asked=
finish() { echo "$run end $n"; exit $1; }
trap 'asked=yes' TERM
while true; do echo "$run $n"; n=$((n+1)); [ -n "$CRASH" ] && [ $n -gt 3 ] && finish 3; sleep 0.25 & wait $!; [ -n "$asked" ] && finish 0; done"#;

async fn over(client: &Client, id: u64) -> Operation {
    until("the operation is over", Duration::from_secs(120), async || {
        client.operation(id).await.unwrap().state != OperationState::Running
    })
    .await;
    client.operation(id).await.unwrap()
}

async fn edit(client: &Client, row: usize, round: usize, crash: bool) -> u64 {
    let reference = format!("packhouse/row-{row}");
    let mut definition = client.definition(&reference).await.unwrap().definition;
    definition.labels.insert("round".into(), round.to_string());
    definition.environment.retain(|e| e.name != "CRASH");
    if crash {
        definition
            .environment
            .push(serde_json::from_value(serde_json::json!({"name": "CRASH", "value": "yes"})).unwrap());
    }
    let wish = NewOperation::new(
        Request::Edit(EditRequest {
            definition: Box::new(definition),
            watch_seconds: Some(1),
            ..EditRequest::default()
        }),
        vec![reference],
    );
    client.submit(&wish, None).await.unwrap().id
}

/// Holds the lines of one source to the promise; returns how many runs there were, and how many of them have ended. `other` is what
/// another reading of the same has: it tells where a line was lost.
fn checked(source: &str, lines: &[String], other: &[String]) -> (usize, usize) {
    let (mut runs, mut ended) = (Vec::<String>::new(), 0);
    let mut next = 0;
    for line in lines {
        let parts: Vec<&str> = line.split(' ').collect();
        if runs.last().is_none_or(|r| r != parts[0]) {
            assert!(!runs.iter().any(|r| r == parts[0]), "{source}: a run comes twice: {line}");
            runs.push(parts[0].to_owned());
            next = 0;
        }
        match parts[1..] {
            ["end", n] => {
                assert_eq!(n, next.to_string(), "{source}: {line}");
                ended += 1;
            }
            [n] => {
                let missing = format!("{} {next}", parts[0]);
                let elsewhere = if other.contains(&missing) { "has it" } else { "has it neither" };
                assert_eq!(
                    n,
                    next.to_string(),
                    "{source}: a line is missing or repeated, the other reading {elsewhere}: {lines:#?}"
                );
                next += 1;
            }
            _ => panic!("{source}: {line}"),
        }
    }
    (runs.len(), ended)
}

fn by_source(lines: Vec<(String, String)>) -> BTreeMap<String, Vec<String>> {
    let mut all: BTreeMap<String, Vec<String>> = BTreeMap::new();
    for (source, text) in lines {
        all.entry(source).or_default().push(text);
    }
    all
}

async fn on(net: HostNet) {
    let folder = tempfile::tempdir().unwrap();
    let service = start(folder.path(), None, Default::default()).await;
    let client = claim(&service).await;
    let host = &net.hosts()[0];
    let add = NewHost {
        name: "packhouse".into(),
        address: host.socket_address(),
        tls: None,
        ports_address: None,
        groups: Vec::new(),
    };
    client.add_host(&add).await.unwrap();
    let rule = NewKeepRule { scope: KeepScope::All, value: String::new(), days: 14, bytes: 1 << 30 };
    client.keep_logs(&rule).await.unwrap();
    host.make_image(net.archive(), IMAGE, &["sh", "-c", PROGRAM]).unwrap();
    let run = |row: usize| {
        let name = format!("row-{row}");
        host.tool(&["run", "--detach", "--network=none", "--name", &name, IMAGE]).unwrap();
    };
    (0..ROWS).for_each(run);
    let up = async || {
        let all = client.containers(&[]).await.unwrap();
        assert!(all.iter().all(|c| !c.name.contains("-next-") && !c.name.contains("-before-")), "{all:?}");
        all.iter().filter(|c| c.name.starts_with("row-") && c.state == State::Running).count() == ROWS
    };
    until("all run", Duration::from_secs(60), up).await;

    let fields = [("reference", "packhouse/row-*".to_owned()), ("follow", "true".to_owned())];
    let mut many = client.merged_logs(&fields).await.unwrap();
    let heard: Arc<Mutex<Vec<(String, String)>>> = Arc::default();
    let hears = heard.clone();
    let merged = tokio::spawn(async move {
        while let Ok(Some(item)) = many.next().await {
            match item {
                MergedItem::Line(line) if line.line.text == "over" => break,
                MergedItem::Line(line) => hears.lock().unwrap().push((line.source, line.line.text)),
                _ => {}
            }
        }
    });
    let options = LogOptions { follow: true, stdout: true, stderr: true, ..LogOptions::default() };
    let mut one = client.logs("packhouse/row-0", &options).await.unwrap();
    let (stop, mut stopped) = tokio::sync::oneshot::channel::<()>();
    let single = tokio::spawn(async move {
        let mut lines = Vec::new();
        loop {
            tokio::select! {
                line = one.next() => match line.unwrap() {
                    Some(line) => lines.push(line.text),
                    None => break,
                },
                _ = &mut stopped => break,
            }
        }
        lines
    });

    let mut failed = 0;
    for round in 0..ROUNDS {
        let mut ids = Vec::new();
        for row in 0..ROWS {
            ids.push(edit(&client, row, round, round % 2 == 1 && row % 2 == 0).await);
        }
        for id in ids {
            let operation = over(&client, id).await;
            println!("round {round}: {:?}", operation.targets[0].sentence);
            failed += usize::from(operation.state == OperationState::Failed);
        }
        until("all run", Duration::from_secs(60), up).await;
    }
    assert_eq!(failed, ROUNDS / 2 * ROWS / 2, "those that crash came back, the others are done");
    // Somebody recreates one with the engine's client.
    host.tool(&["stop", "row-9"]).unwrap();
    // What an engine has thrown away nobody can read: its last line comes first.
    until("its end is heard", Duration::from_secs(20), async || {
        let heard = heard.lock().unwrap();
        heard
            .iter()
            .rfind(|(source, _)| source == "packhouse/row-9")
            .is_some_and(|(_, text)| text.contains(" end "))
    })
    .await;
    host.tool(&["rm", "row-9"]).unwrap();
    run(9);
    until("all run", Duration::from_secs(60), up).await;
    // Each says something more, and a last one says that it is over.
    tokio::time::sleep(Duration::from_secs(1)).await;
    host.tool(&["run", "--detach", "--network=none", "--name", "row-over", IMAGE, "echo", "over"]).unwrap();
    tokio::time::timeout(Duration::from_secs(30), merged).await.expect("it is followed").unwrap();
    let all = by_source(heard.lock().unwrap().clone());
    assert_eq!(all.len(), ROWS, "no temporary name: {:?}", all.keys());
    let expected = |source: &str| {
        let row: usize = source.rsplit('-').next().unwrap().parse().unwrap();
        // A crash has its own run, and the one that came back begins another.
        let crashes = if row.is_multiple_of(2) { ROUNDS / 2 } else { 0 };
        1 + ROUNDS + crashes + usize::from(row == 9)
    };
    // What is kept is the same.
    let fields = [("reference", "packhouse/row-*".to_owned())];
    let mut reading = client.merged_logs(&fields).await.unwrap();
    let mut lines = Vec::new();
    while let Some(item) = reading.next().await.unwrap() {
        if let MergedItem::Line(line) = item
            && line.line.text != "over"
        {
            lines.push((line.source, line.line.text));
        }
    }
    let kept = by_source(lines);
    for (source, lines) in &all {
        let (runs, ended) = checked(source, lines, &kept[source]);
        assert_eq!((runs, ended), (expected(source), expected(source) - 1), "{source}: {lines:#?}");
    }
    let _ = stop.send(());
    let lines = single.await.unwrap();
    let source = "packhouse/row-0";
    assert_eq!(checked(source, &lines, &all[source]).0, expected(source), "{lines:#?}");
    for (source, lines) in &kept {
        let runs = checked(source, lines, &all[source]).0;
        assert_eq!(runs, expected(source), "kept of {source}: {lines:#?}");
    }
    let told = client.timeline(&[("limit", "1000".to_owned())]).await.unwrap();
    let odd: Vec<_> =
        told.iter().filter(|e| e.name.contains("-next-") || e.name.contains("-before-")).collect();
    assert!(odd.is_empty(), "{odd:?}");
    service.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn ten_are_followed_over_forty_edits_on_dockerd() {
    let _turn = ONE_AT_A_TIME.lock().await;
    let mut net = HostNet::new(71).unwrap();
    net.add("packhouse").unwrap();
    on(net).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn ten_are_followed_over_forty_edits_on_podman() {
    let _turn = ONE_AT_A_TIME.lock().await;
    let mut net = HostNet::new(73).unwrap();
    let address = net.registry_address().unwrap();
    net.add_podman("packhouse", &address).unwrap();
    on(net).await;
}
