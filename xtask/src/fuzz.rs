//! Runs the fuzz targets with libFuzzer. What they promise is in `crates/fuzz`, which the ordinary tests run too.

use std::fs;
use std::path::Path;
use std::process::{Command, Stdio};

use crate::run::{Chore, ChoreError, root, say};

/// The program that builds and runs targets, in the version that was tried.
const TOOL: &str = "cargo-fuzz@0.13.1";
/// The longest input, in bytes, and the most memory of a target, in MiB; and the longest time of an input, in seconds.
const LONGEST: u32 = 65_536;
const MOST_MEMORY: u32 = 2048;
const LONGEST_SECONDS: u32 = 10;

/// Runs each target for a number of seconds. What is found is kept in `fuzz/target/corpus`, what breaks a promise in
/// `fuzz/artifacts`; the corpus in `fuzz/corpus` is what the ordinary tests read, and nothing is written there.
pub(crate) fn run(chore: &mut Chore, seconds: u64, wanted: &[String]) -> Result<(), ChoreError> {
    let known = targets(&root()).map_err(|source| ChoreError::Io { program: "fuzz".to_owned(), source })?;
    if let Some(odd) = wanted.iter().find(|name| !known.contains(name)) {
        return Err(ChoreError::Missing {
            program: format!("the fuzz target {odd}"),
            remedy: format!("there are: {}", known.join(", ")),
        });
    }
    install(chore)?;
    for name in known.iter().filter(|name| wanted.is_empty() || wanted.contains(name)) {
        let found = root().join("fuzz/target/corpus").join(name);
        fs::create_dir_all(&found)
            .map_err(|source| ChoreError::Io { program: found.display().to_string(), source })?;
        let kept = root().join("fuzz/corpus").join(name);
        let (found, kept) = (found.display().to_string(), kept.display().to_string());
        // Without a sanitizer it builds with the stable toolchain; our own code has no unsafe parts.
        let arguments = ["fuzz", "run", "--sanitizer", "none", name.as_str(), &found, &kept, "--"];
        let limits = [
            format!("-max_total_time={seconds}"),
            format!("-max_len={LONGEST}"),
            format!("-rss_limit_mb={MOST_MEMORY}"),
            format!("-timeout={LONGEST_SECONDS}"),
            "-print_final_stats=1".to_owned(),
        ];
        let limits: Vec<&str> = limits.iter().map(String::as_str).collect();
        chore.cargo(&[&arguments[..], &limits[..]].concat())?;
    }
    Ok(())
}

/// The names of all targets, in order.
fn targets(root: &Path) -> std::io::Result<Vec<String>> {
    let mut names = Vec::new();
    for entry in fs::read_dir(root.join("fuzz/fuzz_targets"))? {
        let name = entry?.file_name().to_string_lossy().trim_end_matches(".rs").to_owned();
        names.push(name);
    }
    names.sort();
    Ok(names)
}

fn install(chore: &mut Chore) -> Result<(), ChoreError> {
    let there = Command::new("cargo")
        .args(["fuzz", "--version"])
        .stdout(Stdio::null())
        .stderr(Stdio::null())
        .status();
    if there.is_ok_and(|status| status.success()) {
        return Ok(());
    }
    say("cargo-fuzz is missing; it is built once.");
    chore.cargo(&["install", "--locked", TOOL])
}
