//! The Git repositories that stacks follow.

use std::path::Path;

use gubernum_api::sources::{SetSource, StackSource};
use gubernum_client::Client;

use crate::arguments::Output;
use crate::arguments_stacks::SetSourceArguments;
use crate::commands::stacks::host_and_stack;
use crate::exit::{FINE, Failure};
use crate::table::{age, say, say_json};

/// The most bytes of a token.
const LONGEST_TOKEN: u64 = 64 * 1024;

fn text_of(path: Option<&Path>) -> Result<Option<String>, Failure> {
    let read = |path: &Path| {
        std::fs::read_to_string(path)
            .map_err(|e| Failure::Said(format!("{} cannot be read: {e}", path.display())))
    };
    path.map(read).transpose()
}

fn token() -> Result<String, Failure> {
    use std::io::Read;
    let mut text = String::new();
    std::io::stdin().take(LONGEST_TOKEN).read_to_string(&mut text)?;
    Ok(text.trim().to_owned())
}

pub(super) async fn set(client: &Client, wish: SetSourceArguments, output: Output) -> Result<u8, Failure> {
    let (host, stack) = host_and_stack(&wish.stack)?;
    let variables = wish.variables.iter().map(|v| crate::stack_files::variable(v));
    let asked = SetSource {
        url: wish.repository,
        reference: wish.reference,
        paths: wish.paths,
        account: wish.account,
        token: wish.token_stdin.then(token).transpose()?,
        ssh_key: text_of(wish.ssh_key.as_deref())?,
        known_hosts: text_of(wish.known_hosts.as_deref())?,
        poll_seconds: wish.poll,
        applies: wish.apply,
        variables: variables.collect::<Result<_, _>>()?,
        profiles: wish.profiles.into_iter().collect(),
    };
    let set = client.set_stack_source(host, stack, &asked).await?;
    if output == Output::Json {
        say_json(&set)?;
        return Ok(FINE);
    }
    say(&words(&set, &wish.stack))?;
    Ok(FINE)
}

pub(super) async fn show(client: &Client, reference: &str, output: Output) -> Result<u8, Failure> {
    let (host, stack) = host_and_stack(reference)?;
    let source = client.stack_source(host, stack).await?;
    if output == Output::Json {
        say_json(&source)?;
    } else {
        say(&words(&source, reference))?;
    }
    Ok(FINE)
}

pub(super) async fn remove(client: &Client, reference: &str) -> Result<u8, Failure> {
    let (host, stack) = host_and_stack(reference)?;
    client.remove_stack_source(host, stack).await?;
    say(&format!("{host}/{stack} is no longer deployed from a repository; the stack stays as it is."))?;
    Ok(FINE)
}

fn words(source: &StackSource, reference: &str) -> String {
    let place = &source.place;
    let mut lines = vec![format!("{} {} {}", place.url, place.reference, place.paths.join(" "))];
    lines.push(match source.poll_seconds {
        0 => "checked when its webhook is called".to_owned(),
        seconds => format!("checked every {seconds} s, and when its webhook is called"),
    });
    let then = if source.applies { "applied without approval" } else { "waits for approval" };
    lines.push(format!("a change {then}"));
    lines.push(format!("webhook: POST {}", source.hook));
    lines.extend(source.hook_secret.iter().map(|secret| {
        format!(
            "webhook secret: {secret} (shown once; 'X-Hub-Signature-256' must be the HMAC-SHA256 of the body)"
        )
    }));
    match (&source.failed, &source.checked) {
        (Some(why), Some(when)) => lines.push(format!("last check, {} ago, failed: {why}", age(*when))),
        (None, Some(when)) => lines.push(format!("last check: {} ago", age(*when))),
        _ => lines.push("not checked yet".to_owned()),
    }
    if let Some(commit) = &source.commit {
        let short = commit.id.get(..12).unwrap_or(&commit.id);
        lines.push(format!("commit {short}, {}: {}", commit.author, commit.subject));
        if source.waiting {
            let (host, stack) = reference.split_once('/').unwrap_or((reference, ""));
            lines.push(format!(
                "waiting for approval: 'gubernum preview deploy --waiting --to {host} --name {stack}'"
            ));
        }
    }
    lines.join("\n")
}
