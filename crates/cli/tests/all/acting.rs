//! The client's commands that make and change things, on the demo fleet.

use rstest::rstest;
use serde_json::Value;

use crate::support::{command, demo, err, json, out, run, settled, until};

const WEB: &str = "registry.tarnvalley.example/auction/web:8.3.0";

fn container(all: &Value, reference: &str) -> Option<Value> {
    let (host, name) = reference.split_once('/').unwrap();
    all.as_array().unwrap().iter().find(|c| c["host"] == host && c["name"] == name).cloned()
}

#[test]
fn deploy_edit_clone_and_roll_back() {
    let demo = demo();
    settled(&demo);
    let deploy = |more: &[&str]| {
        let base = [
            "deploy",
            "packhouse/trial",
            "--image",
            WEB,
            "--port",
            "9311=8080",
            "--mount",
            "trial-data=/data",
            "--mount",
            "/srv/trial=/in,read-only",
            "--create-folders",
            "1000",
            "--variable",
            "TZ=UTC",
            "--variable",
            "DB_PASSWORD=pears",
            "--memory",
            "128MiB",
            "--watch",
            "1",
        ];
        run(&demo, &[&base, more].concat())
    };
    let preview = out(&deploy(&["--preview"]));
    for words in
        ["nothing was changed", "Create the volume trial-data", "folder /srv/trial", "listens on port 9311"]
    {
        assert!(preview.contains(words), "'{words}' is missing in {preview}");
    }
    assert!(!preview.contains("pears"), "{preview}");
    let done = deploy(&[]);
    assert_eq!(done.status.code(), Some(0), "{}{}", out(&done), err(&done));
    // The same once more is refused, for the name.
    let again = deploy(&[]);
    assert_eq!(again.status.code(), Some(5), "{}", out(&again));
    assert!(out(&again).contains("is already in use on packhouse"), "{}", out(&again));

    let edited = run(&demo, &["edit", "packhouse/trial", "--variable", "TZ=Europe/London", "--watch", "1"]);
    assert_eq!(edited.status.code(), Some(0), "{}{}", out(&edited), err(&edited));
    assert!(out(&edited).contains("it was down for"), "{}", out(&edited));
    let earlier = json(&demo, &["list", "earlier", "packhouse/trial"]);
    assert_eq!(earlier.as_array().unwrap().len(), 1);
    assert!(earlier[0]["summary"].as_str().unwrap().contains("TZ"), "{earlier}");

    let target = ["clone", "packhouse/trial", "--to", "packhouse", "--name", "trial-2", "--settings-only"];
    let odd = run(&demo, &[&target[..], &["--port", "1=2"]].concat());
    assert!(odd.status.code() == Some(2) && err(&odd).contains("port 1 is not published"), "{}", err(&odd));
    let second = run(
        &demo,
        &["clone", "packhouse/trial", "--to", "packhouse", "--name", "trial-2", "--settings-only"],
    );
    assert_eq!(second.status.code(), Some(0), "{}{}", out(&second), err(&second));
    assert!(err(&second).contains("using 9312 instead"), "{}", err(&second));
    until("the second one is there", || {
        container(&json(&demo, &["list", "containers"]), "packhouse/trial-2")
            .is_some_and(|c| c["ports"].to_string().contains("9312"))
    });

    let back = run(&demo, &["rollback", "packhouse/trial", "--watch", "1"]);
    assert_eq!(back.status.code(), Some(0), "{}{}", out(&back), err(&back));
    until("the variable is what it was", || {
        out(&run(&demo, &["show", "packhouse/trial"])).contains("TZ=UTC")
    });
    // From a Compose file on standard input.
    let mut child = command(&demo)
        .args(["deploy", "coldstore/from-text", "--file", "-", "--watch", "1"])
        .stdin(std::process::Stdio::piped())
        .stdout(std::process::Stdio::piped())
        .stderr(std::process::Stdio::piped())
        .spawn()
        .unwrap();
    let text =
        format!("services:\n  web:\n    image: {WEB}\n    environment:\n      SEASON: late\n    build: .\n");
    std::io::Write::write_all(&mut child.stdin.take().unwrap(), text.as_bytes()).unwrap();
    let output = child.wait_with_output().unwrap();
    assert_eq!(output.status.code(), Some(0), "{}{}", out(&output), err(&output));
    assert!(err(&output).contains("line 6"), "what was left out is said: {}", err(&output));
}

