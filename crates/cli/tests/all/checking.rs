//! `gubernum check`: a stack's files on this machine alone, with no service anywhere.

use std::path::Path;
use std::process::{Command, Output, Stdio};

use rstest::rstest;

use crate::support::{binary, err, out};

const STACK: &str = "\
name: frostwatch
services:
  api:
    image: registry.tarnvalley.example/frost/api:${TAG:-2}
    attach: false
    env_file: conf/api.env
    environment: [\"LEVEL=${LEVEL}\", DB_PASSWORD=pears-in-autumn]
    ports: [\"7311:8080\"]
    depends_on: {store: {condition: service_healthy}}
  store: {image: store, configs: [settings]}
  debug: {image: toolbox, profiles: [debug]}
configs: {settings: {file: ./conf/settings.toml}}
";

fn folder(files: &[(&str, &str)]) -> tempfile::TempDir {
    let folder = tempfile::tempdir().unwrap();
    for (path, text) in files {
        let path = folder.path().join(path);
        std::fs::create_dir_all(path.parent().unwrap()).unwrap();
        std::fs::write(path, text).unwrap();
    }
    folder
}

fn whole() -> tempfile::TempDir {
    folder(&[("stack.yaml", STACK), ("conf/api.env", "ROOM=4\n"), ("conf/settings.toml", "a = 1\n")])
}

fn check(folder: &Path, words: &[&str]) -> Output {
    // Nothing is asked of a service: there is none at this address.
    Command::new(binary())
        .current_dir(folder)
        .env("GUBERNUM_URL", "http://127.0.0.1:1")
        .arg("check")
        .args(words)
        .output()
        .unwrap()
}

#[test]
fn a_right_stack_is_summed_up() {
    let folder = whole();
    let done = check(folder.path(), &["stack.yaml"]);
    assert_eq!(done.status.code(), Some(0), "{}", err(&done));
    let text = out(&done);
    assert!(text.starts_with("frostwatch: 2 services, 1 network, 1 config. No errors."), "{text}");
    assert!(text.contains("store (healthy)") && text.contains("7311→8080"), "{text}");
    assert!(text.contains("stack.yaml, line 7, column 25: 'LEVEL' has no value and is empty"), "{text}");
    assert!(text.contains("'services.api.attach' has no effect"), "{text}");
    assert!(text.contains("left out, because their profiles are not active: debug"), "{text}");
    let chosen = check(
        folder.path(),
        &["stack.yaml", "--profile", "debug", "--variable", "LEVEL=info", "--variable", "TAG=9"],
    );
    let text = out(&chosen);
    assert!(text.contains("debug") && text.contains("frost/api:9") && !text.contains("LEVEL"), "{text}");
}

#[test]
fn as_json_it_is_the_whole_stack_without_secrets() {
    let folder = whole();
    let done = check(folder.path(), &["stack.yaml", "--output", "json"]);
    let value: serde_json::Value = serde_json::from_str(&out(&done)).unwrap();
    assert_eq!((&value["valid"], &value["stack"]["name"]), (&true.into(), &"frostwatch".into()));
    let environment = value["stack"]["services"]["api"]["container"]["environment"].as_array().unwrap();
    assert!(environment.iter().any(|e| e["name"] == "ROOM" && e["value"] == "4"), "{environment:?}");
    assert!(!out(&done).contains("pears-in-autumn"));
    assert_eq!(value["variables"][0]["name"], "LEVEL");
}

#[rstest]
#[case::several_errors(
    &[("stack.yaml", "services:\n  api: {imagee: x, ports: [\"99999:80\"], depends_on: [stor]}\n  store: {image: x}\n")],
    &["line 2, column 9: a service has no 'imagee'; did you mean 'image'?", "line 2, column 28: '99999:80' has '99999'",
      "'depends_on' names 'stor', which does not exist; did you mean 'store'?", "3 errors"]
)]
#[case::a_tab(&[("stack.yaml", "services:\n\tapi: {image: x}\n")], &["stack.yaml, line 2, column 1: this line is indented with a tab"])]
#[case::a_file_that_is_not_there(
    &[("stack.yaml", "include: [part.yaml]\nservices:\n  api: {image: x}\n")],
    &["stack.yaml, line 1, column 11: the file 'part.yaml' is missing"]
)]
#[case::an_error_in_another_file(
    &[("stack.yaml", "include: [part/a.yaml]\n"), ("part/a.yaml", "services:\n  a: {image: x, init: perhaps}\n")],
    &["part/a.yaml, line 2, column 23: 'init' must be 'true' or 'false'"]
)]
#[case::a_config_that_is_not_there(
    &[("stack.yaml", "services:\n  api: {image: x, configs: [c]}\nconfigs:\n  c: {file: ./none}\n")],
    &["stack.yaml, line 4, column 6: 'none' is not in the stack's folder"]
)]
fn errors_are_reported_and_the_exit_code_says_so(#[case] files: &[(&str, &str)], #[case] expected: &[&str]) {
    let folder = folder(files);
    let done = check(folder.path(), &["stack.yaml"]);
    assert_eq!(done.status.code(), Some(1));
    assert_eq!(out(&done), "");
    for words in expected {
        assert!(err(&done).contains(words), "{words}\n{}", err(&done));
    }
    let json = check(folder.path(), &["stack.yaml", "--output", "json"]);
    assert_eq!(json.status.code(), Some(1));
    let value: serde_json::Value = serde_json::from_str(&out(&json)).unwrap();
    assert_eq!(value["valid"], false);
    assert!(value["errors"][0]["line"].as_u64().is_some(), "{value}");
}

