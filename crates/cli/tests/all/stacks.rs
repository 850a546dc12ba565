//! A stack from its file by the client's commands, on the demo fleet.

use crate::support::{command, demo, err, json, out, run, settled, until};

const ORCHARD: &str = "\
name: orchard
services:
  store:
    image: registry.tarnvalley.example/base/rowstore:4.2
    volumes: [pears:/data]
  web:
    image: registry.tarnvalley.example/auction/web:8.2.0
    environment: {TZ: \"${ZONE:-UTC}\", DB_PASSWORD: pears-in-autumn}
    depends_on: [store]
    configs: [shop]
volumes: {pears: {}}
configs: {shop: {file: ./shop.yaml}}
";

#[test]
fn a_stack_is_previewed_deployed_changed_and_taken_back() {
    let demo = demo();
    settled(&demo);
    let folder = tempfile::tempdir().unwrap();
    let file = folder.path().join("stack.yaml");
    std::fs::write(&file, ORCHARD).unwrap();
    std::fs::write(folder.path().join("shop.yaml"), "crates: 12\n").unwrap();
    let path = file.to_str().unwrap();
    let asked = |first: &str, more: &[&str]| {
        let words: Vec<&str> = [&[first, path, "--to", "packhouse", "--watch", "1"], more].concat();
        run(&demo, &words)
    };
    let preview = asked("preview", &[]);
    let told = out(&preview);
    assert_eq!(preview.status.code(), Some(0), "{told}{}", err(&preview));
    for words in ["packhouse/orchard_pears", "created", "orchard-web-1", "nothing was changed"] {
        assert!(told.contains(words), "'{words}' is missing in {told}");
    }
    let done = asked("deploy", &["--comment", "first crates"]);
    assert_eq!(done.status.code(), Some(0), "{}{}", out(&done), err(&done));
    let operations = out(&run(&demo, &["list", "operations", "--limit", "1"]));
    assert!(operations.contains("packhouse/orchard"), "{operations}");
    let again = out(&asked("deploy", &[]));
    assert_eq!(again.matches("unchanged").count(), 4, "{again}");

    // One variable, and a config of the same service.
    let preview = out(&asked("preview", &["--variable", "ZONE=CET"]));
    assert!(
        preview.contains("environment TZ: UTC → CET") && preview.contains("3 unchanged, 1 recreated"),
        "{preview}"
    );
    assert!(!preview.contains("pears-in-autumn"), "{preview}");
    std::fs::write(folder.path().join("shop.yaml"), "crates: 14\n").unwrap();
    let preview = out(&asked("preview", &[]));
    assert!(preview.contains("configs and secrets") && !preview.contains("crates"), "{preview}");
    assert_eq!(asked("deploy", &[]).status.code(), Some(0));
    let revisions = json(&demo, &["list", "revisions", "packhouse/orchard"]);
    let numbers: Vec<u64> =
        revisions.as_array().unwrap().iter().map(|r| r["number"].as_u64().unwrap()).collect();
    assert_eq!(numbers, [2, 1], "the same text once more is none");
    assert_eq!(revisions[1]["comment"], "first crates");

    // Somebody stops a part of it.
    assert_eq!(run(&demo, &["stop", "packhouse/orchard-store-1"]).status.code(), Some(0));
    until("it is seen", || run(&demo, &["show", "drift", "packhouse/orchard"]).status.code() == Some(1));
    let back = ["deploy", "--revision", "1", "--to", "packhouse", "--name", "orchard", "--watch", "1"];
    let back = run(&demo, &back);
    assert_eq!(back.status.code(), Some(0), "{}{}", out(&back), err(&back));
    let drift = run(&demo, &["show", "drift", "packhouse/orchard"]);
    assert_eq!(out(&drift).trim(), "No drift: packhouse/orchard matches revision 3.");

    // Without its files: other values, other numbers, its text, what changed, and back.
    let again = |words: &[&str]| {
        let done = run(&demo, words);
        assert_eq!(done.status.code(), Some(0), "{words:?}: {}{}", out(&done), err(&done));
        out(&done)
    };
    again(&["set", "variable", "packhouse/orchard", "ZONE=CET", "--comment", "summer time"]);
    again(&["scale", "packhouse/orchard", "store=2"]);
    let told = again(&["show", "revision", "packhouse/orchard"]);
    assert!(told.contains("variable ZONE=CET") && told.contains("2 containers of store"), "{told}");
    assert!(!told.contains("pears-in-autumn"), "{told}");
    let changed = run(&demo, &["show", "difference", "packhouse/orchard@4"]);
    assert_eq!(changed.status.code(), Some(1), "something differs");
    assert_eq!(out(&changed).trim(), "variable ZONE: (not set) → CET");
    let to = folder.path().join("kept");
    let said = again(&["export", "packhouse/orchard@1", to.to_str().unwrap(), "--stack"]);
    assert!(said.contains("2 files of revision 1"), "{said}");
    assert_eq!(std::fs::read_to_string(to.join("shop.yaml")).unwrap(), "crates: 12\n");
    again(&["rollback", "packhouse/orchard", "--revision", "2", "--watch", "1"]);
    until("it is watched", || out(&run(&demo, &["list", "drift"])).contains("no drift"));
    let preview = out(&run(&demo, &["preview", "remove", "stack", "packhouse/orchard"]));
    assert!(preview.contains("removed") && preview.contains("orchard_pears"), "{preview}");
    again(&["remove", "stack", "packhouse/orchard", "--volumes"]);
    until("nobody expects it", || out(&run(&demo, &["list", "drift"])).contains("No stack was deployed"));
    for (words, told) in [
        (&["scale", "packhouse/orchard", "store"][..], "has no '='"),
        (&["scale", "packhouse/nothing", "store=1"], "was not deployed with Gubernum"),
        (&["show", "revision", "packhouse/orchard@x"], "is not a revision number"),
        (&["rollback", "packhouse/orchard", "--revision", "99"], "no revision 99"),
    ] {
        let refused = run(&demo, words);
        assert!(err(&refused).contains(told), "{words:?}: {}", err(&refused));
    }
}

#[test]
fn errors_and_what_is_in_the_way_are_reported() {
    let demo = demo();
    settled(&demo);
    let folder = tempfile::tempdir().unwrap();
    let file = folder.path().join("stack.yaml");
    let path = file.to_str().unwrap();
    for (text, words) in [
        (ORCHARD.replace("depends_on: [store]", "depends_on: [stoer]"), "did you mean 'store'?"),
        (ORCHARD.replace("name: orchard\n", ""), "have no stack name"),
        (ORCHARD.to_owned(), "'shop.yaml' is missing"),
        (
            ORCHARD.replace("{file: ./shop.yaml}", "{content: x}").replace("rowstore:4.2", "rowstore:99"),
            "has no base/rowstore:99",
        ),
    ] {
        std::fs::write(&file, text).unwrap();
        let output = command(&demo).args(["deploy", path, "--to", "packhouse"]).output().unwrap();
        assert_ne!(output.status.code(), Some(0));
        let told = format!("{}{}", out(&output), err(&output));
        assert!(told.contains(words), "'{words}' is missing in {told}");
    }
    assert_eq!(json(&demo, &["list", "revisions", "packhouse/orchard"]).as_array().map(Vec::len), Some(0));
    let adopted = run(&demo, &["adopt", "packhouse/frostwatch"]);
    assert_eq!(adopted.status.code(), Some(0), "{}", err(&adopted));
    assert!(
        out(&adopted).contains("name: frostwatch") && err(&adopted).contains("revision 1"),
        "{}",
        out(&adopted)
    );
}
