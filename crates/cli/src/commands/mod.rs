//! The commands that talk to a service.

mod access;
mod change;
mod hosts;
mod logs;
mod read;

use clap::CommandFactory;
use gubernum_api::Kind;
use gubernum_api::requests::NewOperation;

use crate::arguments::{Add, Arguments, ClientCommand, Connection, List, RemoveHost, Targets, Test};
use crate::connection::client;
use crate::exit::{FINE, Failure};

pub(crate) async fn run(command: ClientCommand, connection: &Connection) -> Result<u8, Failure> {
    let output = connection.output;
    let wish = |kind, targets: &Targets| NewOperation::new(kind, targets.references.clone());
    match command {
        ClientCommand::SignIn(wish) => access::sign_in(wish, connection).await,
        ClientCommand::SignOut => access::sign_out(connection).await,
        ClientCommand::List(List::Hosts) => hosts::list(&client(connection)?, output).await,
        ClientCommand::List(List::Containers { references, host, state, stack }) => {
            read::containers(
                &client(connection)?,
                &references,
                &[("host", host), ("state", state), ("stack", stack)],
                output,
            )
            .await
        }
        ClientCommand::List(List::Operations { limit }) => {
            read::operations(&client(connection)?, limit, output).await
        }
        ClientCommand::List(List::Attention) => read::attention(&client(connection)?, output).await,
        ClientCommand::Show { reference } => read::show(&client(connection)?, &reference, output).await,
        ClientCommand::Logs(wish) => logs::run(&client(connection)?, wish, output).await,
        ClientCommand::Start(targets) => {
            change::run(&client(connection)?, wish(Kind::Start, &targets), &targets.manner, output).await
        }
        ClientCommand::Stop(args) => {
            let wish = NewOperation { grace_seconds: args.grace, ..wish(Kind::Stop, &args.targets) };
            change::run(&client(connection)?, wish, &args.targets.manner, output).await
        }
        ClientCommand::Restart(args) => {
            let wish = NewOperation { grace_seconds: args.grace, ..wish(Kind::Restart, &args.targets) };
            change::run(&client(connection)?, wish, &args.targets.manner, output).await
        }
        ClientCommand::Kill(args) => {
            let wish = NewOperation { signal: Some(args.signal), ..wish(Kind::Kill, &args.targets) };
            change::run(&client(connection)?, wish, &args.targets.manner, output).await
        }
        ClientCommand::Remove(args) => match args.host {
            Some(RemoveHost::Host { name }) => hosts::remove(&client(connection)?, &name).await,
            None => {
                let args = args.containers;
                let wish = NewOperation {
                    force: args.force,
                    volumes: args.volumes,
                    ..wish(Kind::Remove, &args.targets)
                };
                change::run(&client(connection)?, wish, &args.targets.manner, output).await
            }
        },
        ClientCommand::Cancel { operation } => change::cancel(&client(connection)?, operation, output).await,
        ClientCommand::Add(Add::Host { name, address, material }) => {
            hosts::add(&client(connection)?, name, address, &material, output).await
        }
        ClientCommand::Test(Test::Host { host, material }) => {
            hosts::test(&client(connection)?, host, &material, output).await
        }
        ClientCommand::Completions { shell } => {
            clap_complete::generate(shell, &mut Arguments::command(), "gubernum", &mut std::io::stdout());
            Ok(FINE)
        }
        ClientCommand::Manual { folder } => {
            std::fs::create_dir_all(&folder)?;
            clap_mangen::generate_to(Arguments::command(), &folder)?;
            Ok(FINE)
        }
    }
}
