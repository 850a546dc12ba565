//! The client commands on the demo fleet.

use rstest::rstest;

use crate::support::{command, demo, err, json, out, run, settled, until};

#[test]
fn lists_are_for_people_and_for_programs() {
    let demo = demo();
    settled(&demo);
    let containers = json(&demo, &["list", "containers"]);
    let all = containers.as_array().unwrap();
    assert_eq!(all.len(), 32);
    for c in all {
        for field in ["host", "name", "id", "image", "state", "health", "stack", "ports", "created"] {
            assert!(c.get(field).is_some(), "{field} is missing in {c}");
        }
    }
    let table = out(&run(&demo, &["list", "containers", "*/frostwatch-*"]));
    let lines: Vec<&str> = table.lines().collect();
    assert!(lines[0].starts_with("REFERENCE"), "{table}");
    assert_eq!(lines.len(), 1 + 7, "{table}");
    assert!(table.contains("packhouse/frostwatch-api-1") && table.contains("7311→8080"), "{table}");
    assert_eq!(json(&demo, &["list", "containers", "--host", "office"]).as_array().unwrap().len(), 5);
    assert_eq!(json(&demo, &["list", "containers", "--state", "paused"]).as_array().unwrap().len(), 1);
    until("the loop is noticed", || {
        let attention = out(&run(&demo, &["list", "attention"]));
        attention.contains("packhouse/auction-bids-1") && attention.contains("memory limit")
    });
    assert!(out(&run(&demo, &["list", "hosts"])).contains("orchard-edge"));
    assert_eq!(json(&demo, &["list", "operations", "--limit", "3"]).as_array().unwrap().len(), 3);
}

#[test]
fn show_masks_secrets_and_gives_the_reason() {
    let demo = demo();
    settled(&demo);
    let shown = out(&run(&demo, &["show", "packhouse/frostwatch-database-1"]));
    assert!(shown.contains("ROWSTORE_PASSWORD=••••••••") && !shown.contains("russet"), "{shown}");
    let shown = out(&run(&demo, &["show", "grading-classifier-1"]));
    assert!(shown.contains("Out of memory: killed at its 2.0 GiB limit."), "{shown}");
    assert_eq!(json(&demo, &["show", "label-printer"])["container"]["host"], "coldstore");
}

#[rstest]
#[case::nothing(&["show", "packhouse/frostwatch-apy-1"], 3, "near matches: packhouse/frostwatch-api-1")]
#[case::ambiguous(&["restart", "frostwatch-api-1"], 3, "matches 2 containers")]
#[case::malformed(&["stop", "a/b/c"], 2, "more than one '/'")]
#[case::usage(&["stop"], 2, "required")]
#[case::engine_words(&["ps"], 2, "unrecognized subcommand")]
#[case::signal(&["kill", "label-printer", "--signal", "LOUD"], 2, "not a signal")]
#[case::time(&["logs", "label-printer", "--since", "yesterday"], 2, "is not a time")]
#[case::host(&["remove", "host", "nowhere"], 3, "no host 'nowhere'")]
#[case::operation(&["cancel", "9999"], 3, "no operation '9999'")]
fn failures_have_a_sentence_and_a_code(#[case] arguments: &[&str], #[case] code: i32, #[case] words: &str) {
    let demo = demo();
    settled(&demo);
    let before = json(&demo, &["list", "operations"]);
    let output = run(&demo, arguments);
    assert_eq!(output.status.code(), Some(code), "{}", err(&output));
    assert!(err(&output).contains(words), "{}", err(&output));
    assert!(out(&output).is_empty());
    assert_eq!(json(&demo, &["list", "operations"]), before, "nothing was done");
}

#[test]
fn restarting_everything_tells_who_failed_and_why() {
    let demo = demo();
    settled(&demo);
    let output = run(&demo, &["restart", "*/*"]);
    assert_eq!(output.status.code(), Some(4), "{}", err(&output));
    let text = out(&output);
    // The summary at the end says so too.
    let each = text.lines().filter(|l| !l.starts_with("restart:"));
    assert_eq!(each.filter(|l| l.contains("succeeded")).count(), 31, "{text}");
    let failed = text.lines().find(|l| l.contains("failed")).unwrap();
    assert!(failed.starts_with("coldstore/label-printer"), "{failed}");
    let why = text.lines().find(|l| l.starts_with("coldstore/label-printer: ")).unwrap();
    assert!(why.contains("address already in use"), "{why}");
    assert!(text.contains("restart: 31 succeeded, 1 failed"), "{text}");
    let alone = run(&demo, &["start", "label-printer", "--output", "json"]);
    assert_eq!(alone.status.code(), Some(5), "all failed");
    let operation: serde_json::Value = serde_json::from_slice(&alone.stdout).unwrap();
    assert_eq!(operation["targets"][0]["state"], "failed");
}

