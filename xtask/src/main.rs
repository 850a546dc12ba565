//! Every chore of the project: `cargo xtask demo | test | check | bench | screenshots | engines | …`.
//!
//! Each is a few commands in order; [`tools`] knows what must be installed and how, [`run`] runs a
//! command and says what it was.

mod fuzz;
mod fuzz_api;
mod mutants;
mod phrases;
mod run;
mod sentences;
mod stages;
mod structure;
mod tools;

use std::path::Path;
use std::process::ExitCode;

use clap::{Parser, Subcommand};

use run::{Chore, ChoreError, root};
use stages::{Stage, Stages};

#[derive(Parser)]
#[command(about = "The chores of Gubernum")]
struct Arguments {
    #[command(subcommand)]
    chore: Command,
}

#[derive(Subcommand)]
enum Command {
    /// Build the console and the service and run the demo fleet until stopped
    Demo {
        /// Passed on to `gubernum demo`
        #[arg(trailing_var_arg = true, allow_hyphen_values = true)]
        more: Vec<String>,
    },
    /// Install what the tests need, then run every check and every test
    Test,
    /// Run the quick checks: format, lints, types and unit tests
    Check,
    /// Measure against the budgets of the design and print the ratios
    Bench {
        /// Passed on to the benchmarks
        #[arg(trailing_var_arg = true, allow_hyphen_values = true)]
        more: Vec<String>,
    },
    /// Take the pictures of the documentation
    Screenshots {
        /// The folder to write them into
        #[arg(default_value = "docs/screenshots")]
        folder: String,
    },
    /// Run three real engines in network namespaces to try things by hand
    Engines,
    /// Fuzz every parser of untrusted input, each for a number of seconds
    Fuzz {
        /// Seconds for each target
        seconds: u64,
        /// Only these targets, e.g. compose; all when absent
        targets: Vec<String>,
    },
    /// Fuzz the API of a demo fleet from its schema, as a viewer and as an admin, each for a number of seconds
    FuzzApi {
        /// Seconds for each
        seconds: u64,
        /// Only as these: viewer, admin; both when absent
        #[arg(value_parser = ["viewer", "admin"])]
        roles: Vec<String>,
    },
    /// Run mutation tests on a random part of core and store
    Mutants {
        /// Which part; a random one when absent
        shard: Option<u64>,
    },
    /// Install what the tests need
    Setup,
    /// Build the console
    Console,
    /// Write openapi.json, from which the console's types are generated
    Openapi,
    /// Write docs/reference from the command line and the settings
    Reference,
    /// Check which part of the sources names which other
    Structure,
    /// Check that no phrase of phrases.txt came back
    Phrases,
    /// Print every sentence of the sources with sample values, to be read from top to bottom
    Sentences {
        /// Only these crates; core, server, api, engine, store, client and cli when absent
        parts: Vec<String>,
    },
}

/// The parts of `test`, as a machine with two cores takes for them.
const TEST: &[Stage] = &[
    Stage { what: "programs that the tests need", minutes: 1 },
    Stage { what: "the console", minutes: 1 },
    Stage { what: "structure, format and lints", minutes: 6 },
    Stage { what: "the programs, the tests, and the description of the interface", minutes: 7 },
    Stage { what: "the console's own tests", minutes: 1 },
    Stage { what: "every test, real engines and the browser among them", minutes: 16 },
];

/// The parts of `demo`.
const DEMO: &[Stage] = &[
    Stage { what: "the console", minutes: 1 },
    Stage { what: "the service and the demo fleet", minutes: 6 },
];

fn main() -> ExitCode {
    let mut chore = Chore::default();
    let done = carry_out(&mut chore, Arguments::parse().chore);
    chore.report();
    match done {
        Ok(()) => ExitCode::SUCCESS,
        Err(error) => {
            run::say_error(&error.to_string());
            ExitCode::FAILURE
        }
    }
}

