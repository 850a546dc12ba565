//! Images, volumes, networks, stacks, ports, events and kept logs.

use gubernum_api::logs::{KeepScope, NewKeepRule};
use gubernum_api::{ImageRow, NetworkRow, StackRow, VolumeRow};
use gubernum_client::Client;
use gubernum_core::reason::bytes_words;
use gubernum_core::text::shown;

use super::read;
use crate::arguments::{Keep, List, OnHost, Output};
use crate::exit::{FINE, Failure};
use crate::table::{age, say, say_json, table};

fn narrowed(wish: &OnHost) -> Vec<(&'static str, String)> {
    let mut fields: Vec<(&str, String)> = wish.host.iter().map(|h| ("host", h.clone())).collect();
    if wish.unused {
        fields.push(("unused", "true".to_owned()));
    }
    fields
}

/// The lists that are about things rather than containers.
pub(super) async fn list(client: &Client, what: List, output: Output) -> Result<u8, Failure> {
    match what {
        List::Images(wish) => {
            let all = client.images(&narrowed(&wish)).await?;
            tell(
                &all,
                output,
                &["IMAGE", "SIZE", "BUILT", "FOR", "HOSTS", "USED BY", "UNUSED FOR"],
                image_row,
            )
        }
        List::Volumes(wish) => {
            let all = client.volumes(&narrowed(&wish)).await?;
            tell(&all, output, &["VOLUME", "DRIVER", "SIZE", "MADE", "MOUNTED BY", "UNUSED FOR"], volume_row)
        }
        List::Networks(wish) => {
            let all = client.networks(&narrowed(&wish)).await?;
            tell(&all, output, &["NETWORK", "DRIVER", "ADDRESSES", "MEMBERS", "UNUSED FOR"], network_row)
        }
        List::Registries => super::images::registries(client, output).await,
        List::Tags { image, limit } => super::images::tags(client, &image, limit, output).await,
        List::Earlier { container } => super::images::earlier(client, &container, output).await,
        List::NewerImages { check } => super::images::newer(client, check, output).await,
        List::Preferences => super::images::preferences(client).await,
        List::Stacks => {
            let all = client.stacks().await?;
            if output == Output::Json {
                say_json(&all)?;
                return Ok(FINE);
            }
            let rows = all.iter().flat_map(stack_rows).collect();
            say(&table(&["STACK", "SERVICE", "RUNS", "HOSTS", "IMAGE", "PORTS"], rows))?;
            Ok(FINE)
        }
        List::Ports { host, port } => {
            let mut fields: Vec<(&str, String)> = host.into_iter().map(|h| ("host", h)).collect();
            fields.extend(port.map(|p| ("port", p.to_string())));
            let all = client.ports(&fields).await?;
            tell(&all, output, &["HOST", "PORT", "ADDRESS", "CONTAINER", "INSIDE", "STATE"], |p| {
                let state = match (p.clash, p.listening) {
                    (true, _) => "wanted twice",
                    (false, true) => "listens",
                    (false, false) => "reserved, does not run",
                };
                let address = p.address.clone().unwrap_or_else(|| "the host's own network".to_owned());
                let inside = if p.host_network { String::new() } else { p.container_port.to_string() };
                vec![
                    p.host.clone(),
                    format!("{}/{}", p.port, p.protocol),
                    address,
                    p.container.clone(),
                    inside,
                    state.to_owned(),
                ]
            })
        }
        List::Events { host, object, member, kind, bad, since, until, limit } => {
            let mut fields = vec![("limit", limit.to_string())];
            let optional =
                [("host", host), ("object", object), ("member", member), ("since", since), ("until", until)];
            fields.extend(optional.into_iter().filter_map(|(name, value)| Some((name, value?))));
            fields.extend(kind.into_iter().map(|k| ("kind", k)));
            if bad {
                fields.push(("bad", "true".to_owned()));
            }
            let all = client.timeline(&fields).await?;
            tell(&all, output, &["WHEN", "WHAT", "ON", "WHO", "MORE"], |e| {
                let name = if e.name.len() == 64 { &e.name[..12] } else { &e.name };
                let on = match (e.host.is_empty(), e.object.as_str()) {
                    (false, "container") => format!("{}/{name}", e.host),
                    (false, "host") => e.host.clone(),
                    (false, object) => format!("{} {object} {name}", e.host),
                    (true, _) => name.to_owned(),
                };
                let mark = if e.bad { "! " } else { "" };
                vec![
                    format!("{} ago", age(e.time)),
                    format!("{mark}{}", e.action),
                    on,
                    e.member.clone().unwrap_or_else(|| e.kind.word().to_owned()),
                    e.sentence.clone(),
                ]
            })
        }
        List::KeptLogs => {
            let all = client.kept_logs().await?;
            tell(&all, output, &["RULE", "KEEPS LINES OF", "DAYS", "AT MOST", "HOLDS", "CONTAINERS"], |r| {
                vec![
                    r.id.to_string(),
                    format!("{} {}", r.scope.word(), r.value),
                    r.days.to_string(),
                    bytes_words(r.bytes),
                    bytes_words(r.held),
                    r.containers.to_string(),
                ]
            })
        }
        List::Hosts | List::Containers { .. } | List::Operations { .. } | List::Attention => {
            Err(Failure::Usage("this list is read elsewhere".to_owned()))
        }
    }
}

