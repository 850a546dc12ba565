//! The commands that talk to a service.

mod access;
mod act;
mod build;
mod change;
mod copy;
mod directories;
mod files;
mod hosts;
mod images;
mod inventory;
mod jobs;
mod logs;
mod members;
mod read;
mod records;
mod remove;
mod shell;
mod show;
mod stack_changes;
mod stack_sources;
mod stack_texts;
mod stacks;
mod team;
mod usage;

pub(crate) use build::files_of_context;
pub(crate) use change::block as preview_of_target;
pub(crate) use usage::{processors, rate, size};

use clap::CommandFactory;
use gubernum_api::files::FileChange;
use gubernum_api::requests::{KillRequest, NewOperation, Request, RestartRequest, StartRequest, StopRequest};
use gubernum_client::Client;

use crate::arguments::{Add, Arguments, ClientCommand, Connection, List, Output, Set, Targets, Test};
use crate::connection::client;
use crate::examples::with_examples;
use crate::exit::{FINE, Failure};
use crate::table::say;

pub(crate) async fn run(command: ClientCommand, connection: &Connection) -> Result<u8, Failure> {
    let output = connection.output;
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
        ClientCommand::List(List::Operations(which)) => {
            read::operations(&client(connection)?, which, output).await
        }
        ClientCommand::List(List::Attention) => read::attention(&client(connection)?, output).await,
        ClientCommand::List(List::Notes { on }) => {
            team::notes(&client(connection)?, on.as_ref(), output).await
        }
        ClientCommand::List(List::Team) => team::team(&client(connection)?, output).await,
        ClientCommand::List(List::Approvals) => records::approvals(&client(connection)?, output).await,
        ClientCommand::List(List::Syslog) => records::syslog(&client(connection)?, output).await,
        ClientCommand::Set(Set::Syslog { host, port, ca, tcp }) => {
            records::set_syslog(&client(connection)?, host, port, ca.as_deref(), tcp, output).await
        }
        ClientCommand::RotateSeal => records::rotate_seal(&client(connection)?, output).await,
        ClientCommand::List(List::Directories) => directories::list(&client(connection)?, output).await,
        ClientCommand::Set(Set::Directory(wish)) => {
            directories::set(&client(connection)?, wish, output).await
        }
        ClientCommand::Note(wish) => team::note(&client(connection)?, wish, output).await,
        ClientCommand::List(List::Snoozes) => team::snoozes(&client(connection)?, output).await,
        ClientCommand::List(List::Freezes) => team::freezes(&client(connection)?, output).await,
        ClientCommand::List(List::Members) => members::list(&client(connection)?, output).await,
        ClientCommand::List(List::Roles) => members::roles(&client(connection)?, output).await,
        ClientCommand::List(List::Invitations) => members::invitations(&client(connection)?, output).await,
        ClientCommand::List(List::Rights { member }) => {
            members::rights(&client(connection)?, member.as_deref(), output).await
        }
        ClientCommand::List(what) => inventory::list(&client(connection)?, what, output).await,
        ClientCommand::Show { what } => show::show(&client(connection)?, &what, output).await,
        ClientCommand::Usage(wish) => usage::run(&client(connection)?, wish, output).await,
        ClientCommand::Watch => crate::watch::run(client(connection)?).await,
        ClientCommand::Keep(wish) => inventory::keep(&client(connection)?, wish, output).await,
        ClientCommand::Freeze(wish) => team::freeze(&client(connection)?, wish, output).await,
        ClientCommand::Unfreeze { number } => {
            client(connection)?.lift_freeze(number).await?;
            say(&format!("Freeze {number} is lifted."))?;
            Ok(FINE)
        }
        ClientCommand::Snooze(wish) => team::snooze(&client(connection)?, wish, output).await,
        ClientCommand::Unsnooze { number } => {
            client(connection)?.lift_snooze(number).await?;
            say(&format!("Snooze {number} has ended."))?;
            Ok(FINE)
        }
        ClientCommand::Invite(wish) => members::invite(&client(connection)?, wish, output).await,
        ClientCommand::ResetPassword { member } => {
            members::reset(&client(connection)?, &member, output).await
        }
        ClientCommand::Set(Set::Member(wish)) => members::set(&client(connection)?, wish, output).await,
        ClientCommand::Set(Set::Role(wish)) => members::set_role(&client(connection)?, wish, output).await,
        ClientCommand::Set(Set::Host { name, ports_address, group }) => {
            hosts::set(&client(connection)?, &name, ports_address, group, output).await
        }
        ClientCommand::Set(Set::Preferences {
            kept_earlier,
            tidy_after,
            safe_after,
            cache_safe_after,
            image_checks,
            record_terminals,
            browse_host_folders,
            drift_needs_attention,
            second_factor_for_all,
            session_hours,
            guard_remove_volumes,
            guard_root_shell,
            guard_host_reach,
            guard_members,
        }) => {
            images::set_preferences(
                &client(connection)?,
                |all| {
                    all.kept_earlier = kept_earlier.unwrap_or(all.kept_earlier);
                    all.tidy_after_hours = tidy_after.unwrap_or(all.tidy_after_hours);
                    all.safe_after_hours = safe_after.unwrap_or(all.safe_after_hours);
                    all.cache_safe_after_hours = cache_safe_after.unwrap_or(all.cache_safe_after_hours);
                    all.image_check_hours = image_checks.unwrap_or(all.image_check_hours);
                    all.record_terminals = record_terminals.unwrap_or(all.record_terminals);
                    all.browse_host_folders = browse_host_folders.unwrap_or(all.browse_host_folders);
                    all.drift_needs_attention = drift_needs_attention.unwrap_or(all.drift_needs_attention);
                    all.second_factor_for_all = second_factor_for_all.unwrap_or(all.second_factor_for_all);
                    all.session_hours = session_hours.unwrap_or(all.session_hours);
                    all.guard_remove_volumes = guard_remove_volumes.unwrap_or(all.guard_remove_volumes);
                    all.guard_root_shell = guard_root_shell.unwrap_or(all.guard_root_shell);
                    all.guard_host_reach = guard_host_reach.unwrap_or(all.guard_host_reach);
                    all.guard_members = guard_members.unwrap_or(all.guard_members);
                },
                output,
            )
            .await
        }
        ClientCommand::Set(Set::File { place, mode, user, group }) => {
            let (of, path) = files::place(&place)?;
            let change = FileChange::SetMode { path, mode, user, group };
            files::change(&client(connection)?, of, &change, "set").await
        }
        ClientCommand::Logs(wish) => logs::run(&client(connection)?, wish, output).await,
        ClientCommand::Start(args) => {
            let client = client(connection)?;
            let request = Request::Start(StartRequest { rolling: act::rolling(&args.rolled) });
            on_containers(&client, request, &args.targets, output).await
        }
        ClientCommand::Stop(args) => {
            let rolling = act::rolling(&args.rolled);
            let request = Request::Stop(StopRequest { grace_seconds: args.grace, rolling });
            on_containers(&client(connection)?, request, &args.targets, output).await
        }
        ClientCommand::Restart(args) => {
            let rolling = act::rolling(&args.rolled);
            let request = Request::Restart(RestartRequest { grace_seconds: args.grace, rolling });
            on_containers(&client(connection)?, request, &args.targets, output).await
        }
        ClientCommand::Pause(targets) => {
            on_containers(&client(connection)?, Request::Pause, &targets, output).await
        }
        ClientCommand::Resume(targets) => {
            on_containers(&client(connection)?, Request::Resume, &targets, output).await
        }
        ClientCommand::Deploy(args) => act::deploy(&client(connection)?, *args, output).await,
        ClientCommand::Adopt { stack, preview } => {
            stacks::adopt(&client(connection)?, &stack, !preview, output).await
        }
        ClientCommand::Scale(args) => stack_changes::scale(&client(connection)?, args, output).await,
        ClientCommand::Move(args) => stack_changes::move_to(&client(connection)?, args, output).await,
        ClientCommand::Clone(args) => stack_changes::clone_to(&client(connection)?, args, output).await,
        ClientCommand::Set(Set::Source(args)) => {
            stack_sources::set(&client(connection)?, *args, output).await
        }
        ClientCommand::Set(Set::Variable(args)) => {
            stack_changes::set_variables(&client(connection)?, args, output).await
        }
        ClientCommand::Edit(args) => act::edit(&client(connection)?, *args, output).await,
        ClientCommand::Update(args) => act::update(&client(connection)?, args, output).await,
        ClientCommand::Rollback(args) => act::rollback(&client(connection)?, args, output).await,
        ClientCommand::Pull(args) => act::pull(&client(connection)?, args, output).await,
        ClientCommand::Push(args) => act::push(&client(connection)?, args, output).await,
        ClientCommand::Tag { what, new_name } => act::tag(&client(connection)?, what, new_name, output).await,
        ClientCommand::Connect(args) => act::join(&client(connection)?, args, output).await,
        ClientCommand::Disconnect(args) => act::leave(&client(connection)?, args, output).await,
        ClientCommand::Tidy(args) => act::tidy(&client(connection)?, args, output).await,
        ClientCommand::Shell(args) => shell::open(&client(connection)?, args).await,
        ClientCommand::Attach { container } => shell::attach(&client(connection)?, container).await,
        ClientCommand::RunJob(args) => jobs::run(&client(connection)?, args, output).await,
        ClientCommand::RunOnce(args) => shell::run_once(&client(connection)?, *args, output).await,
        ClientCommand::Copy(args) => copy::run(&client(connection)?, args).await,
        ClientCommand::Browse { place } => files::browse(&client(connection)?, &place, output).await,
        ClientCommand::CreateFolder { place } => {
            let (of, path) = files::place(&place)?;
            files::change(&client(connection)?, of, &FileChange::CreateFolder { path }, "created").await
        }
        ClientCommand::Rename { place, to } => {
            let (of, path) = files::place(&place)?;
            files::change(&client(connection)?, of, &FileChange::Rename { path, to }, "renamed").await
        }
        ClientCommand::Delete { place } => {
            let (of, path) = files::place(&place)?;
            files::change(&client(connection)?, of, &FileChange::Delete { path }, "deleted").await
        }
        ClientCommand::Build(args) => build::run(&client(connection)?, args, output).await,
        ClientCommand::Export { what, host: Some(host), file, .. } => {
            copy::export(&client(connection)?, &host, &what, &file).await
        }
        ClientCommand::Export { what, host: None, file, .. } => {
            stack_texts::export(&client(connection)?, &what, &file).await
        }
        ClientCommand::Import { file, host } => copy::import(&client(connection)?, &host, &file).await,
        ClientCommand::Search { text } => images::search(&client(connection)?, &text, output).await,
        ClientCommand::Preview { words } => act::preview_of(words, connection).await,
        ClientCommand::Retry { operation } => act::retry(&client(connection)?, operation, output).await,
        ClientCommand::Kill(args) => {
            let request = Request::Kill(KillRequest { signal: Some(args.signal) });
            on_containers(&client(connection)?, request, &args.targets, output).await
        }
        ClientCommand::Remove(args) => remove::run(&client(connection)?, args, output).await,
        ClientCommand::Cancel { operation } => change::cancel(&client(connection)?, operation, output).await,
        ClientCommand::Add(Add::Host { name, address, untested, material }) => {
            hosts::add(&client(connection)?, name, address, untested, &material, output).await
        }
        ClientCommand::Add(Add::Volume(wish)) => act::add_volume(&client(connection)?, wish, output).await,
        ClientCommand::Add(Add::Network(wish)) => act::add_network(&client(connection)?, *wish, output).await,
        ClientCommand::Add(Add::Registry(wish)) => {
            act::add_registry(&client(connection)?, wish, output).await
        }
        ClientCommand::Test(Test::Registry(wish)) => act::test_registry(&client(connection)?, wish).await,
        ClientCommand::Test(Test::Host { host, address, material }) => {
            hosts::test(&client(connection)?, host, address, &material, output).await
        }
        ClientCommand::Completions { shell } => {
            // Into memory first: whoever reads it may leave before its end.
            let mut text = Vec::new();
            clap_complete::generate(shell, &mut with_examples(Arguments::command()), "gubernum", &mut text);
            std::io::Write::write_all(&mut std::io::stdout().lock(), &text)?;
            Ok(FINE)
        }
        ClientCommand::Manual { folder } => {
            std::fs::create_dir_all(&folder)?;
            clap_mangen::generate_to(with_examples(Arguments::command()), &folder)?;
            Ok(FINE)
        }
    }
}

async fn on_containers(
    client: &Client,
    request: Request,
    targets: &Targets,
    output: Output,
) -> Result<u8, Failure> {
    let wish = NewOperation::new(request, act::references(client, targets).await?);
    change::run(client, wish, &targets.manner, output).await
}