#[test]
fn a_life_cycle_on_the_command_line() {
    let demo = demo();
    settled(&demo);
    let state = || json(&demo, &["show", "office/eager_medlar"])["container"]["state"].clone();
    let refused = run(&demo, &["remove", "office/eager_medlar"]);
    assert_eq!(refused.status.code(), Some(5));
    assert!(out(&refused).contains("remove it with force"), "{}", out(&refused));
    let preview = run(&demo, &["remove", "office/eager_medlar", "--force", "--volumes", "--preview"]);
    assert!(preview.status.success() && out(&preview).contains("data in it are lost"), "{}", out(&preview));
    assert_eq!(state(), "running");
    assert!(run(&demo, &["stop", "office/eager_medlar", "--grace", "1"]).status.success());
    until("stopped", || state() == "exited");
    let again = run(&demo, &["stop", "office/eager_medlar"]);
    assert!(again.status.success() && out(&again).contains("unchanged"), "{}", out(&again));
    let key = ["remove", "office/eager_medlar", "--key", "once"];
    assert!(run(&demo, &key).status.success());
    until("gone", || run(&demo, &["show", "office/eager_medlar"]).status.code() == Some(3));
    assert!(run(&demo, &key).status.success(), "the same key gives the same operation");
}

#[test]
fn logs_bound_followed_and_apart() {
    let demo = demo();
    settled(&demo);
    let tail = out(&run(&demo, &["logs", "packhouse/auction-queue-1", "--tail", "1", "--times"]));
    assert_eq!(tail.lines().count(), 1);
    assert!(tail.starts_with("20") && tail.contains("store is locked"), "{tail}");
    let apart = run(&demo, &["logs", "packhouse/auction-queue-1", "--apart"]);
    assert!(out(&apart).contains("opening store") && err(&apart).contains("store is locked"));
    let only = out(&run(&demo, &["logs", "packhouse/auction-queue-1", "--only", "stdout"]));
    assert_eq!(only.lines().count(), 1);
    let lines = out(&run(&demo, &["logs", "packhouse/auction-queue-1", "--output", "json"]));
    let first: serde_json::Value = serde_json::from_str(lines.lines().next().unwrap()).unwrap();
    assert_eq!(first["stream"], "stdout");
    // A follow shows what comes, and ends when its reader goes.
    let mut follow = command(&demo)
        .args(["logs", "packhouse/auction-web-1", "--follow", "--tail", "0"])
        .stdout(std::process::Stdio::piped())
        .spawn()
        .unwrap();
    let mut lines = std::io::BufRead::lines(std::io::BufReader::new(follow.stdout.take().unwrap()));
    for _ in 0..3 {
        assert!(!lines.next().unwrap().unwrap().is_empty());
    }
    drop(lines);
    let _ = follow.kill();
    let _ = follow.wait();
}

#[test]
fn hosts_are_tested_added_and_removed() {
    let demo = demo();
    settled(&demo);
    assert!(out(&run(&demo, &["test", "host", "packhouse"])).starts_with("Connected: dockerd"));
    let missing = run(&demo, &["test", "host", "unix:///nowhere/engine.sock"]);
    assert_eq!(missing.status.code(), Some(5));
    assert!(out(&missing).contains("There is no socket") && out(&missing).contains("Check the path"));
    let tcp = run(&demo, &["add", "host", "annex", "tcp://192.0.2.9:2375"]);
    assert_eq!(tcp.status.code(), Some(2));
    assert!(err(&tcp).contains("needs mutual TLS"), "{}", err(&tcp));
    let named = run(&demo, &["test", "host", "annex", "unix:///nowhere/engine.sock"]);
    assert_eq!(named.status.code(), Some(5), "an address is tested before it is added");
    let untested = run(&demo, &["add", "host", "annex", "unix:///nowhere/engine.sock"]);
    assert_eq!(untested.status.code(), Some(5), "{}{}", out(&untested), err(&untested));
    assert!(!out(&run(&demo, &["list", "hosts"])).contains("annex"), "it was not added");
    let all_the_same = ["add", "host", "annex", "unix:///nowhere/engine.sock", "--untested"];
    assert!(run(&demo, &all_the_same).status.success());
    until("annex is unreachable", || out(&run(&demo, &["list", "hosts"])).contains("There is no socket"));
    assert!(run(&demo, &["remove", "host", "annex"]).status.success());
    assert_eq!(json(&demo, &["list", "hosts"]).as_array().unwrap().len(), 4);
}

