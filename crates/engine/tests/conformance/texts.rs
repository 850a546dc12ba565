//! Logs.

use std::time::Duration;

use gubernum_core::logs::{LogLine, Stream};
use gubernum_engine::logs::LogQuery;
use gubernum_sim::{Action, Program};
use gubernum_testbed::bed::{Bed, BedKind};
use serde_json::json;

use crate::ended;

async fn read(bed: &Bed, id: &str, terminal: bool, query: &LogQuery) -> Vec<LogLine> {
    let mut reader = bed.engine.logs(id, terminal, query).await.unwrap();
    let mut all = Vec::new();
    while let Some(lines) = reader.next().await.unwrap() {
        all.extend(lines);
    }
    all
}

fn texts(lines: &[LogLine], stream: Stream) -> Vec<String> {
    lines
        .iter()
        .filter(|l| l.stream == stream)
        .map(|l| String::from_utf8_lossy(&l.bytes).into_owned())
        .collect()
}

/// Waits until a line has been written.
pub(crate) async fn wait_for_line(bed: &Bed, id: &str, text: &str) {
    let mut reader =
        bed.engine.logs(id, false, &LogQuery { follow: true, ..LogQuery::default() }).await.unwrap();
    while let Some(lines) = reader.next().await.unwrap() {
        if lines.iter().any(|l| l.bytes == text.as_bytes()) {
            return;
        }
    }
    panic!("'{text}' never came");
}

fn talker() -> Program {
    Program::new(vec![
        Action::Out("one".into()),
        Action::Err("first trouble".into()),
        Action::Out(String::new()),
        Action::Out("two".into()),
        Action::Err("second trouble".into()),
        Action::Bytes(b"unended".to_vec()),
        Action::Exit(0),
    ])
}

pub(crate) async fn streams_come_apart_with_times(bed: &Bed) {
    let id = bed.run("talks", &talker(), json!({})).await.unwrap();
    ended(bed, &id).await;
    let lines = read(bed, &id, false, &LogQuery::default()).await;
    assert_eq!(texts(&lines, Stream::Stdout), ["one", "", "two", "unended"]);
    assert_eq!(texts(&lines, Stream::Stderr), ["first trouble", "second trouble"]);
    for line in &lines {
        let age = jiff::Timestamp::now().duration_since(line.time.expect("a time"));
        assert!(age.abs() < jiff::SignedDuration::from_mins(2), "{age}");
    }
    if bed.kind != BedKind::Podman {
        let fine = lines.iter().any(|l| l.time.unwrap().subsec_nanosecond() % 1000 != 0);
        assert!(fine, "times to the nanosecond");
    }
}

pub(crate) async fn one_stream_alone(bed: &Bed) {
    let id = bed.run("talks-apart", &talker(), json!({})).await.unwrap();
    ended(bed, &id).await;
    let out = read(bed, &id, false, &LogQuery { stderr: false, ..LogQuery::default() }).await;
    assert_eq!(texts(&out, Stream::Stdout), ["one", "", "two", "unended"]);
    assert!(texts(&out, Stream::Stderr).is_empty());
    let err = read(bed, &id, false, &LogQuery { stdout: false, ..LogQuery::default() }).await;
    assert_eq!(texts(&err, Stream::Stderr), ["first trouble", "second trouble"]);
    assert!(texts(&err, Stream::Stdout).is_empty());
}

pub(crate) async fn tail_gives_the_last_lines(bed: &Bed) {
    let actions = (1..=30).map(|n| Action::Out(format!("line {n}"))).chain([Action::Exit(0)]).collect();
    let id = bed.run("thirty", &Program::new(actions), json!({})).await.unwrap();
    ended(bed, &id).await;
    let last = read(bed, &id, false, &LogQuery { tail: Some(3), ..LogQuery::default() }).await;
    assert_eq!(texts(&last, Stream::Stdout), ["line 28", "line 29", "line 30"]);
    let none = read(bed, &id, false, &LogQuery { tail: Some(0), ..LogQuery::default() }).await;
    assert!(none.is_empty());
    let all = read(bed, &id, false, &LogQuery { tail: Some(500), ..LogQuery::default() }).await;
    assert_eq!(all.len(), 30);
}

