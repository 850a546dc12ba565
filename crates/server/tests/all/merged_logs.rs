//! Logs of many containers, and lines that outlive theirs.

use std::cell::Cell;
use std::collections::BTreeSet;
use std::time::Duration;

use gubernum_api::logs::{KeepScope, LogRequest, NewKeepRule, SourcedLine};
use gubernum_api::{FromClient, FromServer};
use gubernum_client::MergedItem;
use gubernum_sim::{Action, ContainerSpec, Fault, Program};

use crate::support::Bench;

fn fields(all: &[(&'static str, &str)]) -> Vec<(&'static str, String)> {
    all.iter().map(|(k, v)| (*k, (*v).to_owned())).collect()
}

async fn read(bench: &Bench, wish: &[(&'static str, &str)]) -> (Vec<SourcedLine>, Vec<String>) {
    let mut stream = bench.client.merged_logs(&fields(wish)).await.unwrap();
    let (mut lines, mut notes) = (Vec::new(), Vec::new());
    while let Some(item) = stream.next().await.unwrap() {
        match item {
            MergedItem::Line(line) => lines.push(line),
            MergedItem::Note(note) => notes.push(note.note),
            MergedItem::Progress(_) => {}
        }
    }
    (lines, notes)
}

/// Runs a container of this name on a host that says these lines, and waits until it is known.
async fn says(bench: &Bench, host: usize, name: &str, lines: &[&str]) -> String {
    let mut spec = ContainerSpec::new(name, "base/toolbox:1");
    spec.program = Program::new(lines.iter().map(|l| Action::Out((*l).to_owned())).collect());
    let id = bench.hosts[host].run(spec);
    let where_ = bench.hosts[host].name().to_owned();
    bench.until("it is known", async |b| b.one(&where_, name).await.is_some()).await;
    id
}

fn in_order(lines: &[SourcedLine]) -> bool {
    lines.windows(2).all(|w| w[0].line.time <= w[1].line.time)
}

#[tokio::test]
async fn lines_of_many_are_merged_filtered_and_distinguished() {
    let bench = Bench::with(&["coldstore", "packhouse"]).await;
    for n in 0..4 {
        let lines =
            ["level=info msg=ready", "level=error msg=\"timeout after 3 s\"", "plain talk of refused fruit"];
        says(&bench, n % 2, &format!("talk-{n}"), &lines).await;
    }
    let (lines, _) = read(&bench, &[("reference", "*/talk-*")]).await;
    assert_eq!(lines.len(), 12);
    assert!(in_order(&lines), "{lines:?}");
    let (found, _) =
        read(&bench, &[("reference", "*/talk-*"), ("with", "timeout|refused"), ("without", "fruit")]).await;
    assert_eq!(found.len(), 4);
    assert_eq!((found[0].matches.clone(), found[0].level.map(|l| l.word())), (vec![(17, 24)], Some("error")));
    let (grave, _) = read(&bench, &[("reference", "packhouse/talk-*"), ("level", "warning")]).await;
    assert_eq!(
        grave.iter().map(|l| l.source.as_str()).collect::<Vec<_>>(),
        ["packhouse/talk-1", "packhouse/talk-3"]
    );
    let (tail, _) = read(&bench, &[("reference", "*/talk-*"), ("with", "level"), ("tail", "1")]).await;
    assert_eq!(tail.len(), 4, "the last one that fits, of each");
    assert!(tail.iter().all(|l| l.line.text.contains("timeout")));
    let (plain, _) = read(
        &bench,
        &[("reference", "*/talk-*"), ("with", "AFTER 3"), ("plain", "true"), ("ignore_case", "true")],
    )
    .await;
    assert_eq!(plain.len(), 4);
    let path = "/api/v1/logs?reference=*/talk-1&format=text&compress=gzip";
    let (_, packed) = bench.client.raw(reqwest::Method::GET, path, None).await.unwrap();
    let mut text = String::new();
    std::io::Read::read_to_string(&mut flate2::read::GzDecoder::new(&packed[..]), &mut text).unwrap();
    assert_eq!(text.lines().next(), Some("packhouse/talk-1 | level=info msg=ready"));
}

#[tokio::test]
async fn bad_wishes_are_pointed_at() {
    let bench = Bench::with(&["packhouse"]).await;
    for (wish, field, words) in [
        (vec![("reference", "*/api"), ("with", "mast (M")], "?with", "unclosed group (at character 6)"),
        (vec![("reference", "*/api"), ("without", "[")], "?without", "unclosed character class"),
        (vec![("reference", "*/api"), ("with", "(a{1000}){1000}")], "?with", "too complex"),
        (vec![("reference", "*/api"), ("since", "noon")], "?since", "is not a time"),
        (vec![("reference", "*/api"), ("since", "2999-01-01")], "?since", "in the future"),
        (vec![("reference", "*/api"), ("level", "loud")], "?level", "is not a level"),
        (vec![("reference", "*/nobody")], "?reference", "no container matches"),
        (vec![], "?reference", "name at least one"),
        (vec![("colour", "red")], "?colour", "unknown field"),
    ] {
        let error = match bench.client.merged_logs(&fields(&wish)).await {
            Err(gubernum_client::ClientError::Problem(problem)) => problem,
            other => panic!("{wish:?}: {:?}", other.map(|_| ())),
        };
        assert_eq!(error.field.as_deref(), Some(field), "{}", error.detail);
        assert!(error.detail.contains(words), "{}", error.detail);
    }
}

#[tokio::test]
async fn a_follow_keeps_the_order_of_a_host_and_finds_new_containers() {
    let bench = Bench::with(&["packhouse"]).await;
    let mut ids = Vec::new();
    for n in 0..5 {
        ids.push(says(&bench, 0, &format!("talk-{n}"), &["ready"]).await);
    }
    let wish = [("reference", "packhouse/talk-*"), ("follow", "true"), ("tail", "0")];
    let mut stream = bench.client.merged_logs(&fields(&wish)).await.unwrap();
    let mut seen = Vec::new();
    // Whoever follows is told of the very next line.
    let deadline = tokio::time::Instant::now() + Duration::from_secs(20);
    let mut written = 0;
    while seen.len() < 300 {
        assert!(tokio::time::Instant::now() < deadline, "{} of {written} lines", seen.len());
        if written < 400 {
            bench.hosts[0].write_log(&ids[written % 5], false, &format!("{written}"));
            written += 1;
        }
        while let Ok(item) = tokio::time::timeout(Duration::from_millis(2), stream.next()).await {
            if let Some(MergedItem::Line(line)) = item.unwrap() {
                seen.push(line);
            }
        }
    }
    assert!(in_order(&seen), "in the order of the host's own times");
    let numbers: Vec<u64> = seen.iter().map(|l| l.line.text.parse().unwrap()).collect();
    assert!(numbers.windows(2).all(|w| w[0] + 1 == w[1]), "nothing is missing: {numbers:?}");
    // One that is started later belongs to the selection too.
    says(&bench, 0, "talk-late", &["here I am"]).await;
    let late = tokio::time::timeout(Duration::from_secs(15), async {
        loop {
            if let Some(MergedItem::Line(line)) = stream.next().await.unwrap()
                && line.source == "packhouse/talk-late"
            {
                break line.line.text;
            }
        }
    });
    assert_eq!(late.await.expect("it is found"), "here I am");
}

#[tokio::test(flavor = "multi_thread")]
async fn the_last_line_of_a_log_that_its_engine_ends_in_haste_is_reported_and_kept() {
    let bench = Bench::with(&["packhouse"]).await;
    bench.hosts[0].set_fault(Fault::HastyLogs).unwrap();
    bench.client.keep_logs(&rule(KeepScope::All, "")).await.unwrap();
    let id = says(&bench, 0, "talk", &["ready"]).await;
    let wish = [("reference", "packhouse/talk"), ("follow", "true")];
    let mut stream = bench.client.merged_logs(&fields(&wish)).await.unwrap();
    let mut told = async || loop {
        if let Some(MergedItem::Line(line)) = stream.next().await.unwrap() {
            break line.line.text;
        }
    };
    let held = async |b: &Bench| b.client.kept_logs().await.unwrap()[0].held;
    bench.hosts[0].write_log(&id, false, "one apple");
    assert_eq!(told().await, "ready");
    bench.until("a line is on disk", async |b| held(b).await > 0).await;
    let before = held(&bench).await;
    bench.hosts[0].write_log(&id, false, "no more fruit");
    bench.hosts[0].end_container(&id, 3, false);
    let last = tokio::time::timeout(Duration::from_secs(10), async { (told().await, told().await) });
    let last = last.await.expect("its last line is told");
    assert_eq!(last, ("one apple".to_owned(), "no more fruit".to_owned()));
    bench.until("the last line is on disk", async |b| held(b).await > before).await;
    bench.hosts[0].remove_container(&id);
    bench.until("it is removed", async |b| b.one("packhouse", "talk").await.is_none()).await;
    assert_eq!(read(&bench, &[("reference", "packhouse/talk")]).await.0.len(), 3, "and kept");
}

#[tokio::test(flavor = "multi_thread")]
async fn fifty_containers_on_three_hosts_are_followed_in_the_order_of_each_host() {
    const EACH: usize = 17;
    const LINES: usize = 30;
    let bench = Bench::with(&["coldstore", "orchard-edge", "packhouse"]).await;
    let mut ids = Vec::new();
    for host in 0..3 {
        for n in 0..EACH.min(50 - ids.len()) {
            let mut spec = ContainerSpec::new(&format!("talk-{n}"), "base/toolbox:1");
            spec.program = Program::idle();
            ids.push((host, bench.hosts[host].run(spec)));
        }
    }
    assert_eq!(ids.len(), 50);
    bench.until("all are known", async |b| b.all().await.len() == 9 + 50).await;
    let wish = [("reference", "*/talk-*"), ("follow", "true"), ("tail", "0")];
    let mut stream = bench.client.merged_logs(&fields(&wish)).await.unwrap();
    // Each says something until all are heard: then all are being followed.
    let heard = Cell::new(0);
    let talk = async {
        while heard.get() < ids.len() {
            for (host, id) in &ids {
                bench.hosts[*host].write_log(id, false, "here");
            }
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
        for round in 0..LINES {
            for (host, id) in &ids {
                bench.hosts[*host].write_log(id, false, &format!("round {round}"));
            }
            tokio::time::sleep(Duration::from_millis(5)).await;
        }
    };
    let mut lines: Vec<SourcedLine> = Vec::new();
    let listen = async {
        let mut here = BTreeSet::new();
        while lines.len() < 50 * LINES {
            let Some(MergedItem::Line(line)) = stream.next().await.unwrap() else { continue };
            if line.line.text == "here" {
                here.insert(line.source);
                heard.set(here.len());
            } else {
                lines.push(line);
            }
        }
    };
    let all = tokio::time::timeout(Duration::from_secs(30), async { tokio::join!(talk, listen) }).await;
    assert!(all.is_ok(), "{} heard, {} lines of {}", heard.get(), lines.len(), 50 * LINES);
    for host in ["coldstore/", "orchard-edge/", "packhouse/"] {
        let of_host: Vec<SourcedLine> =
            lines.iter().filter(|l| l.source.starts_with(host)).cloned().collect();
        assert!(in_order(&of_host), "{host}: in the order of its own times");
    }
    for n in 0..EACH {
        let source = format!("packhouse/talk-{n}");
        let mine: Vec<&str> =
            lines.iter().filter(|l| l.source == source).map(|l| l.line.text.as_str()).collect();
        let expected: Vec<String> = (0..LINES).map(|round| format!("round {round}")).collect();
        assert!(mine.is_empty() || mine == expected, "{source}: {mine:?}");
    }
}

/// A log takes a while to be opened on a host that answers slowly; what others say meanwhile waits for it.
#[tokio::test]
async fn a_host_that_opens_its_logs_slowly_comes_in_order_too() {
    let bench = Bench::with(&["coldstore", "packhouse"]).await;
    let mut ids = Vec::new();
    for host in &bench.hosts {
        let mut spec = ContainerSpec::new("talk", "base/toolbox:1");
        spec.program = Program::idle();
        ids.push(host.run(spec));
    }
    bench
        .until("both are known", async |b| b.all().await.iter().filter(|c| c.name == "talk").count() == 2)
        .await;
    bench.hosts[1].set_fault(Fault::Slow(Duration::from_millis(300))).unwrap();
    let wish = [("reference", "*/talk"), ("follow", "true"), ("tail", "0")];
    let mut stream = bench.client.merged_logs(&fields(&wish)).await.unwrap();
    let (heard, total) = (Cell::new(false), Cell::new(None));
    // They talk until the slow one has been heard of, and a little longer: then both are being followed.
    let talk = async {
        let (mut said, mut more) = (0, 20);
        while more > 0 {
            for (host, id) in bench.hosts.iter().zip(&ids) {
                host.write_log(id, false, &said.to_string());
                said += 1;
            }
            more -= u32::from(heard.get());
            tokio::time::sleep(Duration::from_millis(10)).await;
        }
        total.set(Some(said));
    };
    let listen = async {
        let mut seen: Vec<(String, usize)> = Vec::new();
        while total.get().is_none_or(|total| seen.iter().all(|(_, n)| n + 1 != total)) {
            if let Some(MergedItem::Line(line)) = stream.next().await.unwrap() {
                heard.set(heard.get() || line.source == "packhouse/talk");
                seen.push((line.source, line.line.text.parse().unwrap()));
            }
        }
        seen
    };
    let both = tokio::time::timeout(Duration::from_secs(30), async { tokio::join!(talk, listen).1 });
    let seen = both.await.expect("the last line comes");
    assert!(seen.windows(2).all(|w| w[0].1 < w[1].1), "in the order of the times: {seen:?}");
    for source in ["coldstore/talk", "packhouse/talk"] {
        let mine: Vec<usize> = seen.iter().filter(|(s, _)| s == source).map(|(_, n)| *n).collect();
        assert!(
            mine.len() >= 20 && mine.windows(2).all(|w| w[0] + 2 == w[1]),
            "nothing is missing: {mine:?}"
        );
    }
}

#[tokio::test]
async fn a_host_that_is_gone_is_said_and_the_others_are_read() {
    let bench = Bench::with(&["coldstore", "packhouse"]).await;
    says(&bench, 0, "talk", &["cold"]).await;
    says(&bench, 1, "talk", &["pack"]).await;
    bench.hosts[0].set_fault(Fault::Refusing).unwrap();
    bench
        .until("it is lost", async |b| b.client.hosts().await.unwrap().iter().any(|h| h.problem.is_some()))
        .await;
    let (lines, notes) = read(&bench, &[("reference", "*/talk")]).await;
    assert_eq!(lines.iter().map(|l| l.line.text.as_str()).collect::<Vec<_>>(), ["pack"]);
    assert!(notes.iter().any(|n| n.contains("'coldstore' is unreachable")), "{notes:?}");
}

#[tokio::test]
async fn over_the_live_connection_too() {
    let bench = Bench::with(&["packhouse"]).await;
    says(&bench, 0, "talk-1", &["one", "two"]).await;
    let mut live = bench.client.live().await.unwrap();
    let wish = LogRequest {
        references: vec!["*/talk-*".into()],
        with: vec!["t(w)o".into()],
        ..LogRequest::default()
    };
    live.send(&FromClient::Logs { id: 9, wish }).await.unwrap();
    let mut texts = Vec::new();
    loop {
        match live.next().await.unwrap() {
            Some(FromServer::Lines { id: 9, lines, .. }) => {
                texts.extend(lines.into_iter().map(|l| l.line.text))
            }
            Some(FromServer::Ended { id: 9, problem: None }) => break,
            Some(_) => {}
            None => panic!("the connection stays"),
        }
    }
    assert_eq!(texts, ["two"]);
    let wish =
        LogRequest { references: vec!["*/talk-*".into()], with: vec!["(".into()], ..LogRequest::default() };
    live.send(&FromClient::Logs { id: 10, wish }).await.unwrap();
    let Some(FromServer::Refused { id: Some(10), problem }) = live.next().await.unwrap() else {
        panic!("refused")
    };
    assert_eq!(problem.field.as_deref(), Some("/wish/with"));
}

fn rule(scope: KeepScope, value: &str) -> NewKeepRule {
    NewKeepRule { scope, value: value.to_owned(), days: 14, bytes: 1 << 30 }
}

#[tokio::test(flavor = "multi_thread")]
async fn kept_lines_outlive_the_container_the_engine_and_the_service() {
    let mut bench = Bench::with(&["packhouse"]).await;
    let id = says(&bench, 0, "talk", &["line 0", "line 1"]).await;
    bench.client.keep_logs(&rule(KeepScope::Container, "packhouse/talk")).await.unwrap();
    let held = async |b: &Bench| b.client.kept_logs().await.unwrap()[0].held;
    bench.until("the first lines are on disk", async |b| held(b).await > 0).await;
    let expected = |to: usize| (0..to).map(|n| format!("line {n}")).collect::<Vec<_>>();
    let wish = [("reference", "packhouse/talk")];
    let texts = |lines: Vec<SourcedLine>| lines.into_iter().map(|l| l.line.text).collect::<Vec<_>>();
    // Search runs over what is kept and what is not yet, and nobody notices.
    bench.hosts[0].write_log(&id, false, "line 2");
    assert_eq!(texts(read(&bench, &wish).await.0), expected(3));
    // The engine is restarted while the container lives on; then the service.
    bench.hosts[0].restart_engine(Duration::from_millis(300)).await.unwrap();
    bench.hosts[0].write_log(&id, false, "line 3");
    bench.restart().await;
    bench.until("it is known again", async |b| b.one("packhouse", "talk").await.is_some()).await;
    bench.hosts[0].write_log(&id, false, "line 4");
    let size = held(&bench).await;
    bench.until("the later lines are on disk", async |b| held(b).await > size).await;
    // All are there once, also those that the engine could not tell while it was away.
    bench
        .until("all are on disk", async |b| {
            let kept = gubernum_store::segments::Segments::new(&b.folder.path().join("logs"));
            let mut count = 0;
            for segment in kept.list("packhouse", "talk") {
                let mut reader = gubernum_store::segments::Reader::open(&segment.path).unwrap();
                while let Some(Ok(block)) = reader.next(i64::MIN, i64::MAX) {
                    count += block.metas.len();
                }
            }
            count == 5
        })
        .await;
    bench.hosts[0].remove_container(&id);
    bench.until("it is removed", async |b| b.one("packhouse", "talk").await.is_none()).await;
    assert_eq!(texts(read(&bench, &wish).await.0), expected(5), "its lines are still there");
    assert_eq!(texts(read(&bench, &[("reference", "*/talk"), ("with", "3$")]).await.0), ["line 3"]);
    assert_eq!(texts(read(&bench, &[("reference", "*/talk"), ("tail", "2")]).await.0), ["line 3", "line 4"]);
}

#[tokio::test(flavor = "multi_thread")]
async fn damaged_kept_lines_are_named_and_the_rest_is_served() {
    let bench = Bench::with(&["packhouse"]).await;
    let segments = gubernum_store::segments::Segments::new(&bench.folder.path().join("logs"));
    let mut writer = segments.write("packhouse", "gone", "ab12").unwrap();
    for n in 0..3 {
        let time = jiff::Timestamp::from_second(1_790_000_000 + n).ok();
        let bytes = format!("line {n}").into_bytes();
        let stream = gubernum_api::Stream::Stdout;
        writer.push(&gubernum_core::logs::LogLine { stream, time, bytes, continued: false }).unwrap();
        writer.flush().unwrap();
    }
    drop(writer);
    let path = segments.list("packhouse", "gone")[0].path.clone();
    let mut bytes = std::fs::read(&path).unwrap();
    let middle = 72 + (bytes.len() - 72) / 2;
    bytes[middle] ^= 0xff;
    std::fs::write(&path, bytes).unwrap();
    let (lines, notes) = read(&bench, &[("reference", "packhouse/gone")]).await;
    assert_eq!(lines.len(), 2, "{lines:?}");
    assert!(notes.iter().any(|n| n.contains("damaged and was skipped")), "{notes:?}");
}

#[tokio::test]
async fn rules_are_checked_and_the_narrowest_wins() {
    let bench = Bench::with(&["packhouse"]).await;
    for (bad, field) in [
        (NewKeepRule { days: 0, ..rule(KeepScope::All, "") }, "/days"),
        (NewKeepRule { bytes: 5, ..rule(KeepScope::All, "") }, "/bytes"),
        (rule(KeepScope::All, "x"), "/value"),
        (rule(KeepScope::Stack, ""), "/value"),
        (rule(KeepScope::Container, "*/x"), "/value"),
    ] {
        let error = bench.client.keep_logs(&bad).await.unwrap_err();
        let gubernum_client::ClientError::Problem(problem) = error else { panic!("{error}") };
        assert_eq!(problem.field.as_deref(), Some(field), "{}", problem.detail);
    }
    bench.client.keep_logs(&rule(KeepScope::All, "")).await.unwrap();
    bench.client.keep_logs(&rule(KeepScope::Host, "packhouse")).await.unwrap();
    assert!(bench.client.keep_logs(&rule(KeepScope::Host, "packhouse")).await.is_err(), "twice");
    let rules = bench.client.kept_logs().await.unwrap();
    assert_eq!(rules.iter().map(|r| r.scope).collect::<Vec<_>>(), [KeepScope::Host, KeepScope::All]);
    bench.client.stop_keeping_logs(rules[0].id).await.unwrap();
    assert!(bench.client.stop_keeping_logs(rules[0].id).await.is_err());
    let told = bench.client.timeline(&fields(&[("kind", "access")])).await.unwrap();
    assert!(told.iter().any(|e| e.action == "keep-logs"), "{told:?}");
}
