//! Mutation tests of `core` and `store`: small changes are made to the code, and a test has to notice. A random part
//! of the thousands is tried; at least nine of ten must be caught.

use std::fs;
use std::process::{Command, Stdio};
use std::time::{SystemTime, UNIX_EPOCH};

use serde_json::Value;

use crate::run::{Chore, ChoreError, root, say};

/// The program that makes the changes, in the version that was tried.
const TOOL: &str = "cargo-mutants@27.1.0";
/// Into how many parts all changes are divided; a part is some thirty changes.
const SHARDS: u64 = 130;
/// The share of changes that must be noticed.
const LEAST_CAUGHT: f64 = 0.9;

/// Tries one part of the changes, a random one unless it is named.
pub(crate) fn run(chore: &mut Chore, shard: Option<u64>) -> Result<(), ChoreError> {
    install(chore)?;
    let now = SystemTime::now().duration_since(UNIX_EPOCH).map_or(0, |d| d.as_secs());
    let shard = shard.unwrap_or(now) % SHARDS;
    let folder = root().join("target/mutants");
    let io = |source| ChoreError::Io { program: folder.display().to_string(), source };
    fs::create_dir_all(&folder).map_err(io)?;
    let (shard, output) = (format!("{shard}/{SHARDS}"), folder.display().to_string());
    // What is missed makes it fail; whether that is too much is judged below.
    let ended = chore.cargo(&[
        "mutants",
        "--package=gubernum-core",
        "--package=gubernum-store",
        "--shard",
        &shard,
        "--sharding=round-robin",
        "--output",
        &output,
        "--no-times",
        "--",
        "--lib",
        "--tests",
    ]);
    let outcomes = folder.join("mutants.out/outcomes.json");
    let Ok(text) = fs::read_to_string(&outcomes) else { return ended };
    let outcomes: Value = serde_json::from_str(&text).unwrap_or_default();
    let figures = Figures::read(&outcomes);
    let Some(share) = figures.share() else { return ended };
    let (caught, missed) = (figures.caught, figures.missed);
    say(&format!("\npart {shard}: {caught} caught, {missed} missed: {:.0} %", share * 100.0));
    if share < LEAST_CAUGHT { Err(ChoreError::Mutants { caught, missed }) } else { Ok(()) }
}

/// How many changes were noticed. One that does not compile says nothing about tests.
#[derive(Debug, PartialEq)]
struct Figures {
    caught: u64,
    missed: u64,
}

impl Figures {
    fn read(outcomes: &Value) -> Self {
        let figure = |name: &str| outcomes[name].as_u64().unwrap_or_default();
        // A change after which a test never ends has been noticed.
        Self { caught: figure("caught") + figure("timeout"), missed: figure("missed") }
    }

    fn share(&self) -> Option<f64> {
        let all = self.caught + self.missed;
        (all > 0).then(|| self.caught as f64 / all as f64)
    }
}

fn install(chore: &mut Chore) -> Result<(), ChoreError> {
    let mut asking = Command::new("cargo");
    asking.args(["mutants", "--version"]).stdout(Stdio::null()).stderr(Stdio::null());
    if asking.status().is_ok_and(|status| status.success()) {
        return Ok(());
    }
    say("cargo-mutants is missing; it is built once.");
    chore.cargo(&["install", "--locked", TOOL])
}

#[cfg(test)]
mod tests {
    use serde_json::json;

    use super::*;

    #[test]
    fn what_never_ends_was_noticed_and_what_does_not_compile_does_not_count() {
        let figures =
            Figures::read(&json!({"caught": 26, "timeout": 1, "missed": 3, "unviable": 9, "success": 1}));
        assert_eq!(figures, Figures { caught: 27, missed: 3 });
        assert_eq!(figures.share(), Some(0.9));
        assert_eq!(Figures::read(&json!({})).share(), None);
    }
}