#[test]
fn an_update_that_crashes_comes_back_and_the_others_go_through() {
    let demo = demo();
    settled(&demo);
    let newer = out(&run(&demo, &["list", "newer-images", "--check"]));
    assert!(newer.contains("newer image for") && newer.contains("packhouse/auction-web-1"), "{newer}");
    until("it is in the lists", || {
        container(&json(&demo, &["list", "containers"]), "packhouse/auction-web-1").unwrap()["newer_image"]
            == true
    });
    let updated = run(&demo, &["update", "packhouse/auction-web-1", "--watch", "1"]);
    assert_eq!(updated.status.code(), Some(0), "{}{}", out(&updated), err(&updated));
    let crashed = run(&demo, &["update", "packhouse/frostwatch-worker-1", "--watch", "3"]);
    assert_eq!(crashed.status.code(), Some(5), "{}", out(&crashed));
    let said = out(&crashed);
    assert!(
        said.contains("mast.height")
            && said.contains("rolled back: the previous container is running, after"),
        "{said}"
    );
    let tried = run(&demo, &["preview", "update", "packhouse/auction-web-1"]);
    assert!(out(&tried).contains("Up to date") && !out(&tried).contains("Refused"), "{}", out(&tried));
    assert_eq!(tried.status.code(), Some(0));
    let operations = json(&demo, &["list", "operations", "--limit", "1"]);
    let id = operations[0]["id"].to_string();
    assert_eq!(run(&demo, &["retry", &id]).status.code(), Some(5), "it crashes once more");
    let again = run(&demo, &["update", "packhouse/auction-web-1"]);
    assert_eq!(again.status.code(), Some(0), "{}", out(&again));
}

#[test]
fn images_volumes_networks_and_tidying() {
    let demo = demo();
    settled(&demo);
    let ok = |arguments: &[&str]| {
        let output = run(&demo, arguments);
        assert_eq!(output.status.code(), Some(0), "{arguments:?}: {}{}", out(&output), err(&output));
        out(&output)
    };
    let tags = ok(&["list", "tags", "registry.tarnvalley.example/auction/web"]);
    assert!(tags.contains("8.3.0") && tags.contains("amd64, arm64"), "{tags}");
    assert!(ok(&["search", "auction/we"]).contains("registry.tarnvalley.example/auction/web"));
    let pulled = ok(&["pull", WEB, "--host", "*"]);
    assert!(pulled.contains("pull: 4 succeeded"), "{pulled}");
    let missing = run(&demo, &["pull", "registry.tarnvalley.example/auction/web:9", "--host", "office"]);
    assert_eq!(missing.status.code(), Some(5));
    assert!(out(&missing).contains("check name and tag"), "{}", out(&missing));
    ok(&["tag", WEB, "--host", "office", "--new-name", "registry.tarnvalley.example/trial/web:1"]);
    ok(&["push", "registry.tarnvalley.example/trial/web:1", "--host", "office"]);
    ok(&["add", "volume", "office/readings", "--label", "crop=pears"]);
    ok(&["add", "network", "office/cold-chain", "--subnet", "10.91.4.0/24"]);
    ok(&["deploy", "office/trial", "--image", WEB, "--mount", "readings=/data", "--watch", "1"]);
    ok(&["connect", "office/trial", "cold-chain", "--alias", "trial"]);
    let used = run(&demo, &["remove", "volume", "office/readings"]);
    assert!(out(&used).contains("office/trial"), "its user is named: {}", out(&used));
    ok(&["disconnect", "office/trial", "cold-chain"]);
    ok(&["pause", "office/trial"]);
    ok(&["resume", "office/trial"]);
    ok(&["remove", "office/trial", "--force"]);
    until("the volume is free", || {
        run(&demo, &["remove", "volume", "office/readings"]).status.code() == Some(0)
    });
    ok(&["remove", "network", "office/cold-chain"]);

    let listed = ok(&["tidy"]);
    assert!(listed.contains("look first") && listed.contains("are safe to remove"), "{listed}");
    let won = ok(&["tidy", "--safe", "--host", "packhouse"]);
    assert!(won.contains("freed"), "{won}");
    // Images that an earlier state needs are kept; of the rest nothing that is safe is left.
    until("nothing is left that is safe", || {
        let left = json(&demo, &["tidy", "--host", "packhouse"]);
        left.as_array().unwrap().iter().all(|s| s["grade"] != "safe" || s["protected"].is_string())
    });
    ok(&["set", "preferences", "--kept-earlier", "7"]);
    assert_eq!(json(&demo, &["list", "preferences"])["kept_earlier"], 7);
}

