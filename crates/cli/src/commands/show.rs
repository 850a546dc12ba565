//! One object in full: an image, volume, network, stack or host. Containers and operations are in `read`.

use gubernum_client::Client;
use gubernum_core::reason::bytes_words;
use gubernum_core::text::shown;

use super::inventory::stack_rows;
use super::read;
use crate::arguments::Output;
use crate::exit::{FINE, Failure};
use crate::table::{age, moment, say, say_json, table};

/// Shows what is named: a container, or a kind and a name.
pub(super) async fn show(client: &Client, what: &[String], output: Output) -> Result<u8, Failure> {
    let (kind, name) = match what {
        [name] => ("container", name),
        [kind, name] => (kind.as_str(), name),
        _ => return Err(Failure::Usage("give a container, or a kind and a name".to_owned())),
    };
    match kind {
        "container" => read::show(client, name, output).await,
        "operation" => {
            let number = name
                .parse()
                .map_err(|_| Failure::Usage(format!("'{name}' is not the number of an operation")))?;
            read::operation(client, number, output).await
        }
        "image" => image(client, name, output).await,
        "volume" => volume(client, name, output).await,
        "network" => network(client, name, output).await,
        "stack" => stack(client, name, output).await,
        "drift" => super::stacks::drift(client, name, output).await,
        "revision" => super::stack_texts::revision(client, name, output).await,
        "difference" => super::stack_texts::difference(client, name, output).await,
        "source" => super::stack_sources::show(client, name, output).await,
        "job" => super::jobs::show(client, name, output).await,
        "host" => host(client, name, output).await,
        other => Err(Failure::Usage(format!(
            "unknown kind '{other}'; use container, operation, image, volume, network, stack, drift, revision, difference, source, job or host"
        ))),
    }
}

/// An image with its copies, its settings and the steps that made it.
async fn image(client: &Client, name: &str, output: Output) -> Result<u8, Failure> {
    let detail = client.image(name).await?;
    if output == Output::Json {
        say_json(&detail)?;
        return Ok(FINE);
    }
    let i = &detail.image;
    let mut lines = vec![
        ("tags", i.tags.join(" ")),
        ("id", i.id.clone()),
        ("size", bytes_words(i.size)),
        ("created", format!("{} ({} ago)", moment(i.created), age(i.created))),
        ("platform", i.architecture.clone().unwrap_or_else(|| "unknown".to_owned())),
        ("command", detail.command.join(" ")),
        ("user", detail.user.clone()),
        ("working dir", detail.working_folder.clone()),
        ("ports", detail.ports.join(" ")),
    ];
    for c in &i.copies {
        let users = if c.used_by.is_empty() { "unused".to_owned() } else { c.used_by.join(" ") };
        let shared = c.image.shared.map(|s| format!(", {} of it shared", bytes_words(s))).unwrap_or_default();
        lines.push(("host", format!("{}: {users}{shared}", c.host)));
    }
    lines.extend(detail.environment.iter().map(|v| ("environment", format!("{}={}", v.name, v.value))));
    lines.extend(detail.steps.iter().map(|s| ("step", format!("{:>9}  {}", bytes_words(s.size), s.command))));
    describe(lines)
}

/// A volume and who mounts it.
async fn volume(client: &Client, name: &str, output: Output) -> Result<u8, Failure> {
    let all = client.volumes(&[]).await?;
    let v = one(all, name, |v| (v.host.clone(), v.volume.name.clone()))?;
    if output == Output::Json {
        say_json(&v)?;
        return Ok(FINE);
    }
    let mut lines = vec![
        ("volume", format!("{}/{}", v.host, v.volume.name)),
        ("driver", v.volume.driver.clone()),
        ("host path", v.volume.mount_point.clone()),
        ("size", v.volume.size.map_or_else(|| "not measured yet".to_owned(), bytes_words)),
        ("created", v.volume.created.map(|t| format!("{} ({} ago)", moment(t), age(t))).unwrap_or_default()),
        ("unused for", v.unused_since.map(age).unwrap_or_default()),
    ];
    for u in &v.used_by {
        let manner = if u.read_only { " (read-only)" } else { "" };
        lines.push(("used by", format!("{} at {}{manner}", u.container, u.target)));
    }
    lines.extend(v.volume.options.iter().map(|(k, x)| ("option", format!("{k}={x}"))));
    lines.extend(v.volume.labels.iter().map(|(k, x)| ("label", format!("{k}={x}"))));
    describe(lines)
}

/// A network and who is in it.
async fn network(client: &Client, name: &str, output: Output) -> Result<u8, Failure> {
    let all = client.networks(&[]).await?;
    let n = one(all, name, |n| (n.host.clone(), n.network.name.clone()))?;
    if output == Output::Json {
        say_json(&n)?;
        return Ok(FINE);
    }
    let mut lines = vec![
        ("network", format!("{}/{}", n.host, n.network.name)),
        ("driver", n.network.driver.clone()),
        ("id", n.network.id.clone()),
    ];
    for s in &n.network.subnets {
        let gateway = s.gateway.as_ref().map(|g| format!(", gateway {g}")).unwrap_or_default();
        lines.push(("subnet", format!("{}{gateway}", s.subnet)));
    }
    for m in &n.members {
        let aliases = m.aliases.join(" ");
        lines.push((
            "container",
            format!("{} {} {aliases}", m.container, m.address.clone().unwrap_or_default()),
        ));
    }
    lines.extend(n.network.labels.iter().map(|(k, x)| ("label", format!("{k}={x}"))));
    describe(lines)
}