#[test]
fn files_outside_of_the_folder_are_not_read() {
    let outside = folder(&[("secret.env", "TOKEN=hush\n")]);
    let folder = folder(&[("stack.yaml", "services:\n  api: {image: x, env_file: here.env}\n")]);
    std::os::unix::fs::symlink(outside.path().join("secret.env"), folder.path().join("here.env")).unwrap();
    let done = check(folder.path(), &["stack.yaml"]);
    assert_eq!(done.status.code(), Some(1));
    assert!(err(&done).contains("here.env is a link that leaves the stack's folder"), "{}", err(&done));
    let other = outside.path().join("secret.env");
    let done = check(folder.path(), &["stack.yaml", other.to_str().unwrap()]);
    assert!(err(&done).contains("is outside the first file's folder"), "{}", err(&done));
}

#[test]
fn standard_input_is_read_and_what_is_too_large_is_refused() {
    let folder = whole();
    let mut child = Command::new(binary())
        .current_dir(folder.path())
        .args(["check", "-"])
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .spawn()
        .unwrap();
    std::io::Write::write_all(&mut child.stdin.take().unwrap(), STACK.as_bytes()).unwrap();
    let done = child.wait_with_output().unwrap();
    assert!(out(&done).starts_with("frostwatch: 2 services"), "{}", out(&done));
    std::fs::write(folder.path().join("large.yaml"), vec![b' '; 10 << 20]).unwrap();
    let done = check(folder.path(), &["large.yaml"]);
    assert!(err(&done).contains("larger than 1 MiB"), "{}", err(&done));
    std::fs::write(folder.path().join("odd.yaml"), b"a: b\nc: \xff\n").unwrap();
    let done = check(folder.path(), &["odd.yaml"]);
    assert!(err(&done).contains("odd.yaml, line 2: not UTF-8 text"), "{}", err(&done));
}

#[test]
fn a_file_of_the_old_format_is_converted() {
    let folder =
        folder(&[("old.yaml", "api:\n  image: x\n  volumes: [\"data:/data\"]\n  volume_driver: other\n")]);
    let told = check(folder.path(), &["old.yaml"]);
    assert_eq!(told.status.code(), Some(1));
    assert!(
        err(&told).contains("the old format without 'services'") && err(&told).contains("--convert"),
        "{}",
        err(&told)
    );
    let done = check(folder.path(), &["old.yaml", "--convert"]);
    assert_eq!(done.status.code(), Some(0), "{}", err(&done));
    assert!(err(&done).contains("old.yaml, line 4, column 3: 'volume_driver' is dropped"), "{}", err(&done));
    std::fs::write(folder.path().join("new.yaml"), &done.stdout).unwrap();
    let again = check(folder.path(), &["new.yaml"]);
    assert_eq!(again.status.code(), Some(0), "{}", err(&again));
    assert!(err(&check(folder.path(), &["new.yaml", "--convert"])).contains("nothing to convert"));
}
