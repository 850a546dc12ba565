//! Ports, health checks and GPUs of Compose text.

use super::nodes::*;
use super::*;

/// A rule, or several for a range.
pub(super) fn port(item: &Node) -> Result<Vec<PortRule>> {
    if let Value::Map(entries) = &item.value {
        let (mut target, mut published, mut address, mut protocol) = (None, None, None, "tcp".to_owned());
        for (k, v) in entries {
            match k.as_str() {
                "target" => target = Some(number::<u16>(v, k)?),
                "published" => published = Some(string(v, k)?),
                "host_ip" => address = Some(string(v, k)?),
                "protocol" => protocol = string(v, k)?,
                "mode" | "name" | "app_protocol" => {}
                other => {
                    return Err(unknown(v, other, "a port", &["target", "published", "host_ip", "protocol"]));
                }
            }
        }
        let target = target.ok_or_else(|| item.wrong("a port needs a `target`, the port inside"))?;
        let host = published.filter(|p| !p.is_empty()).map(|p| one_port(item, &p)).transpose()?;
        return Ok(vec![PortRule { address, host_port: host, container_port: target, protocol }]);
    }
    let text = string(item, "ports")?;
    let (rest, protocol) = text.split_once('/').map_or((text.as_str(), "tcp"), |(r, p)| (r, p));
    if !matches!(protocol, "tcp" | "udp" | "sctp") {
        return Err(item.wrong(format!("`{}` is not a protocol: tcp, udp or sctp", shown(protocol, 20))));
    }
    let (front, inside) = rest.rsplit_once(':').map_or((None, rest), |(f, i)| (Some(f), i));
    let (address, outside) = match front {
        None => (None, None),
        Some(front) => match front.rsplit_once(':') {
            Some((address, outside)) => {
                (Some(address.trim_matches(['[', ']']).to_owned()), Some(outside).filter(|o| !o.is_empty()))
            }
            None => (None, Some(front)),
        },
    };
    let inside = range(item, inside)?;
    let outside = outside.map(|o| range(item, o)).transpose()?;
    if let Some(outside) = &outside
        && outside.len() != inside.len()
    {
        return Err(item.wrong(format!("`{}`: the two ranges are not equally long", shown(&text, 60))));
    }
    Ok(inside
        .enumerate()
        .map(|(n, container_port)| PortRule {
            address: address.clone(),
            host_port: outside.clone().and_then(|mut o| o.nth(n)),
            container_port,
            protocol: protocol.to_owned(),
        })
        .collect())
}

fn one_port(item: &Node, text: &str) -> Result<u16> {
    let port: Option<u16> = text.trim().parse().ok().filter(|&p| p > 0);
    port.ok_or_else(|| item.wrong(format!("`{}` is not a port: a number from 1 to 65535", shown(text, 40))))
}

fn range(item: &Node, text: &str) -> Result<std::ops::RangeInclusive<u16>> {
    let (first, last) = text.split_once('-').unwrap_or((text, text));
    let (first, last) = (one_port(item, first)?, one_port(item, last)?);
    if last < first || last - first > 1000 {
        return Err(item.wrong(format!("`{}` is not a range of at most 1000 ports", shown(text, 40))));
    }
    Ok(first..=last)
}

pub(super) fn health(node: &Node) -> Result<HealthRule> {
    let mut h = HealthRule::default();
    for (k, v) in entries(node, "healthcheck")? {
        match k.as_str() {
            "disable" => h.disabled = truth(v, k)?,
            "test" => {
                h.test = match &v.value {
                    Value::List(_) => texts(v, k)?,
                    _ => vec!["CMD-SHELL".to_owned(), string(v, k)?],
                };
                match h.test.first().map(String::as_str) {
                    Some("NONE") => (h.disabled, h.test) = (true, Vec::new()),
                    Some("CMD" | "CMD-SHELL") => {}
                    _ => return Err(v.wrong("`test` begins with `CMD`, `CMD-SHELL` or `NONE`")),
                }
            }
            "interval" => h.interval_ms = Some(span(v, k)?),
            "timeout" => h.timeout_ms = Some(span(v, k)?),
            "start_period" => h.start_ms = Some(span(v, k)?),
            "start_interval" => {}
            "retries" => h.retries = Some(number(v, k)?),
            other => {
                return Err(unknown(
                    v,
                    other,
                    "healthcheck",
                    &["test", "interval", "timeout", "retries", "start_period", "disable"],
                ));
            }
        }
    }
    Ok(h)
}

pub(super) fn gpus(node: &Node) -> Result<GpuRule> {
    let mut rule = GpuRule { count: None, ids: Vec::new(), driver: None };
    if node.scalar().as_deref() == Some("all") {
        rule.count = Some(-1);
        return Ok(rule);
    }
    let items = items(node, "gpus")?;
    for (k, v) in items.first().map_or(Ok(&[][..]), |first| entries(first, "gpus"))? {
        match k.as_str() {
            "driver" => rule.driver = Some(string(v, k)?),
            "device_ids" => rule.ids = texts(v, k)?,
            "count" => {
                rule.count = Some(if v.scalar().as_deref() == Some("all") { -1 } else { number(v, k)? })
            }
            "capabilities" | "options" => {}
            other => return Err(unknown(v, other, "gpus", &["driver", "count", "device_ids"])),
        }
    }
    Ok(rule)
}