fn tell<T: serde::Serialize>(
    all: &[T],
    output: Output,
    head: &[&str],
    row: impl Fn(&T) -> Vec<String>,
) -> Result<u8, Failure> {
    match (output, all) {
        (Output::Json, _) => say_json(all)?,
        (Output::Table, []) => say("There is none that fits.")?,
        (Output::Table, _) => say(&table(head, all.iter().map(row).collect()))?,
    }
    Ok(FINE)
}

fn image_row(i: &ImageRow) -> Vec<String> {
    let name = match i.tags.as_slice() {
        [] => format!("untagged {}", &i.id[..12.min(i.id.len())]),
        tags => tags.join(" "),
    };
    let users: usize = i.copies.iter().map(|c| c.used_by.len()).sum();
    let since = i.copies.iter().filter_map(|c| c.unused_since).max().filter(|_| users == 0);
    vec![
        name,
        bytes_words(i.size),
        age(i.created),
        i.architecture.clone().unwrap_or_else(|| "unknown".to_owned()),
        i.copies.iter().map(|c| c.host.as_str()).collect::<Vec<_>>().join(" "),
        if users == 0 { "nobody".to_owned() } else { users.to_string() },
        since.map(age).unwrap_or_default(),
    ]
}

fn volume_row(v: &VolumeRow) -> Vec<String> {
    let users = v.used_by.iter().map(|u| {
        let name = u.container.split('/').nth(1).unwrap_or_default();
        format!("{name}{}", if u.read_only { " (reads)" } else { "" })
    });
    let users = users.collect::<Vec<_>>().join(" ");
    vec![
        format!("{}/{}", v.host, if v.volume.anonymous { &v.volume.name[..12] } else { &v.volume.name }),
        v.volume.driver.clone(),
        v.volume.size.map_or_else(|| "not measured".to_owned(), bytes_words),
        v.volume.created.map(age).unwrap_or_default(),
        if users.is_empty() { "nobody".to_owned() } else { users },
        v.unused_since.map(age).unwrap_or_default(),
    ]
}

fn network_row(n: &NetworkRow) -> Vec<String> {
    let members = n.members.iter().map(|m| {
        let name = m.container.split('/').nth(1).unwrap_or_default();
        m.address.as_ref().map_or_else(|| name.to_owned(), |a| format!("{name} {a}"))
    });
    vec![
        format!("{}/{}", n.host, n.network.name),
        n.network.driver.clone(),
        n.network.subnets.iter().map(|s| s.subnet.as_str()).collect::<Vec<_>>().join(" "),
        members.collect::<Vec<_>>().join(", "),
        n.unused_since.map(age).unwrap_or_default(),
    ]
}

