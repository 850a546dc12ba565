//! The client commands that see and watch: lists of all kinds, one of each in full, use, merged logs, kept
//! logs and the full-screen view.

use rstest::rstest;

use crate::support::{command, demo, err, json, out, run, settled, until};

#[test]
fn everything_is_listed_and_shown() {
    let demo = demo();
    settled(&demo);
    until("images are known on all hosts", || {
        json(&demo, &["list", "images"]).as_array().unwrap().len() >= 28
    });
    let images = out(&run(&demo, &["list", "images", "--unused"]));
    assert!(images.contains("grading/classifier:11.9.0") && images.contains("untagged"), "{images}");
    let volumes = out(&run(&demo, &["list", "volumes", "--host", "packhouse"]));
    assert!(volumes.contains("packhouse/grading_frames_2025") && volumes.contains("unused"), "{volumes}");
    let networks = out(&run(&demo, &["list", "networks"]));
    assert!(networks.contains("office/ledger_trial"), "{networks}");
    let stacks = json(&demo, &["list", "stacks"]);
    let auction = stacks.as_array().unwrap().iter().find(|s| s["name"] == "auction").unwrap();
    assert_eq!((&auction["wanted"], &auction["troubled"]), (&3.into(), &2.into()));
    let ports = out(&run(&demo, &["list", "ports", "--port", "7311"]));
    assert!(
        ports.contains("packhouse/frostwatch-api-1") && ports.contains("coldstore/frostwatch-api-1"),
        "{ports}"
    );
    until("the timeline tells of the loop", || {
        out(&run(&demo, &["list", "events", "--bad", "--object", "packhouse/auction-bids-1"]))
            .contains("exit code 1")
    });
    until("the sorter is unhealthy", || out(&run(&demo, &["list", "attention"])).contains("belt 2"));
    for (kind, name, words) in [
        ("image", "frostwatch/api:3.4.1", "COPY app /app"),
        ("volume", "packhouse/frostwatch_readings", "frostwatch-database-1 at /var/lib/rowstore"),
        ("network", "packhouse/frostwatch_default", "packhouse/frostwatch-api-1"),
        ("stack", "frostwatch", "mast-1"),
        ("host", "coldstore", "podman 4.3.1"),
        ("container", "packhouse/grading-sorter-1", "belt 2"),
    ] {
        let shown = out(&run(&demo, &["show", kind, name]));
        assert!(shown.contains(words), "{kind} {name}: {shown}");
        assert!(json(&demo, &["show", kind, name]).is_object());
    }
    // What the engine does not tell is said to be unknown.
    let host = out(&run(&demo, &["show", "host", "packhouse"]));
    assert!(host.contains("unknown: not reported by the engine"), "{host}");
}

#[rstest]
#[case::kind(&["show", "season", "late"], 2, "unknown kind 'season'")]
#[case::image(&["show", "image", "nothing:1"], 3, "no host has an image 'nothing:1'")]
#[case::volume(&["show", "volume", "nothing"], 3, "nothing is named 'nothing'")]
#[case::pattern(&["logs", "*/*", "--grep", "mast (M"], 2, "unclosed group (at character 6)")]
#[case::level(&["logs", "*/*", "--level", "loud"], 2, "is not a level")]
#[case::future(&["usage", "*/*", "--history", "2999-01-01"], 2, "in the future")]
#[case::nobody(&["usage", "nobody", "--history", "1h"], 3, "nothing in the fleet or its history")]
#[case::keep(&["keep", "logs", "--days", "3"], 2, "choose whose logs")]
#[case::watch(&["watch"], 2, "needs a terminal")]
fn failures_name_the_place(#[case] arguments: &[&str], #[case] code: i32, #[case] words: &str) {
    let demo = demo();
    settled(&demo);
    let output = run(&demo, arguments);
    assert_eq!(output.status.code(), Some(code), "{}", err(&output));
    assert!(err(&output).contains(words), "{}", err(&output));
}