#[rstest]
#[case::port(&["deploy", "packhouse/x1", "--image", WEB, "--port", "7311=eighty"], 2, "cannot be read")]
#[case::no_image(&["deploy", "packhouse/x1"], 2, "no image: give")]
#[case::no_place(&["deploy", "x1", "--image", WEB], 3, "no host 'x1'")]
#[case::image_as_name(&["deploy", "packhouse/web:1", "--image", WEB], 5, "enter it as the image")]
#[case::volume_kind(&["tidy", "--kind", "everything"], 2, "use one of stopped-container")]
#[case::preview_of_a_list(&["preview", "list", "hosts"], 2, "--preview")]
#[case::registry(&["add", "registry", "http://r.example"], 2, "write 'r.example'")]
#[case::state(&["rollback", "packhouse/auction-web-1"], 5, "no earlier revision")]
fn errors_are_named(#[case] arguments: &[&str], #[case] code: i32, #[case] words: &str) {
    let demo = demo();
    settled(&demo);
    let output = run(&demo, arguments);
    let said = format!("{}{}", out(&output), err(&output));
    assert_eq!(output.status.code(), Some(code), "{said}");
    assert!(said.contains(words), "'{words}' is missing in {said}");
}

#[test]
fn shells_and_one_off_commands_pass_their_exit_code_on() {
    let demo = demo();
    settled(&demo);
    let once = run(
        &demo,
        &["run-once", "packhouse/auction-web-1", "--", "sh", "-c", "echo out; echo err >&2; exit 4"],
    );
    assert_eq!((out(&once).as_str(), err(&once).as_str(), once.status.code()), ("out\n", "err\n", Some(4)));
    let mut shell = command(&demo)
        .args(["shell", "packhouse/auction-web-1"])
        .stdin(std::process::Stdio::piped())
        .stdout(std::process::Stdio::piped())
        .stderr(std::process::Stdio::piped())
        .spawn()
        .unwrap();
    std::io::Write::write_all(&mut shell.stdin.take().unwrap(), b"pwd\nexit 3\n").unwrap();
    let output = shell.wait_with_output().unwrap();
    assert_eq!(output.status.code(), Some(3), "{}{}", out(&output), err(&output));
    assert!(out(&output).contains("/app\r\n"), "{}", out(&output));
    let stopped = run(&demo, &["shell", "packhouse/brisk_quince"]);
    assert!(err(&stopped).contains("is not running"), "{}", err(&stopped));
}

#[test]
fn files_and_volumes_are_copied() {
    let demo = demo();
    settled(&demo);
    let scratch = tempfile::tempdir().unwrap();
    let at = |name: &str| scratch.path().join(name).to_string_lossy().into_owned();
    std::fs::write(at("notes"), "pears\n").unwrap();
    let ok = |arguments: &[&str]| {
        let output = run(&demo, arguments);
        assert_eq!(output.status.code(), Some(0), "{arguments:?}: {}{}", out(&output), err(&output));
        out(&output)
    };
    ok(&["copy", &at("notes"), "packhouse/auction-web-1:/tmp/notes", "--mode", "600"]);
    let listed = ok(&["browse", "packhouse/auction-web-1:/tmp"]);
    assert!(listed.contains("600") && listed.contains("notes"), "{listed}");
    ok(&["copy", "packhouse/auction-web-1:/tmp/notes", &at("back")]);
    assert_eq!(std::fs::read_to_string(at("back")).unwrap(), "pears\n");
    ok(&["copy", "packhouse/auction-web-1:/tmp", &at("tmp.tar"), "--archive"]);
    assert!(std::fs::metadata(at("tmp.tar")).unwrap().len() >= 1536);
    ok(&["copy", &at("tmp.tar"), "volume:coldstore/coldchain_trial"]);
    ok(&["copy", "volume:coldstore/coldchain_trial", &at("saved.tar")]);
    assert!(std::fs::read(at("saved.tar")).unwrap().windows(5).any(|w| w == b"notes"));
    for (arguments, words) in [
        (vec!["copy".to_owned(), at("notes"), at("other")], "one side is here"),
        (
            vec!["copy".to_owned(), "packhouse/auction-web-1:/tmp/notes".to_owned(), at("back")],
            "exists already",
        ),
        (vec!["copy".to_owned(), "packhouse/auction-web-1:/none".to_owned(), at("none")], "does not exist"),
    ] {
        let arguments: Vec<&str> = arguments.iter().map(String::as_str).collect();
        let output = run(&demo, &arguments);
        assert!(
            output.status.code() != Some(0) && err(&output).contains(words),
            "{}{}",
            out(&output),
            err(&output)
        );
    }
}