fn stack_rows(s: &StackRow) -> Vec<Vec<String>> {
    let service = |x: &gubernum_api::ServiceRow| {
        let sick = if x.unhealthy > 0 { format!(", {} unhealthy", x.unhealthy) } else { String::new() };
        vec![
            s.name.clone(),
            x.name.clone(),
            format!("{} of {}{sick}", x.running, x.wanted),
            x.hosts.join(" "),
            x.images.join(" "),
            x.ports.join(" "),
        ]
    };
    s.services.iter().map(service).collect()
}

/// One thing in full.
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
        "image" => {
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
                ("built", format!("{} ({} ago)", i.created, age(i.created))),
                ("for", i.architecture.clone().unwrap_or_else(|| "unknown".to_owned())),
                ("command", detail.command.join(" ")),
                ("user", detail.user.clone()),
                ("folder", detail.working_folder.clone()),
                ("ports", detail.ports.join(" ")),
            ];
            for c in &i.copies {
                let users =
                    if c.used_by.is_empty() { "used by nobody".to_owned() } else { c.used_by.join(" ") };
                let shared =
                    c.image.shared.map(|s| format!(", {} of it shared", bytes_words(s))).unwrap_or_default();
                lines.push(("on", format!("{}: {users}{shared}", c.host)));
            }
            lines.extend(
                detail.environment.iter().map(|v| ("environment", format!("{}={}", v.name, v.value))),
            );
            lines.extend(
                detail.steps.iter().map(|s| ("step", format!("{:>9}  {}", bytes_words(s.size), s.command))),
            );
            describe(lines)
        }
        "volume" => {
            let all = client.volumes(&[]).await?;
            let v = one(all, name, |v| (v.host.clone(), v.volume.name.clone()))?;
            if output == Output::Json {
                say_json(&v)?;
                return Ok(FINE);
            }
            let mut lines = vec![
                ("volume", format!("{}/{}", v.host, v.volume.name)),
                ("driver", v.volume.driver.clone()),
                ("on the host", v.volume.mount_point.clone()),
                ("size", v.volume.size.map_or_else(|| "not measured yet".to_owned(), bytes_words)),
                ("made", v.volume.created.map(|t| format!("{t} ({} ago)", age(t))).unwrap_or_default()),
                ("unused for", v.unused_since.map(age).unwrap_or_default()),
            ];
            for u in &v.used_by {
                let manner = if u.read_only { " (reads)" } else { "" };
                lines.push(("mounted by", format!("{} at {}{manner}", u.container, u.target)));
            }
            lines.extend(v.volume.options.iter().map(|(k, x)| ("option", format!("{k}={x}"))));
            lines.extend(v.volume.labels.iter().map(|(k, x)| ("label", format!("{k}={x}"))));
            describe(lines)
        }
        "network" => {
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
                lines.push(("addresses", format!("{}{gateway}", s.subnet)));
            }
            for m in &n.members {
                let aliases = m.aliases.join(" ");
                lines.push((
                    "member",
                    format!("{} {} {aliases}", m.container, m.address.clone().unwrap_or_default()),
                ));
            }
            lines.extend(n.network.labels.iter().map(|(k, x)| ("label", format!("{k}={x}"))));
            describe(lines)
        }
        "stack" => {
            let found = client.stacks().await?.into_iter().find(|s| s.name == *name);
            let Some(stack) = found else {
                return Err(not_found(&format!("there is no stack `{name}`")));
            };
            if output == Output::Json {
                say_json(&stack)?;
                return Ok(FINE);
            }
            let head = format!("{}  {} of {} run\n", stack.name, stack.running, stack.wanted);
            let rows = stack_rows(&stack).into_iter().map(|mut r| r.split_off(1)).collect();
            say(&format!("{head}\n{}", table(&["SERVICE", "RUNS", "HOSTS", "IMAGE", "PORTS"], rows)))?;
            Ok(FINE)
        }
        "host" => {
            let found = client.hosts().await?.into_iter().find(|h| h.name == *name);
            let Some(h) = found else { return Err(not_found(&format!("there is no host `{name}`"))) };
            if output == Output::Json {
                say_json(&h)?;
                return Ok(FINE);
            }
            let unknown = || "unknown: the engine does not tell".to_owned();
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
                    engine
                        .map(|e| format!("{} {}, API {}", e.kind, e.version, e.api_version))
                        .unwrap_or_default(),
                ),
                ("system", h.machine.system.clone().unwrap_or_else(unknown)),
                ("kernel", h.machine.kernel.clone().unwrap_or_else(unknown)),
                ("architecture", engine.map(|e| e.architecture.clone()).unwrap_or_default()),
                ("processors", h.machine.processors.map_or_else(unknown, |p| p.to_string())),
                ("memory", size(h.machine.memory_total)),
                ("memory free", size(h.machine.memory_free)),
                ("running since", h.machine.booted.map_or_else(unknown, |t| format!("{t} ({})", age(t)))),
                ("clock", clock),
                ("disk", size(h.disk.total)),
                ("disk used", size(h.disk.used)),
                ("by images", size(h.disk.images)),
                ("by volumes", size(h.disk.volumes)),
                ("by containers", size(h.disk.containers)),
                ("by build cache", size(h.disk.build_cache)),
                ("public address", h.public_address.clone().unwrap_or_else(|| "not set".to_owned())),
            ];
            lines.extend(h.attention.iter().map(|r| ("attention", r.sentence.clone())));
            lines.extend(
                h.past_problems
                    .iter()
                    .map(|p| ("past trouble", format!("{}: {}", p.time, p.problem.sentence))),
            );
            describe(lines)
        }
        other => Err(Failure::Usage(format!(
            "`{other}` is not a kind; use container, image, volume, network, stack or host"
        ))),
    }
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
        0 => Err(not_found(&format!("there is none called `{wanted}`"))),
        1 => Ok(found.remove(0)),
        n => Err(not_found(&format!("{n} hosts have a `{wanted}`; write `host/{wanted}`"))),
    }
}