#[test]
fn usage_is_reported_now_and_back_in_time() {
    let demo = demo();
    settled(&demo);
    until("there are rates", || {
        let all = json(&demo, &["usage", "packhouse/grading-*"]);
        all.as_array().unwrap().len() == 4 && all[0]["figures"]["processors"].is_f64()
    });
    let table = out(&run(&demo, &["usage", "--host", "packhouse", "--sort", "memory"]));
    assert!(table.starts_with("CONTAINER") && table.contains("\nall "), "{table}");
    let history = out(&run(&demo, &["usage", "packhouse/grading-camera-1-1", "--history", "30d"]));
    assert!(history.contains("processors") && history.contains("in steps of"), "{history}");
    let json = json(&demo, &["usage", "orchard-edge/radio-relay", "--history", "12h"]);
    let mean = json["series"][0]["figures"][0]["mean"].as_array().unwrap().clone();
    assert!(mean.iter().any(serde_json::Value::is_null), "the hours in which the host was away are a gap");
    assert!(mean.iter().filter(|v| v.is_f64()).count() > 100);
}

#[test]
fn a_ranking_tells_who_used_most_and_when() {
    let demo = demo();
    settled(&demo);
    let table = out(&run(&demo, &["usage", "--ranking", "--sort", "memory"]));
    let first = table.lines().nth(1).unwrap();
    assert!(table.starts_with("CONTAINER") && table.contains("PEAK AT"), "{table}");
    assert!(first.starts_with("coldstore/coldchain-store-1") && first.ends_with("UTC"), "{table}");
    let of_stack = json(&demo, &["usage", "--ranking", "24h", "--stack", "grading"]);
    let rows = of_stack["rows"].as_array().unwrap();
    assert!(rows.len() > 2 && rows.iter().all(|row| row["stack"] == "grading"), "{of_stack}");
}

#[test]
fn what_needs_attention_is_snoozed_and_brought_back() {
    let demo = demo();
    settled(&demo);
    let on = "container:packhouse/grading-classifier-1";
    let told = out(&run(&demo, &["snooze", on, "--reason", "the part comes on Tuesday", "--hours", "2"]));
    assert!(told.contains("is snoozed until") && told.contains("unsnooze 1"), "{told}");
    let list = out(&run(&demo, &["list", "attention"]));
    assert!(!list.contains("grading-classifier-1") && list.contains("1 snoozed"), "{list}");
    let list = out(&run(&demo, &["list", "snoozes"]));
    assert!(list.contains(on) && list.contains("the part comes on Tuesday"), "{list}");
    assert_eq!(out(&run(&demo, &["unsnooze", "1"])), "Snooze 1 has ended.\n");
    let list = out(&run(&demo, &["list", "attention"]));
    assert!(list.contains("grading-classifier-1") && !list.contains("snoozed"), "{list}");
    let nothing = out(&run(&demo, &["snooze", "host:packhouse", "--reason", "x"]));
    assert!(nothing.starts_with("Nothing on host:packhouse needs attention"), "{nothing}");
}

#[test]
fn merged_logs_and_kept_ones() {
    let demo = demo();
    settled(&demo);
    let lines = out(&run(&demo, &["logs", "*/frostwatch-*", "--since", "2h", "--grep", "timeout|refused"]));
    assert!(
        !lines.is_empty()
            && lines.lines().all(|l| l.contains("refused") && l.contains("  ") && !l.contains(" | ")),
        "{lines}"
    );
    let sources: std::collections::BTreeSet<&str> =
        lines.lines().filter_map(|l| l.split("  ").next()).collect();
    assert!(sources.len() > 1, "{sources:?}");
    let json_lines = out(&run(&demo, &["logs", "--stack", "coldchain", "--tail", "2", "--output", "json"]));
    for line in json_lines.lines() {
        let value: serde_json::Value = serde_json::from_str(line).unwrap();
        assert!(value["source"].as_str().unwrap().starts_with("coldstore/coldchain-"), "{line}");
    }
    let said = out(&run(&demo, &["keep", "logs", "--stack", "frostwatch", "--days", "3"]));
    assert!(said.starts_with("rule 1: logs of stack frostwatch are kept for 3 days"), "{said}");
    until("lines are held", || json(&demo, &["list", "kept-logs"])[0]["held"].as_u64().unwrap() > 0);
    let removed = out(&run(&demo, &["remove", "kept-logs", "1"]));
    assert_eq!(removed, "Rule 1 is removed; lines that were kept expire as before.\n");
    assert_eq!(run(&demo, &["remove", "kept-logs", "1"]).status.code(), Some(3));
    assert!(
        out(&run(&demo, &["set", "host", "packhouse", "--ports-address", "p.example"])).contains("p.example")
    );
}