pub(crate) async fn since_and_until_bound_the_lines(bed: &Bed) {
    let program = Program::new(vec![
        Action::Out("early".into()),
        Action::Wait(2500),
        Action::Out("middle".into()),
        Action::Wait(2500),
        Action::Out("late".into()),
        Action::Exit(0),
    ]);
    let id = bed.run("spaced", &program, json!({})).await.unwrap();
    ended(bed, &id).await;
    let all = read(bed, &id, false, &LogQuery::default()).await;
    let middle = all[1].time.unwrap();
    let since = read(bed, &id, false, &LogQuery { since: Some(middle), ..LogQuery::default() }).await;
    assert_eq!(texts(&since, Stream::Stdout), ["middle", "late"], "since is inclusive");
    let until = read(bed, &id, false, &LogQuery { until: Some(middle), ..LogQuery::default() }).await;
    assert_eq!(texts(&until, Stream::Stdout), ["early", "middle"], "until is inclusive");
    let both = LogQuery { since: Some(middle), until: Some(middle), ..LogQuery::default() };
    assert_eq!(texts(&read(bed, &id, false, &both).await, Stream::Stdout), ["middle"]);
}

pub(crate) async fn a_megabyte_line_and_odd_bytes_survive(bed: &Bed) {
    let odd = b"\xff\xfe bad \xc3\x28 utf-8 \x1b[31mred\x1b[0m 10%\r20%\rdone\ttab\n";
    let program = Program::new(vec![
        Action::Out("before".into()),
        Action::Long(1024 * 1024),
        Action::Bytes(odd.to_vec()),
        Action::Out("after".into()),
        Action::Exit(0),
    ]);
    let id = bed.run("odd", &program, json!({})).await.unwrap();
    ended(bed, &id).await;
    let lines = read(bed, &id, false, &LogQuery::default()).await;
    // dockerd's own log keeps text: each byte that is not UTF-8 is U+FFFD by the time we see it.
    let expected = match bed.kind {
        BedKind::Dockerd => String::from_utf8_lossy(&odd[..odd.len() - 1]).into_owned().into_bytes(),
        _ => odd[..odd.len() - 1].to_vec(),
    };
    assert_eq!(lines.iter().map(|l| l.bytes.len()).collect::<Vec<_>>(), [6, 1024 * 1024, expected.len(), 5]);
    assert!(lines[1].bytes.iter().all(|&b| b == b'x') && !lines[1].continued);
    assert_eq!(lines[2].bytes, expected);
}

pub(crate) async fn a_terminal_is_one_stream(bed: &Bed) {
    let program = Program::new(vec![
        Action::Out("on the screen".into()),
        Action::Err("also on it".into()),
        Action::Long(40_000),
        Action::Out("last".into()),
        Action::Exit(0),
    ]);
    let id = bed.run("screen", &program, json!({"Tty": true})).await.unwrap();
    let c = ended(bed, &id).await;
    assert!(c.terminal);
    let lines = read(bed, &id, true, &LogQuery::default()).await;
    let seen = texts(&lines, Stream::Terminal);
    assert_eq!(
        seen.iter().map(String::len).collect::<Vec<_>>(),
        [13, 10, 40_000, 4],
        "{:.200}",
        seen.join("|")
    );
    assert!(seen[2].bytes().all(|b| b == b'x'));
    assert_eq!((seen[0].as_str(), seen[3].as_str()), ("on the screen", "last"));
    assert!(lines.iter().all(|l| l.time.is_some()));
}

pub(crate) async fn a_follow_goes_on_and_ends_with_the_container(bed: &Bed) {
    let program = Program::new(vec![
        Action::Out("one".into()),
        Action::Wait(700),
        Action::Out("two".into()),
        Action::Wait(700),
        Action::Out("three".into()),
        Action::Exit(0),
    ]);
    let id = bed.run("slowly", &program, json!({})).await.unwrap();
    let followed = read(bed, &id, false, &LogQuery { follow: true, ..LogQuery::default() }).await;
    assert_eq!(texts(&followed, Stream::Stdout), ["one", "two", "three"]);
}

pub(crate) async fn a_quiet_follow_waits_and_can_be_dropped(bed: &Bed) {
    let id = bed.run("quiet", &Program::idle(), json!({})).await.unwrap();
    let query = LogQuery { follow: true, tail: Some(0), ..LogQuery::default() };
    let quiet = tokio::time::timeout(Duration::from_millis(800), async {
        let mut reader = bed.engine.logs(&id, false, &query).await.unwrap();
        reader.next().await.map(|lines| lines.map(|l| l.len()))
    });
    assert!(quiet.await.is_err(), "nothing comes and nothing ends");
    bed.engine.remove(&id, true, true).await.unwrap();
}