/// A stack, service by service.
async fn stack(client: &Client, name: &str, output: Output) -> Result<u8, Failure> {
    let found = client.stacks().await?.into_iter().find(|s| s.name == name);
    let Some(stack) = found else {
        return Err(not_found(&format!("no stack '{name}'")));
    };
    if output == Output::Json {
        say_json(&stack)?;
        return Ok(FINE);
    }
    let head = format!("{}  {} of {} running\n", stack.name, stack.running, stack.wanted);
    let rows = stack_rows(&stack).into_iter().map(|mut r| r.split_off(1)).collect();
    say(&format!("{head}\n{}", table(&["SERVICE", "RUNNING", "HOSTS", "IMAGE", "PORTS"], rows)))?;
    Ok(FINE)
}

/// A host: its link, its machine, its disk and what was wrong.
async fn host(client: &Client, name: &str, output: Output) -> Result<u8, Failure> {
    let found = client.hosts().await?.into_iter().find(|h| h.name == name);
    let Some(h) = found else { return Err(not_found(&format!("no host '{name}'"))) };
    if output == Output::Json {
        say_json(&h)?;
        return Ok(FINE);
    }
    let unknown = || "unknown: not reported by the engine".to_owned();
    let size = |b: Option<u64>| b.map_or_else(unknown, bytes_words);
    let clock = match h.machine.clock_ahead_ms {
        None => unknown(),
        Some(0) => "the same as the service's".to_owned(),
        Some(ms) if ms > 0 => format!("{} s ahead of the service's", ms as f64 / 1000.0),
        Some(ms) => format!("{} s behind the service's", -ms as f64 / 1000.0),
    };
    let engine = h.engine.as_ref();
    let mut lines = vec![
        ("host", h.name.clone()),
        ("link", format!("{} ({})", h.address, h.link)),
        (
            "engine",
            engine.map(|e| format!("{} {}, API {}", e.kind, e.version, e.api_version)).unwrap_or_default(),
        ),
        ("system", h.machine.system.clone().unwrap_or_else(unknown)),
        ("kernel", h.machine.kernel.clone().unwrap_or_else(unknown)),
        ("architecture", engine.map(|e| e.architecture.clone()).unwrap_or_default()),
        ("processors", h.machine.processors.map_or_else(unknown, |p| p.to_string())),
        ("memory", size(h.machine.memory_total)),
        ("memory free", size(h.machine.memory_free)),
        ("booted", h.machine.booted.map_or_else(unknown, |t| format!("{} ({} ago)", moment(t), age(t)))),
        ("clock", clock),
        ("disk", size(h.disk.total)),
        ("disk used", size(h.disk.used)),
        ("by images", size(h.disk.images)),
        ("by volumes", size(h.disk.volumes)),
        ("by containers", size(h.disk.containers)),
        ("by build cache", size(h.disk.build_cache)),
        ("ports address", h.ports_address.clone().unwrap_or_else(|| "not set".to_owned())),
    ];
    lines.extend(h.attention.iter().map(|r| ("attention", r.sentence.clone())));
    lines.extend(
        h.past_problems.iter().map(|p| ("past error", format!("{}: {}", moment(p.time), p.problem.sentence))),
    );
    describe(lines)
}

fn not_found(text: &str) -> Failure {
    let problem = gubernum_api::Problem::new("not-found", "Not found", 404, text);
    Failure::Client(gubernum_client::ClientError::Problem(Box::new(problem)))
}

/// The one that is called so: `host/name`, or a name that only one host has.
fn one<T>(all: Vec<T>, wanted: &str, key: impl Fn(&T) -> (String, String)) -> Result<T, Failure> {
    let mut found: Vec<T> = all
        .into_iter()
        .filter(|x| {
            let (host, name) = key(x);
            name == wanted
                || format!("{host}/{name}") == wanted
                || (wanted.len() >= 12 && name.starts_with(wanted))
        })
        .collect();
    match found.len() {
        0 => Err(not_found(&format!("nothing is named '{wanted}'"))),
        1 => Ok(found.remove(0)),
        n => Err(not_found(&format!("{n} hosts have a '{wanted}'; write 'host/{wanted}'"))),
    }
}

fn describe(lines: Vec<(&str, String)>) -> Result<u8, Failure> {
    let lines = lines.into_iter().filter(|(_, value)| !value.trim().is_empty());
    let text: Vec<String> =
        lines.map(|(name, value)| format!("{name:<14} {}", shown(&value, 2000))).collect();
    say(&text.join("\n"))?;
    Ok(FINE)
}