fn describe(lines: Vec<(&str, String)>) -> Result<u8, Failure> {
    let lines = lines.into_iter().filter(|(_, value)| !value.trim().is_empty());
    let text: Vec<String> =
        lines.map(|(name, value)| format!("{name:<14} {}", shown(&value, 2000))).collect();
    say(&text.join("\n"))?;
    Ok(FINE)
}

/// Makes a rule for keeping lines.
pub(super) async fn keep(client: &Client, wish: Keep, output: Output) -> Result<u8, Failure> {
    let Keep::Logs { container, stack, label, host, all, days, mebibytes } = wish;
    let (scope, value) = match (container, stack, label, host, all) {
        (Some(value), ..) => (KeepScope::Container, value),
        (_, Some(value), ..) => (KeepScope::Stack, value),
        (_, _, Some(value), ..) => (KeepScope::Label, value),
        (_, _, _, Some(value), _) => (KeepScope::Host, value),
        (.., true) => (KeepScope::All, String::new()),
        _ => {
            let text = "say whose lines: --container, --stack, --label, --host or --all";
            return Err(Failure::Usage(text.to_owned()));
        }
    };
    let rule = client.keep_logs(&NewKeepRule { scope, value, days, bytes: mebibytes * 1024 * 1024 }).await?;
    if output == Output::Json {
        say_json(&rule)?;
    } else {
        let whose = format!("{} {}", rule.scope.word(), rule.value);
        say(&format!(
            "rule {}: lines of {} are kept for {} days, at most {}",
            rule.id,
            whose.trim(),
            rule.days,
            bytes_words(rule.bytes)
        ))?;
    }
    Ok(FINE)
}
