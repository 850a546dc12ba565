//! Logs through the service.

use std::time::Duration;

use gubernum_api::logs::LogRequest;
use gubernum_api::requests::{NewOperation, Request, StartRequest};
use gubernum_api::views::Line;
use gubernum_api::{FromClient, FromServer, Stream};
use gubernum_client::{ClientError, LogItem, LogOptions};
use gubernum_sim::{Action, ContainerSpec, Fault, Program};

use crate::support::Bench;

fn both() -> LogOptions {
    LogOptions { stdout: true, stderr: true, ..LogOptions::default() }
}

async fn read(bench: &Bench, reference: &str, options: &LogOptions) -> Vec<Line> {
    let mut lines = bench.client.logs(reference, options).await.unwrap();
    let mut all = Vec::new();
    while let Some(line) = lines.next().await.unwrap() {
        all.push(line);
    }
    all
}

async fn with(program: Program, terminal: bool) -> Bench {
    let bench = Bench::with(&["packhouse"]).await;
    let mut spec = ContainerSpec::new("talks", "base/toolbox:1");
    spec.program = program;
    spec.terminal = terminal;
    bench.hosts[0].run(spec);
    bench.until("talks is known", async |b| b.one("packhouse", "talks").await.is_some()).await;
    bench
}

fn talk() -> Vec<Action> {
    vec![
        Action::Out("one".into()),
        Action::Err("trouble".into()),
        Action::Bytes(b"\xff odd \x1b[31mred\r\n".to_vec()),
        Action::Long(1024 * 1024),
        Action::Out("last".into()),
    ]
}

#[tokio::test]
async fn lines_come_whole_with_stream_and_time() {
    let bench = with(Program::new([talk(), vec![Action::Exit(0)]].concat()), false).await;
    bench.until("over", async |b| b.one("packhouse", "talks").await.unwrap().exit_code.is_some()).await;
    let lines = read(&bench, "packhouse/talks", &both()).await;
    assert_eq!(lines.iter().map(|l| l.text.len()).collect::<Vec<_>>(), [3, 7, 17, 1024 * 1024, 4]);
    assert_eq!(lines[1].stream, Stream::Stderr);
    assert_eq!(lines[2].text, "\u{fffd} odd \u{1b}[31mred\r");
    assert!(lines[2].bytes.is_some() && lines[0].bytes.is_none(), "the very bytes are there where needed");
    assert!(lines.iter().all(|l| l.time.is_some() && !l.continued));
    let err = read(&bench, "packhouse/talks", &LogOptions { stdout: false, ..both() }).await;
    assert_eq!(err.iter().map(|l| l.text.as_str()).collect::<Vec<_>>(), ["trouble"]);
    let tail = read(&bench, "talks", &LogOptions { tail: Some(1), ..both() }).await;
    assert_eq!(tail.iter().map(|l| l.text.as_str()).collect::<Vec<_>>(), ["last"]);
}

#[tokio::test]
async fn a_log_that_breaks_off_is_not_taken_for_a_whole_one() {
    let bench = with(Program::new([talk(), vec![Action::Exit(0)]].concat()), false).await;
    bench.until("over", async |b| b.one("packhouse", "talks").await.unwrap().exit_code.is_some()).await;
    bench.hosts[0].set_fault(Fault::CutShort).unwrap();
    let mut lines = bench.client.logs("packhouse/talks", &both()).await.unwrap();
    let mut seen = 0;
    let error = loop {
        match lines.next().await {
            Ok(Some(_)) => seen += 1,
            Ok(None) => panic!("half a log looks whole"),
            Err(error) => break error,
        }
    };
    assert!(seen >= 3, "what came before is told");
    assert!(matches!(error, ClientError::Problem(_)), "{error:?}");
}

#[tokio::test]
async fn text_form_gives_the_very_bytes() {
    let bench = with(Program::new([talk(), vec![Action::Exit(0)]].concat()), false).await;
    bench.until("over", async |b| b.one("packhouse", "talks").await.unwrap().exit_code.is_some()).await;
    let path = "/api/v1/containers/packhouse/talks/logs?format=text&stderr=false";
    let (_, text) = bench.client.raw(reqwest::Method::GET, path, None).await.unwrap();
    let expected = [&b"one\n\xff odd \x1b[31mred\r\n"[..], &vec![b'x'; 1024 * 1024], b"\nlast\n"].concat();
    assert!(text == expected, "{} bytes instead of {}", text.len(), expected.len());
}