fn carry_out(chore: &mut Chore, command: Command) -> Result<(), ChoreError> {
    match command {
        Command::Demo { more } => {
            let mut stages = Stages::new(DEMO);
            stages.next();
            console(chore)?;
            stages.next();
            let more: Vec<&str> = more.iter().map(String::as_str).collect();
            // Only what it needs: not the test bed with its browser driver and its engines.
            chore.cargo(&["build", "--package", "gubernum-cli"])?;
            chore.hand_over(&root().join("target/debug/gubernum"), &[&["demo"], &more[..]].concat())
        }
        Command::Test => {
            let mut stages = Stages::new(TEST);
            stages.next();
            tools::setup(chore)?;
            stages.next();
            console(chore)?;
            stages.next();
            lints(chore)?;
            stages.next();
            // The programs as the tests need them: built alone they would share little with what the tests are built of.
            chore.cargo(&["test", "--workspace", "--no-run"])?;
            description(chore)?;
            stages.next();
            chore.npm(&["run", "test"])?;
            stages.next();
            // With what the passing tests print, so that it can be seen which engines have run.
            chore.tests(&["test", "--workspace", "--no-fail-fast", "--", "--show-output"])
        }
        Command::Check => {
            tools::node(chore)?;
            lints(chore)?;
            chore.cargo(&["build", "--workspace", "--bins"])?;
            description(chore)?;
            chore.npm(&["run", "test"])?;
            chore.cargo(&["test", "--workspace", "--lib", "--bins"])
        }
        Command::Bench { more } => {
            let more: Vec<&str> = more.iter().map(String::as_str).collect();
            tools::setup(chore)?;
            console(chore)?;
            chore.cargo(&["build", "--release", "--workspace"])?;
            let release = root().join("target/release");
            let binary = release.join("gubernum").display().to_string();
            chore.program(&release.join("bench"), &[&[binary.as_str()], &more[..]].concat())
        }
        Command::Screenshots { folder } => {
            tools::setup(chore)?;
            console(chore)?;
            chore.cargo(&["build", "--workspace"])?;
            let debug = root().join("target/debug");
            chore.program(
                &debug.join("screenshots"),
                &[&debug.join("gubernum").display().to_string(), &folder],
            )
        }
        Command::Engines => {
            tools::setup(chore)?;
            chore.cargo(&["run", "--package", "gubernum-testbed", "--bin", "engines"])
        }
        Command::Fuzz { seconds, targets } => fuzz::run(chore, seconds, &targets),
        Command::FuzzApi { seconds, roles } => fuzz_api::run(chore, seconds, &roles),
        Command::Mutants { shard } => mutants::run(chore, shard),
        Command::Setup => tools::setup(chore),
        Command::Console => console(chore),
        Command::Openapi => write_description(chore),
        Command::Structure => structure(),
        Command::Phrases => phrases(),
        Command::Sentences { parts } => sentences::print(&root(), &parts)
            .map_err(|source| ChoreError::Io { program: "sentences".to_owned(), source }),
        Command::Reference => {
            chore.cargo(&["build", "--package", "gubernum-cli"])?;
            let folder = root().join("docs/reference").display().to_string();
            chore.program(&root().join("target/debug/gubernum"), &["reference", &folder])
        }
    }
}

fn console(chore: &mut Chore) -> Result<(), ChoreError> {
    tools::node(chore)?;
    chore.npm(&["run", "build"])
}

/// Holds the description of the interface, as the built program gives it, against the specification.
fn description(chore: &mut Chore) -> Result<(), ChoreError> {
    let file = root().join("target/openapi.json");
    chore.program(&root().join("target/debug/openapi"), &[&file.display().to_string()])?;
    chore.npm(&["run", "validate-api", "--", &file.display().to_string()])?;
    // The console's types are made from the committed file.
    let read = |path: &Path| std::fs::read_to_string(path).unwrap_or_default();
    if read(&file) == read(&root().join(DESCRIPTION)) { Ok(()) } else { Err(ChoreError::StaleDescription) }
}

/// The committed description of the interface.
const DESCRIPTION: &str = "openapi.json";

/// Writes the API description.
fn write_description(chore: &mut Chore) -> Result<(), ChoreError> {
    chore.cargo(&["build", "--workspace", "--bins"])?;
    let file = root().join(DESCRIPTION).display().to_string();
    chore.program(&root().join("target/debug/openapi"), &[&file])
}

/// Holds the sources against the rules of which part may name which other.
fn structure() -> Result<(), ChoreError> {
    match structure::faults(&root()) {
        Ok(faults) if faults.is_empty() => Ok(()),
        Ok(faults) => Err(ChoreError::Structure(faults.join("\n"))),
        Err(error) => Err(ChoreError::Structure(format!("the sources cannot be read: {error}"))),
    }
}

/// Holds sources and documentation against the list of phrases that must not come back.
fn phrases() -> Result<(), ChoreError> {
    match phrases::faults(&root()) {
        Ok(faults) if faults.is_empty() => Ok(()),
        Ok(faults) => Err(ChoreError::Phrases(faults.join("\n"))),
        Err(error) => Err(ChoreError::Phrases(format!("the sources cannot be read: {error}"))),
    }
}

fn lints(chore: &mut Chore) -> Result<(), ChoreError> {
    structure()?;
    phrases()?;
    chore.cargo(&["fmt", "--all", "--check"])?;
    chore.cargo(&["clippy", "--workspace", "--all-targets", "--", "-D", "warnings"])?;
    chore.npm(&["run", "check"])
}
