//! Images, volumes, networks, stacks, ports, events and kept logs.

use gubernum_api::logs::{KeepRule, KeepScope, NewKeepRule};
use gubernum_api::timeline::TimelineEvent;
use gubernum_api::{ImageRow, NetworkRow, PortRow, StackRow, VolumeRow};
use gubernum_client::Client;
use gubernum_core::audit::AuditEntry;
use gubernum_core::reason::bytes_words;

use crate::arguments::{Keep, List, OnHost, Output};
use crate::exit::{FINE, Failure};
use crate::table::{age, moment, say, say_json, table};

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
                &["IMAGE", "SIZE", "CREATED", "PLATFORM", "HOSTS", "USED BY", "UNUSED FOR"],
                image_row,
            )
        }
        List::Volumes(wish) => {
            let all = client.volumes(&narrowed(&wish)).await?;
            tell(&all, output, &["VOLUME", "DRIVER", "SIZE", "CREATED", "USED BY", "UNUSED FOR"], volume_row)
        }
        List::Networks(wish) => {
            let all = client.networks(&narrowed(&wish)).await?;
            tell(&all, output, &["NETWORK", "DRIVER", "SUBNETS", "CONTAINERS", "UNUSED FOR"], network_row)
        }
        List::Registries => super::images::registries(client, output).await,
        List::Tags { image, limit } => super::images::tags(client, &image, limit, output).await,
        List::Earlier { container } => super::images::earlier(client, &container, output).await,
        List::Revisions { stack } => super::stacks::revisions(client, &stack, output).await,
        List::Drift => super::stack_texts::drifts(client, output).await,
        List::Jobs => super::jobs::list(client, output).await,
        List::NewerImages { check } => super::images::newer(client, check, output).await,
        List::Preferences => super::images::preferences(client, output).await,
        List::Stacks => {
            let all = client.stacks().await?;
            if output == Output::Json {
                say_json(&all)?;
                return Ok(FINE);
            }
            let rows = all.iter().flat_map(stack_rows).collect();
            say(&table(&["STACK", "SERVICE", "RUNNING", "HOSTS", "IMAGE", "PORTS"], rows))?;
            Ok(FINE)
        }
        List::Ports { host, port } => {
            let mut fields: Vec<(&str, String)> = host.into_iter().map(|h| ("host", h)).collect();
            fields.extend(port.map(|p| ("port", p.to_string())));
            let all = client.ports(&fields).await?;
            tell(&all, output, &["HOST", "PORT", "ADDRESS", "CONTAINER", "CONTAINER PORT", "STATE"], port_row)
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
            tell(&all, output, &["TIME", "EVENT", "OBJECT", "BY", "DETAILS"], event_row)
        }
        List::Audit { member, action, text, since, until, before, limit } => {
            let optional = [
                ("member", member),
                ("action", action),
                ("text", text),
                ("since", since),
                ("until", until),
                ("before", before.map(|number| number.to_string())),
            ];
            let mut fields = vec![("limit", limit.to_string())];
            fields.extend(optional.into_iter().filter_map(|(name, value)| Some((name, value?))));
            let all = client.audit_where(&fields).await?;
            tell(
                &all,
                output,
                &["NUMBER", "TIME", "MEMBER", "ACTION", "OBJECT", "OUTCOME", "FROM"],
                audit_row,
            )
        }
        List::KeptLogs => {
            let all = client.kept_logs().await?;
            if all.is_empty() && output == Output::Table {
                say("No log retention rules. 'gubernum keep logs' adds one.")?;
                return Ok(FINE);
            }
            tell(&all, output, &["RULE", "SCOPE", "DAYS", "LIMIT", "SIZE", "CONTAINERS"], rule_row)
        }
        List::Hosts
        | List::Containers { .. }
        | List::Operations(_)
        | List::Attention
        | List::Freezes
        | List::Snoozes
        | List::Notes { .. }
        | List::Team
        | List::Directories
        | List::Approvals
        | List::Syslog
        | List::Members
        | List::Roles
        | List::Invitations
        | List::Rights { .. } => Err(Failure::Usage("this list is read elsewhere".to_owned())),
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
        (Output::Table, []) => say("Nothing matches.")?,
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
        if users == 0 { "unused".to_owned() } else { users.to_string() },
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
        if users.is_empty() { "unused".to_owned() } else { users },
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

fn port_row(p: &PortRow) -> Vec<String> {
    let state = match (p.clash, p.listening) {
        (true, _) => "conflict",
        (false, true) => "listening",
        (false, false) => "reserved (not running)",
    };
    let address = p.address.clone().unwrap_or_else(|| "host network".to_owned());
    let inside = if p.host_network { String::new() } else { p.container_port.to_string() };
    vec![
        p.host.clone(),
        format!("{}/{}", p.port, p.protocol),
        address,
        p.container.clone(),
        inside,
        state.to_owned(),
    ]
}

fn event_row(e: &TimelineEvent) -> Vec<String> {
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
}

fn audit_row(e: &AuditEntry) -> Vec<String> {
    vec![
        e.id.to_string(),
        moment(e.time),
        if e.via.is_empty() { e.member.clone() } else { format!("{} ({})", e.member, e.via) },
        e.action.clone(),
        e.object.clone(),
        e.outcome.clone(),
        e.address.clone(),
    ]
}

fn rule_row(r: &KeepRule) -> Vec<String> {
    vec![
        r.id.to_string(),
        format!("{} {}", r.scope.word(), r.value),
        r.days.to_string(),
        bytes_words(r.bytes),
        bytes_words(r.held),
        r.containers.to_string(),
    ]
}

pub(super) fn stack_rows(s: &StackRow) -> Vec<Vec<String>> {
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
            let text = "choose whose logs to keep: --container, --stack, --label, --host or --all";
            return Err(Failure::Usage(text.to_owned()));
        }
    };
    let rule = client.keep_logs(&NewKeepRule { scope, value, days, bytes: mebibytes * 1024 * 1024 }).await?;
    if output == Output::Json {
        say_json(&rule)?;
    } else {
        let whose = format!("{} {}", rule.scope.word(), rule.value);
        say(&format!(
            "rule {}: logs of {} are kept for {} days, at most {}",
            rule.id,
            whose.trim(),
            rule.days,
            bytes_words(rule.bytes)
        ))?;
    }
    Ok(FINE)
}