#[tokio::test]
async fn a_terminal_is_one_stream() {
    let bench = with(Program::new([talk(), vec![Action::Exit(0)]].concat()), true).await;
    bench.until("over", async |b| b.one("packhouse", "talks").await.unwrap().exit_code.is_some()).await;
    let lines = read(&bench, "packhouse/talks", &both()).await;
    assert_eq!(lines.len(), 5);
    assert!(lines.iter().all(|l| l.stream == Stream::Terminal && l.time.is_some()));
    assert_eq!(lines[3].text.len(), 1024 * 1024);
}

#[tokio::test]
async fn a_follow_goes_on_over_an_end_and_says_when_the_engine_goes_away() {
    let bench = with(
        Program::new([talk(), vec![Action::Wait(600), Action::Out("late".into()), Action::Exit(0)]].concat()),
        false,
    )
    .await;
    let mut lines =
        bench.client.logs("packhouse/talks", &LogOptions { follow: true, ..both() }).await.unwrap();
    let mut texts = Vec::new();
    while texts.last().is_none_or(|t| t != "late") {
        texts.push(lines.next().await.unwrap().unwrap().text);
    }
    // It ends and is started again: its lines go on, those from before are not repeated.
    bench
        .client
        .submit(
            &NewOperation::new(Request::Start(StartRequest::default()), vec!["packhouse/talks".into()]),
            None,
        )
        .await
        .unwrap();
    let again = tokio::time::timeout(Duration::from_secs(10), lines.next()).await.expect("it goes on");
    assert_eq!(again.unwrap().unwrap().text, "one");
    // A host that goes away while one reads: that is said, and the log goes on when it is back.
    let mut lines = bench.client.logs("packhouse/api", &LogOptions { follow: true, ..both() }).await.unwrap();
    let id = bench.one("packhouse", "api").await.unwrap().id;
    bench.hosts[0].write_log(&id, false, "before");
    assert_eq!(lines.next().await.unwrap().unwrap().text, "before");
    bench.hosts[0].set_fault(Fault::Refusing).unwrap();
    let said = tokio::time::timeout(Duration::from_secs(10), lines.next_or_note()).await.expect("it is said");
    let Ok(Some(LogItem::Note(note))) = said else { panic!("{said:?}") };
    assert!(note.contains("Reconnecting"), "{note}");
    bench.hosts[0].write_log(&id, false, "meanwhile");
    bench.hosts[0].set_fault(Fault::None).unwrap();
    let back = tokio::time::timeout(Duration::from_secs(30), lines.next()).await.expect("it is back");
    assert_eq!(back.unwrap().unwrap().text, "meanwhile");
}

fn number(line: &str) -> u64 {
    line.split(' ').nth(1).and_then(|n| n.parse().ok()).unwrap_or_else(|| panic!("{line}"))
}

#[tokio::test]
async fn over_the_live_connection_lines_are_paid_for() {
    let bench = with(Program::new(vec![Action::Flood]), false).await;
    let mut live = bench.client.live().await.unwrap();
    let wish =
        LogRequest { references: vec!["packhouse/talks".into()], follow: true, ..LogRequest::default() };
    live.send(&FromClient::Logs { id: 3, wish }).await.unwrap();
    let mut next = 1;
    let mut cost = 0;
    // Without a word of ours, only so much comes.
    loop {
        let message = tokio::time::timeout(Duration::from_millis(700), live.next()).await;
        let Ok(message) = message else { break };
        let Some(FromServer::Lines { id: 3, lines, bytes }) = message.unwrap() else { panic!("lines") };
        cost += bytes;
        for line in lines {
            assert_eq!(number(&line.line.text), next);
            next += 1;
        }
    }
    assert!(cost > 100_000 && cost <= gubernum_api::live::LOG_CREDIT, "{cost}");
    // Other things pass meanwhile.
    live.send(&FromClient::Fleet { id: 1, since: None }).await.unwrap();
    assert!(matches!(live.next().await.unwrap(), Some(FromServer::Snapshot { .. })));
    // And with our word it continues where it was.
    live.send(&FromClient::Taken { id: 3, bytes: cost }).await.unwrap();
    let Some(FromServer::Lines { lines, .. }) = live.next().await.unwrap() else { panic!("lines") };
    assert_eq!(number(&lines[0].line.text), next);
    live.send(&FromClient::Stop { id: 3 }).await.unwrap();
}
