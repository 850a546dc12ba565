//! `gubernum`: the service, the demo and the client in one binary.
//!
//! This file only decides which; [`arguments`] is the command line, [`serve`] and [`demo`] start the
//! service, [`commands`] talk to one over its API.

mod arguments;
mod arguments_act;
mod arguments_manage;
mod arguments_members;
mod arguments_read;
mod arguments_serve;
mod arguments_stacks;
mod audit;
mod check;
mod commands;
mod connection;
mod definition_flags;
mod demo;
mod demo_history;
mod demo_past;
mod demo_stacks;
mod examples;
mod exit;
mod fit;
mod progress;
mod recover;
mod reference;
mod seal_key;
mod serve;
mod settings;
mod stack_files;
mod table;
mod watch;

use std::process::ExitCode;

use clap::{CommandFactory, FromArgMatches};

use arguments::{Arguments, Command};
use exit::Failure;

/// The memory allocator. The system's own keeps what many threads have freed for good after a burst; this one gives it
/// back (docs/performance.md has the figures). It takes no huge pages: a fleet's many small records would hold them half
/// empty.
#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

fn main() -> ExitCode {
    // One provider for everything that speaks TLS; a second call could only mean it is there already.
    let _ = rustls::crypto::ring::default_provider().install_default();
    let matches = examples::with_examples(Arguments::command()).get_matches();
    let arguments = match Arguments::from_arg_matches(&matches) {
        Ok(arguments) => arguments,
        Err(error) => error.exit(),
    };
    table::set_style(arguments.connection.wide, arguments.connection.color);
    let outcome = tokio::runtime::Builder::new_multi_thread()
        .enable_all()
        .build()
        .map_err(Failure::from)
        .and_then(|runtime| runtime.block_on(run(arguments)));
    match outcome {
        Ok(code) => ExitCode::from(code),
        Err(failure) => {
            failure.tell();
            ExitCode::from(failure.code())
        }
    }
}

async fn run(arguments: Arguments) -> Result<u8, Failure> {
    match arguments.command {
        Command::Serve(wish) => serve::run(*wish).await,
        Command::Audit(crate::arguments::Audit::Verify { data_dir, passphrase }) => {
            audit::verify(&data_dir, &passphrase)
        }
        Command::Recover { data_dir, member, passphrase } => {
            recover::recover(&data_dir, &member, &passphrase)
        }
        Command::SealKey(wish) => seal_key::run(&wish),
        Command::Check(wish) => check::run(&wish, arguments.connection.output),
        Command::Demo(wish) => demo::run(wish).await,
        Command::Simulate(wish) => demo::simulate(wish).await,
        Command::Reference { folder } => reference::write(&folder).map(|()| exit::FINE),
        Command::Client(command) => commands::run(command, &arguments.connection).await,
    }
}
