//! Commands that only read.

use std::io::Write;

use gubernum_api::views::ContainerDetail;
use gubernum_api::{Container, Health, LinkState, Port, State};
use gubernum_client::Client;
use gubernum_core::reason::bytes_words;
use gubernum_core::text::shown;

use crate::arguments::Output;
use crate::arguments_read::ListOperations;
use crate::exit::{FINE, Failure};
use crate::table::{age, has_room, moment, say, say_json, table};

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
    if all.is_empty() {
        say(if filters.is_empty() && references.is_empty() {
            "No containers."
        } else {
            "No container matches."
        })?;
        return Ok(FINE);
    }
    let head = ["REFERENCE", "STATE", "IMAGE", "STACK", "PORTS", "CREATED"];
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
        writeln!(err, "{} is unreachable; its data here is {seen} old", host.name)?;
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

pub(super) async fn operations(
    client: &Client,
    which: ListOperations,
    output: Output,
) -> Result<u8, Failure> {
    let optional = [
        ("object", which.object),
        ("member", which.member),
        ("kind", which.kind),
        ("outcome", which.outcome),
        ("since", which.since),
        ("until", which.until),
        ("before", which.before.map(|number| number.to_string())),
    ];
    let mut fields = vec![("limit", which.limit.to_string())];
    fields.extend(optional.into_iter().filter_map(|(name, value)| Some((name, value?))));
    let all = client.operations_where(&fields).await?;
    if output == Output::Json {
        say_json(&all)?;
        return Ok(FINE);
    }
    let rows = all.iter().map(|o| {
        vec![
            o.id.to_string(),
            format!("{} ago", age(o.created)),
            o.author.clone(),
            o.request.kind().to_string(),
            o.references.join(" "),
            outcome_words(o),
        ]
    });
    say(&table(&["NUMBER", "TIME", "MEMBER", "OPERATION", "TARGETS", "OUTCOME"], rows.collect()))?;
    Ok(FINE)
}

/// `succeeded`, or `failed: 4 of 6 succeeded`.
fn outcome_words(o: &gubernum_api::Operation) -> String {
    let good = o.targets.iter().filter(|t| t.state.is_good()).count();
    if good == o.targets.len() {
        o.state.word().to_owned()
    } else {
        format!("{}: {good} of {} succeeded", o.state.word(), o.targets.len())
    }
}

/// One operation: what was requested, by whom, and what became of each target.
pub(super) async fn operation(client: &Client, id: u64, output: Output) -> Result<u8, Failure> {
    let o = client.operation(id).await?;
    if output == Output::Json {
        say_json(&o)?;
        return Ok(FINE);
    }
    let over = o.ended.map_or_else(
        || o.state.word().to_owned(),
        |end| format!("{}, ended {} ago", o.state.word(), age(end)),
    );
    let head = [
        ("operation", o.id.to_string()),
        ("kind", o.request.kind().to_string()),
        ("targets", o.references.join(" ")),
        ("member", o.author.clone()),
        ("started", format!("{} ({} ago)", moment(o.created), age(o.created))),
        ("state", over),
    ];
    let lines: Vec<String> = head.iter().map(|(name, value)| format!("{name:<12}{value}")).collect();
    let rows = o.targets.iter().map(|t| {
        let step = match (t.at, t.steps.len()) {
            (Some(at), all) if all > 1 && !t.state.is_final() => format!(" (step {} of {all})", at + 1),
            _ => String::new(),
        };
        vec![
            format!("{}/{}", t.host, t.name),
            format!("{}{step}", t.state.word()),
            t.sentence.clone().unwrap_or_default(),
        ]
    });
    let targets = table(&["TARGET", "OUTCOME", "REASON"], rows.collect());
    say(&format!("{}\n\n{targets}", lines.join("\n")))?;
    Ok(FINE)
}