#[test]
fn the_audit_log_is_listed_and_narrowed() {
    let demo = demo();
    settled(&demo);
    assert!(run(&demo, &["note", "host:packhouse", "for the audit"]).status.success());
    let table = out(&run(&demo, &["list", "audit", "--limit", "5"]));
    assert!(table.starts_with("NUMBER") && table.contains("host:packhouse"), "{table}");
    let all = json(&demo, &["list", "audit", "--action", "sign-in", "--since", "2d"]);
    let all = all.as_array().unwrap();
    assert!(!all.is_empty() && all.iter().all(|e| e["action"] == "sign-in"), "{all:?}");
    let before = all[0]["id"].as_u64().unwrap().to_string();
    let page = json(&demo, &["list", "audit", "--before", &before, "--limit", "1"]);
    assert!(page[0]["id"].as_u64().unwrap() < all[0]["id"].as_u64().unwrap());
    let none = run(&demo, &["list", "audit", "--member", "nobody-here"]);
    assert_eq!(out(&none).trim(), "Nothing matches.");
}

/// The full-screen view in a terminal of the size that everybody has.
#[test]
fn watch_on_a_terminal() {
    let demo = demo();
    settled(&demo);
    let name = format!("gubernum-watch-{}", std::process::id());
    let tmux = |arguments: &[&str]| {
        let mut tmux = std::process::Command::new("tmux");
        tmux.args(["-L", &name]).args(arguments);
        let output =
            tmux.output().expect("tmux must be there for this test: 'cargo xtask setup' installs it");
        out(&output)
    };
    let started = std::process::Command::new("tmux")
        .args(["-L", &name, "new-session", "-d", "-x", "80", "-y", "24"])
        .arg(command(&demo).get_program())
        .arg("watch")
        .env("GUBERNUM_URL", demo.url())
        .env("GUBERNUM_TOKEN", demo.text("token"))
        .env("LC_ALL", "C.UTF-8")
        .status()
        .expect("tmux must be there for this test: 'cargo xtask setup' installs it");
    assert!(started.success());
    let screen = || tmux(&["capture-pane", "-p"]);
    let shows = |words: &str| {
        until(&format!("the screen shows '{words}'"), || screen().contains(words));
    };
    let press = |keys: &str| {
        tmux(&["send-keys", keys]);
    };
    shows("packhouse/auction-bids-1");
    assert!(screen().lines().all(|l| l.chars().count() <= 80));
    press("?");
    shows("follow the log of the selected container");
    press("Escape");
    // A key right behind it would be one with Alt.
    until("the help is gone", || !screen().contains("follow the log of the selected container"));
    press("/");
    press("sorter");
    press("Enter");
    shows("packhouse/grading-sorter-1");
    press("R");
    shows("restart packhouse/grading-sorter-1?");
    shows("y confirms, any other key cancels.");
    assert!(screen().contains("Stops it"), "the preview: {}", screen());
    press("n");
    press("g");
    shows("STACK");
    press("g");
    press("o");
    shows("sort: CPU");
    press("Enter");
    shows("tray");
    press("3");
    shows("disk unknown");
    press("q");
    until("it has left", || {
        let sessions = std::process::Command::new("tmux").args(["-L", &name, "ls"]).output().unwrap();
        !sessions.status.success()
    });
}
