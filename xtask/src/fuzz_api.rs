//! Runs the schema-driven fuzzer on the API of a demo fleet; what it does is in `xtask/fuzz_api.py`, as the fuzzer is a Python program.

use std::process::{Command, Stdio};

use crate::run::{Chore, ChoreError, root, say};

/// The fuzzer, in the version that was tried.
const TOOL: &str = "schemathesis==4.32.5";

/// Fuzzes for a number of seconds as each of these roles.
pub(crate) fn run(chore: &mut Chore, seconds: u64, roles: &[String]) -> Result<(), ChoreError> {
    let library = root().join("target/schemathesis").display().to_string();
    if !is_there(&library) {
        say("schemathesis is missing; it is fetched once, into target/schemathesis.");
        let install = ["-m", "pip", "install", "--quiet", "--no-warn-script-location", "--target"];
        chore.python(&[&install[..], &[library.as_str(), TOOL]].concat(), &library)?;
    }
    chore.cargo(&["build", "--package", "gubernum-cli"])?;
    let script = root().join("xtask/fuzz_api.py").display().to_string();
    let program = root().join("target/debug/gubernum").display().to_string();
    let seconds = seconds.to_string();
    let arguments = [script.as_str(), program.as_str(), seconds.as_str()];
    let roles: Vec<&str> = roles.iter().map(String::as_str).collect();
    chore.python(&[&arguments[..], &roles[..]].concat(), &library)
}

fn is_there(library: &str) -> bool {
    let asked = Command::new("python3")
        .args(["-c", "import schemathesis"])
        .env("PYTHONPATH", library)
        .stdout(Stdio::null())
        .stderr(Stdio::null())
        .status();
    asked.is_ok_and(|status| status.success())
}