#[test]
fn signing_in_keeps_a_token_for_its_owner_only() {
    use std::io::Write;
    use std::os::unix::fs::PermissionsExt;
    let demo = demo();
    settled(&demo);
    let home = tempfile::tempdir().unwrap();
    let with_home = |arguments: &[&str]| {
        let mut command = command(&demo);
        command.env_remove("GUBERNUM_TOKEN").env_remove("GUBERNUM_URL").env("HOME", home.path());
        command.args(arguments);
        command
    };
    let out_first = with_home(&["list", "hosts"]).output().unwrap();
    assert_eq!(out_first.status.code(), Some(6));
    assert!(err(&out_first).contains("not signed in"), "{}", err(&out_first));
    let sign_in = |password: &str| {
        let arguments = ["sign-in", demo.url(), "--member", demo.text("member"), "--password-stdin"];
        let mut child = with_home(&arguments)
            .stdin(std::process::Stdio::piped())
            .stdout(std::process::Stdio::piped())
            .stderr(std::process::Stdio::piped())
            .spawn()
            .unwrap();
        writeln!(child.stdin.take().unwrap(), "{password}").unwrap();
        child.wait_with_output().unwrap()
    };
    assert_eq!(sign_in("wrong").status.code(), Some(6));
    let signed_in = sign_in(demo.text("password"));
    assert!(signed_in.status.success(), "{}", err(&signed_in));
    let kept = home.path().join(".config/gubernum/credentials.toml");
    assert_eq!(std::fs::metadata(&kept).unwrap().permissions().mode() & 0o777, 0o600);
    assert!(with_home(&["list", "hosts"]).output().unwrap().status.success());
    assert!(out(&with_home(&["sign-out"]).output().unwrap()).contains("revoked"));
    assert!(!kept.exists());
}

#[test]
fn help_completions_and_manual_pages() {
    let demo = demo();
    let help = out(&run(&demo, &["--help"]));
    assert!(
        help.contains("Exit codes:") && help.contains("sign-in") && !help.contains("\n  simulate"),
        "{help}"
    );
    assert!(out(&run(&demo, &["completions", "bash"])).contains("_gubernum"));
    let folder = tempfile::tempdir().unwrap();
    assert!(run(&demo, &["manual", folder.path().to_str().unwrap()]).status.success());
    assert!(folder.path().join("gubernum-restart.1").exists());
}

#[test]
fn a_service_that_is_gone_is_said_so() {
    let mut demo = demo();
    let url = demo.url().to_owned();
    demo.end();
    let output = run(&demo, &["list", "hosts"]);
    assert_eq!(output.status.code(), Some(7));
    assert!(err(&output).contains(&url) && err(&output).contains("is it running"), "{}", err(&output));
}

#[test]
fn what_is_removed_is_confirmed_and_cannot_be_removed_twice() {
    let demo = demo();
    let cases: [(&[&str], &[&str], &str); 3] = [
        (
            &["set", "role", "night-shift", "--right", "see"],
            &["remove", "role", "night-shift"],
            "The role night-shift is removed.",
        ),
        (
            &["invite", "ines", "--grant", "viewer"],
            &["remove", "invitation", "1"],
            "Invitation 1 is revoked.",
        ),
        (&["note", "host:packhouse", "the belt is new"], &["remove", "note", "1"], "Note 1 is removed."),
    ];
    for (add, remove, told) in cases {
        let added = run(&demo, add);
        assert!(added.status.success(), "{add:?}: {}", err(&added));
        let removed = run(&demo, remove);
        assert_eq!(out(&removed), format!("{told}\n"), "{}", err(&removed));
        assert_eq!(run(&demo, remove).status.code(), Some(3), "{remove:?}");
    }
}
