//! Changes of whole stacks that need no file: scale, variables, an earlier revision, removal; and moving or cloning
//! to another host.

use gubernum_api::requests::{
    ApplyRequest, MoveKind, MoveRequest, NewOperation, RemoveStackRequest, Request,
};
use gubernum_client::Client;

use crate::arguments::Output;
use crate::arguments_act::Rollback;
use crate::arguments_stacks::{Clone, Move, MoveArguments, RemoveStack, Scale, SetVariables, StackChange};
use crate::commands::change;
use crate::commands::stacks::host_and_stack;
use crate::exit::Failure;

/// The newest revision of a stack, to be applied again.
async fn newest(client: &Client, again: &StackChange) -> Result<(String, ApplyRequest), Failure> {
    let (host, stack) = host_and_stack(&again.stack)?;
    let all = client.stack_revisions(host, stack).await?;
    let Some(newest) = all.first() else {
        return Err(Failure::Said(format!(
            "{} was not deployed with Gubernum; deploy it from its files, or 'gubernum adopt {}' first",
            again.stack, again.stack
        )));
    };
    let request = ApplyRequest {
        stack: stack.to_owned(),
        revision: Some(newest.number),
        comment: again.comment.clone(),
        ..ApplyRequest::default()
    };
    Ok((host.to_owned(), request))
}

fn pair<'a>(text: &'a str, written: &str) -> Result<(&'a str, &'a str), Failure> {
    let pair = text.split_once('=').filter(|(name, _)| !name.is_empty());
    pair.ok_or_else(|| Failure::Usage(format!("'{text}' has no '='; write {written}")))
}

pub(super) async fn scale(client: &Client, wish: Scale, output: Output) -> Result<u8, Failure> {
    let (host, mut request) = newest(client, &wish.again).await?;
    for service in &wish.services {
        let (name, number) = pair(service, "SERVICE=NUMBER")?;
        let wrong = |_| Failure::Usage(format!("'{number}' in '{service}' is not a number of containers"));
        request.scale.insert(name.to_owned(), number.parse().map_err(wrong)?);
    }
    let asked = NewOperation::new(Request::Apply(request), vec![host]);
    change::run(client, asked, &wish.again.manner, output).await
}

pub(super) async fn set_variables(
    client: &Client,
    wish: SetVariables,
    output: Output,
) -> Result<u8, Failure> {
    let (host, mut request) = newest(client, &wish.again).await?;
    for variable in &wish.variables {
        let (name, value) = pair(variable, "NAME=VALUE")?;
        request.variables.insert(name.to_owned(), value.to_owned());
    }
    let asked = NewOperation::new(Request::Apply(request), vec![host]);
    change::run(client, asked, &wish.again.manner, output).await
}

/// Puts a stack back to a revision.
pub(super) async fn back_to(
    client: &Client,
    revision: u64,
    wish: &Rollback,
    output: Output,
) -> Result<u8, Failure> {
    let [reference] = &wish.targets.references[..] else {
        return Err(Failure::Usage(
            "a revision belongs to one stack; name it as 'packhouse/frostwatch'".to_owned(),
        ));
    };
    let (host, stack) = host_and_stack(reference)?;
    let request = ApplyRequest {
        stack: stack.to_owned(),
        revision: Some(revision),
        watch_seconds: wish.watched.watch,
        ..ApplyRequest::default()
    };
    let asked = NewOperation::new(Request::Apply(request), vec![host.to_owned()]);
    change::run(client, asked, &wish.targets.manner, output).await
}

pub(super) async fn remove(client: &Client, wish: RemoveStack, output: Output) -> Result<u8, Failure> {
    let (host, stack) = host_and_stack(&wish.stack)?;
    let request = RemoveStackRequest { stack: stack.to_owned(), volumes: wish.volumes, images: wish.images };
    let asked = NewOperation::new(Request::RemoveStack(request), vec![host.to_owned()]);
    change::run(client, asked, &wish.manner, output).await
}

fn goes(wish: &MoveArguments) -> Result<MoveRequest, Failure> {
    let what = match (wish.stack, wish.volume) {
        (true, _) => MoveKind::Stack,
        (_, true) => MoveKind::Volume,
        _ => MoveKind::Container,
    };
    let mut request = MoveRequest {
        what,
        to: wish.to.clone(),
        name: wish.name.clone(),
        first_pass: wish.first_pass,
        pull: wish.pull,
        unverified: wish.unverified,
        watch_seconds: wish.watch,
        ..MoveRequest::default()
    };
    for port in &wish.ports {
        let (old, new) = pair(port, "PORT=NEW")?;
        let number = |text: &str| {
            text.parse::<u16>().map_err(|_| Failure::Usage(format!("'{text}' in '{port}' is not a port")))
        };
        request.ports.insert(number(old)?, number(new)?);
    }
    Ok(request)
}

pub(super) async fn move_to(client: &Client, wish: Move, output: Output) -> Result<u8, Failure> {
    let request = MoveRequest { keep: wish.keep, remove_volumes: wish.remove_volumes, ..goes(&wish.goes)? };
    let asked = NewOperation::new(Request::Move(request), vec![wish.goes.reference]);
    change::run(client, asked, &wish.goes.manner, output).await
}

pub(super) async fn clone_to(client: &Client, wish: Clone, output: Output) -> Result<u8, Failure> {
    let request = MoveRequest { running: wish.running, ..goes(&wish.goes)? };
    if wish.settings_only {
        return super::act::clone_settings(client, wish.goes, &request.ports, output).await;
    }
    let asked = NewOperation::new(Request::Clone(request), vec![wish.goes.reference]);
    change::run(client, asked, &wish.goes.manner, output).await
}
