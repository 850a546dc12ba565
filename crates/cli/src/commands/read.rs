//! Commands that only look.

use std::io::Write;

use gubernum_api::views::ContainerDetail;
use gubernum_api::{Container, Health, LinkState, Port, State};
use gubernum_client::Client;
use gubernum_core::text::shown;

use crate::arguments::Output;
use crate::exit::{FINE, Failure};
use crate::table::{age, say, say_json, table};

pub(super) async fn containers(
    client: &Client,
    references: &[String],
    filters: &[(&'static str, Option<String>)],
    output: Output,
) -> Result<u8, Failure> {
    let filters: Vec<(&str, String)> = filters.iter().filter_map(|(n, v)| Some((*n, v.clone()?))).collect();
    let mut all = Vec::new();
    if references.is_empty() {
        all = client.containers(&filters).await?;
    }
    for reference in references {
        let mut narrowed = filters.clone();
        narrowed.push(("reference", reference.clone()));
        all.extend(client.containers(&narrowed).await?);
    }
    all.sort_by(|a, b| (&a.host, &a.name).cmp(&(&b.host, &b.name)));
    all.dedup_by(|a, b| a.host == b.host && a.id == b.id);
    if output == Output::Json {
        say_json(&all)?;
        return Ok(FINE);
    }
    let head = ["REFERENCE", "STATE", "IMAGE", "STACK", "PORTS", "MADE"];
    let rows = all.iter().map(|c| {
        vec![
            c.reference(),
            state_words(c),
            c.image.clone(),
            c.stack.clone().unwrap_or_default(),
            ports_words(&c.ports),
            format!("{} ago", age(c.created)),
        ]
    });
    say(&table(&head, rows.collect()))?;
    // On standard error, where it spoils no script that reads the table.
    for host in client
        .hosts()
        .await?
        .iter()
        .filter(|h| h.state != LinkState::Live && all.iter().any(|c| c.host == h.name))
    {
        let seen = host.last_seen.map_or_else(|| "some time".to_owned(), age);
        let mut err = std::io::stderr();
        writeln!(err, "{} is out of reach; what stands here of it is {seen} old", host.name)?;
    }
    Ok(FINE)
}

/// `running, unhealthy` or `exited 137 (2 h ago)`.
fn state_words(c: &Container) -> String {
    match (c.state, c.health, c.exit_code) {
        (State::Running, Health::None, _) => "running".to_owned(),
        (State::Running, health, _) => format!("running, {}", health.word()),
        (State::Exited, _, Some(code)) => {
            let when = c.finished.map(|t| format!(" ({} ago)", age(t))).unwrap_or_default();
            format!("exited {code}{when}")
        }
        (state, ..) => state.word().to_owned(),
    }
}

/// Published ports: `7311→8080`, the address only where it is not every one.
fn ports_words(ports: &[Port]) -> String {
    let mut words: Vec<String> = ports
        .iter()
        .filter_map(|p| {
            let host = p.host_port?;
            let every = matches!(p.address.as_deref(), None | Some("0.0.0.0" | "::"));
            let address =
                if every { String::new() } else { format!("{}:", p.address.as_deref().unwrap_or_default()) };
            let protocol = if p.protocol == "tcp" { String::new() } else { format!("/{}", p.protocol) };
            Some(format!("{address}{host}→{}{protocol}", p.container_port))
        })
        .collect();
    words.dedup();
    words.join(" ")
}

pub(super) async fn operations(client: &Client, limit: u32, output: Output) -> Result<u8, Failure> {
    let all = client.operations(limit).await?;
    if output == Output::Json {
        say_json(&all)?;
        return Ok(FINE);
    }
    let rows = all.iter().map(|o| {
        let good = o.targets.iter().filter(|t| t.state.is_good()).count();
        vec![
            o.id.to_string(),
            format!("{} ago", age(o.created)),
            o.author.clone(),
            o.request.kind.to_string(),
            o.references.join(" "),
            format!("{}, {good} of {} as asked", o.state.word(), o.targets.len()),
        ]
    });
    say(&table(&["NUMBER", "WHEN", "WHO", "WHAT", "ON", "OUTCOME"], rows.collect()))?;
    Ok(FINE)
}

pub(super) async fn attention(client: &Client, output: Output) -> Result<u8, Failure> {
    let all = client.attention().await?;
    if output == Output::Json {
        say_json(&all)?;
        return Ok(FINE);
    }
    if all.is_empty() {
        say("Nothing needs attention.")?;
        return Ok(FINE);
    }
    let rows = all.iter().map(|item| {
        let what =
            item.container.as_ref().map_or_else(|| item.host.clone(), |c| format!("{}/{c}", item.host));
        vec![what, item.reason.sentence.clone(), item.reason.advice.clone()]
    });
    say(&table(&["WHAT", "WHY", "TRY"], rows.collect()))?;
    Ok(FINE)
}

pub(super) async fn show(client: &Client, reference: &str, output: Output) -> Result<u8, Failure> {
    let detail = client.container(reference).await?;
    if output == Output::Json {
        say_json(&detail)?;
    } else {
        say(&describe(&detail))?;
    }
    Ok(FINE)
}

fn describe(detail: &ContainerDetail) -> String {
    let c = &detail.container;
    let mut out = format!("{}  {}\n", shown(&c.reference(), 200), state_words(c));
    if let Some(reason) = &c.attention {
        out.push_str(&format!("\n  {}\n  {}\n", reason.sentence, reason.advice));
    }
    let mut line = |name: &str, value: String| {
        if !value.is_empty() {
            out.push_str(&format!("\n{name:<14} {}", shown(&value, 2000)));
        }
    };
    let when = |t: Option<jiff::Timestamp>| t.map(|t| format!("{t} ({} ago)", age(t))).unwrap_or_default();
    line("image", c.image.clone());
    line("image id", c.image_id.clone());
    line("id", c.id.clone());
    line("command", c.command.clone());
    line("stack", [c.stack.clone(), c.service.clone()].into_iter().flatten().collect::<Vec<_>>().join(" / "));
    line("made", when(Some(c.created)));
    line("started", when(c.started));
    line("ended", when(c.finished));
    line("restarts", format!("{} (policy {})", c.restart_count, c.restart_policy));
    line("networks", c.networks.join(" "));
    let inner = c
        .ports
        .iter()
        .filter(|p| p.host_port.is_none())
        .map(|p| format!("{}/{}", p.container_port, p.protocol));
    line("ports", ports_words(&c.ports));
    line("inner ports", inner.collect::<Vec<_>>().join(" "));
    for mount in &c.mounts {
        let read_only = if mount.read_only { " (read only)" } else { "" };
        line("mount", format!("{} {} → {}{read_only}", mount.kind, mount.source, mount.target));
    }
    for variable in &detail.environment {
        line("environment", format!("{}={}", variable.name, variable.value));
    }
    for (name, value) in &c.labels {
        line("label", format!("{name}={value}"));
    }
    out
}
