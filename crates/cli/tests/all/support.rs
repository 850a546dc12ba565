//! Running `gubernum` and reading what it says.

use std::path::Path;
use std::process::{Command, Output};
use std::time::{Duration, Instant};

use gubernum_testbed::started::Started;
use serde_json::Value;

/// The program under test.
pub(crate) fn binary() -> &'static Path {
    Path::new(env!("CARGO_BIN_EXE_gubernum"))
}

/// A demo that leaves the far host alone.
pub(crate) fn demo() -> Started {
    Started::demo(binary(), &["--calm", "--without-texts"]).unwrap()
}

/// Runs a client command against a service.
pub(crate) fn run(service: &Started, arguments: &[&str]) -> Output {
    command(service).args(arguments).output().unwrap()
}

/// Runs a client command against a service that is reached elsewhere.
pub(crate) fn run_at(url: &str, token: &str, arguments: &[&str]) -> Output {
    at(url, token).args(arguments).output().unwrap()
}

pub(crate) fn command(service: &Started) -> Command {
    at(service.url(), service.text("token"))
}

fn at(url: &str, token: &str) -> Command {
    let mut command = Command::new(binary());
    command.env("GUBERNUM_URL", url).env("GUBERNUM_TOKEN", token);
    command.env("HOME", "/nonexistent").env_remove("XDG_CONFIG_HOME").env_remove("GUBERNUM_FINGERPRINT");
    command
}

pub(crate) fn out(output: &Output) -> String {
    String::from_utf8_lossy(&output.stdout).into_owned()
}

pub(crate) fn err(output: &Output) -> String {
    String::from_utf8_lossy(&output.stderr).into_owned()
}

/// What a command prints as JSON.
pub(crate) fn json(service: &Started, arguments: &[&str]) -> Value {
    let output = run(service, &[arguments, &["--output", "json"]].concat());
    serde_json::from_slice(&output.stdout).unwrap_or_else(|e| panic!("{e}: {}{}", out(&output), err(&output)))
}

/// Waits until something holds.
pub(crate) fn until(what: &str, holds: impl Fn() -> bool) {
    let begun = Instant::now();
    while !holds() {
        assert!(begun.elapsed() < Duration::from_secs(30), "never: {what}");
        std::thread::sleep(Duration::from_millis(50));
    }
}

/// Waits until the demo's containers are all listed.
pub(crate) fn settled(service: &Started) {
    until("all hosts are live", || {
        let hosts = json(service, &["list", "hosts"]);
        let hosts = hosts.as_array().unwrap();
        !hosts.is_empty() && hosts.iter().all(|h| h["state"] == "live")
    });
}