pub(super) async fn attention(client: &Client, output: Output) -> Result<u8, Failure> {
    let all = client.attention().await?;
    if output == Output::Json {
        say_json(&all)?;
        return Ok(FINE);
    }
    let (aside, told): (Vec<_>, Vec<_>) = all.iter().partition(|item| item.snoozed.is_some());
    if told.is_empty() {
        say("Nothing needs attention.")?;
    }
    let rows = told.iter().map(|item| {
        let of_host = item.container.as_ref().or(item.stack.as_ref());
        let what = of_host.map_or_else(|| item.host.clone(), |name| format!("{}/{name}", item.host));
        let advice = if has_room() { item.reason.advice.clone() } else { String::new() };
        vec![what, item.reason.sentence.clone(), advice]
    });
    if !told.is_empty() {
        say(&table(&["OBJECT", "REASON", "ADVICE"], rows.collect()))?;
    }
    if !aside.is_empty() {
        say(&format!("{} snoozed; 'gubernum list snoozes' shows them.", aside.len()))?;
    }
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

/// What the engine's record tells beyond the fleet's own.
fn settings(raw: &serde_json::Value, line: &mut impl FnMut(&str, String)) {
    let at = |pointer: &str| raw.pointer(pointer).cloned().unwrap_or_default();
    let number = |pointer: &str| at(pointer).as_i64().filter(|&n| n > 0);
    let list = |pointer: &str| {
        let all = at(pointer);
        let texts = all.as_array().into_iter().flatten().filter_map(|v| v.as_str().map(str::to_owned));
        texts.collect::<Vec<_>>().join(" ")
    };
    let size = |pointer: &str| number(pointer).map(|n| bytes_words(n.unsigned_abs())).unwrap_or_default();
    line("memory limit", size("/HostConfig/Memory"));
    let nanos = number("/HostConfig/NanoCpus").map(|n| n as f64 / 1e9);
    let quota = number("/HostConfig/CpuQuota")
        .map(|q| q as f64 / number("/HostConfig/CpuPeriod").unwrap_or(100_000) as f64);
    line("processors", nanos.or(quota).map(|p| p.to_string()).unwrap_or_default());
    line("process limit", number("/HostConfig/PidsLimit").map(|n| n.to_string()).unwrap_or_default());
    let yes = |pointer: &str| at(pointer).as_bool() == Some(true);
    if yes("/HostConfig/Privileged") {
        line("privileged", "yes".to_owned());
    }
    if yes("/HostConfig/ReadonlyRootfs") {
        line("root", "read-only".to_owned());
    }
    line(
        "capabilities",
        [("+", "/HostConfig/CapAdd"), ("-", "/HostConfig/CapDrop")]
            .iter()
            .map(|(sign, pointer)| {
                list(pointer).split_whitespace().map(|c| format!("{sign}{c}")).collect::<Vec<_>>().join(" ")
            })
            .filter(|t| !t.is_empty())
            .collect::<Vec<_>>()
            .join(" "),
    );
    for (target, options) in at("/HostConfig/Tmpfs").as_object().into_iter().flatten() {
        line("tmpfs", format!("{target} {}", options.as_str().unwrap_or_default()).trim().to_owned());
    }
    line("user", at("/Config/User").as_str().unwrap_or_default().to_owned());
    line("working dir", at("/Config/WorkingDir").as_str().unwrap_or_default().to_owned());
    line("log driver", at("/HostConfig/LogConfig/Type").as_str().unwrap_or_default().to_owned());
    line("health check", list("/Config/Healthcheck/Test"));
    let outcomes = at("/State/Health/Log");
    if let Some(last) = outcomes.as_array().and_then(|all| all.last()) {
        let code = last["ExitCode"].as_i64().unwrap_or_default();
        let text = last["Output"].as_str().unwrap_or_default().trim().to_owned();
        line("last check", format!("exit code {code} {text}").trim().to_owned());
    }
}

fn describe(detail: &ContainerDetail) -> String {
    let c = &detail.container;
    let mut out = format!("{}  {}\n", shown(&c.reference(), 200), state_words(c));
    if let Some(reason) = &c.attention {
        out.push_str(&format!("\n  {}\n  {}\n", reason.sentence, reason.advice));
        for line in &reason.evidence {
            out.push_str(&format!("    {}\n", shown(line, 300)));
        }
    }
    let mut line = |name: &str, value: String| {
        if !value.is_empty() {
            out.push_str(&format!("\n{name:<14} {}", shown(&value, 2000)));
        }
    };
    let when =
        |t: Option<jiff::Timestamp>| t.map(|t| format!("{} ({} ago)", moment(t), age(t))).unwrap_or_default();
    line("image", c.image.clone());
    line("image id", c.image_id.clone());
    line("id", c.id.clone());
    line("command", c.command.clone());
    line("stack", [c.stack.clone(), c.service.clone()].into_iter().flatten().collect::<Vec<_>>().join(" / "));
    line("created", when(Some(c.created)));
    line("started", when(c.started));
    line("exited", when(c.finished));
    line("restarts", format!("{} (policy {})", c.restart_count, c.restart_policy));
    for network in &c.networks {
        let there = c.attachments.iter().find(|a| a.network == *network);
        let address = there.and_then(|a| a.address.clone()).unwrap_or_default();
        let aliases = there.map(|a| a.aliases.join(" ")).unwrap_or_default();
        line("network", [network.as_str(), &address, &aliases].join(" ").trim().to_owned());
    }
    settings(&detail.raw, &mut line);
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
