//! Links between problems on one host: which container has the port, and which dependency is down.
//!
//! A dependency is only told where something tells it: the label that Compose leaves, or the container's own last lines.

use crate::container::{Container, Reason, Severity, State};

use super::causes::address;

/// The label by which Compose notes what a service needs, as `name:condition:restart,…`.
const DEPENDS_ON: &str = "com.docker.compose.depends_on";

/// Adds to the reason of `c` what its siblings on the host tell.
pub fn relate<'a>(
    mut reason: Reason,
    c: &Container,
    siblings: impl Iterator<Item = &'a Container> + Clone,
) -> Reason {
    if reason.severity == Severity::Notice {
        return reason;
    }
    let others = siblings.filter(|s| s.id != c.id);
    if reason.code == "port-taken" {
        port(&mut reason, c, others);
    } else if let Some((cause, how)) = cause(c, others) {
        reason.advice = format!("Fix '{}' first: {how}.", cause.reference());
        reason.because = Some(cause.reference());
        // The cause is above what follows from it.
        let above = cause.attention.as_ref().map_or(0, |r| super::rank(r) + 1);
        reason.rank = reason.rank.max(above);
    }
    reason
}

fn port<'a>(reason: &mut Reason, c: &Container, mut others: impl Iterator<Item = &'a Container>) {
    let told = c.error.as_deref().and_then(address);
    let Some(port) = told.and_then(|a| a.rsplit_once(':').and_then(|(_, p)| p.parse::<u16>().ok())) else {
        return;
    };
    let holder = others.find(|s| s.state.is_alive() && s.ports.iter().any(|p| p.host_port == Some(port)));
    match holder {
        Some(holder) => {
            reason.advice = format!(
                "'{}' publishes {port}. Publish another port, or stop that container first.",
                holder.reference()
            );
            reason.because = Some(holder.reference());
        }
        None => {
            reason.advice = format!(
                "No container of this engine publishes {port}: another program on the host uses it. Publish another port, or stop that program."
            );
        }
    }
}

/// The needed container that is down, and what it is to this one.
fn cause<'a>(
    c: &Container,
    others: impl Iterator<Item = &'a Container> + Clone,
) -> Option<(&'a Container, String)> {
    let stack = c.stack.as_deref()?;
    let mates = others.filter(|s| s.stack.as_deref() == Some(stack) && is_down(s));
    let needed: Vec<&str> = c
        .labels
        .get(DEPENDS_ON)
        .into_iter()
        .flat_map(|text| text.split(','))
        .filter_map(|part| part.split(':').next().map(str::trim).filter(|n| !n.is_empty()))
        .collect();
    let of_service = |s: &&Container| s.service.as_deref().is_some_and(|name| needed.contains(&name));
    if let Some(found) = mates.clone().find(of_service) {
        return Some((found, "it depends on it".to_owned()));
    }
    let found = mates.filter(|s| !names(s, c)).find(|s| names(c, s))?;
    Some((found, "its last lines name it".to_owned()))
}

/// It does not do its work: it has not ended well, or its check fails.
fn is_down(c: &Container) -> bool {
    let ended_well = c.state == State::Exited && c.exit_code == Some(0) && c.restart_policy == "no";
    let troubled = c.attention.as_ref().is_some_and(|r| r.severity == Severity::Trouble);
    troubled || (!c.state.is_alive() && !ended_well)
}

/// Whether a line of trouble among the last lines of `c` names the other as an address.
fn names(c: &Container, other: &Container) -> bool {
    let wanted = [Some(other.name.as_str()), other.service.as_deref()];
    let lines = c.last_lines.iter().filter(|l| {
        let lower = l.to_lowercase();
        super::causes::TELLING.iter().any(|word| lower.contains(word))
            || lower.contains("no route")
            || lower.contains("timeout")
    });
    let is_word = |b: char| b.is_alphanumeric() || b == '_' || b == '-';
    lines.clone().any(|line| {
        wanted.iter().flatten().filter(|w| w.len() > 2).any(|word| {
            line.match_indices(word).any(|(at, _)| {
                !line[..at].ends_with(is_word) && !line[at + word.len()..].starts_with(is_word)
            })
        })
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::container::Port;
    use crate::host::Host;
    use crate::reason::judge;

    fn ended(name: &str, lines: &[&str]) -> Container {
        let mut c = Container::blank("packhouse", name, name);
        (c.stack, c.service) = (Some("auction".into()), Some(name.into()));
        (c.state, c.exit_code, c.restart_policy) = (State::Exited, Some(1), "always".into());
        c.last_lines = lines.iter().map(|l| (*l).to_owned()).collect();
        c.attention = judge(&c, &Host::blank("packhouse"));
        c
    }

    fn related(c: &Container, others: &[Container]) -> Reason {
        relate(c.attention.clone().unwrap(), c, others.iter())
    }

    #[test]
    fn the_cause_is_named_and_is_above_its_effect() {
        let queue = ended("queue", &["FATAL: data folder is damaged"]);
        let mut bids = ended("bids", &["error: dial tcp queue:5672: connection refused"]);
        let found = related(&bids, &[queue.clone(), bids.clone()]);
        assert_eq!(found.because.as_deref(), Some("packhouse/queue"));
        assert!(found.rank > queue.attention.as_ref().unwrap().rank, "{found:?}");
        bids.last_lines = vec!["error: no reply from the queue-runner".into()];
        assert_eq!(
            related(&bids, std::slice::from_ref(&queue)).because,
            None,
            "another name that begins alike"
        );
        bids.labels.insert(DEPENDS_ON.into(), "queue:service_started:false".into());
        assert_eq!(related(&bids, std::slice::from_ref(&queue)).because.as_deref(), Some("packhouse/queue"));
        let mut well = queue;
        (well.state, well.attention) = (State::Running, None);
        assert_eq!(related(&bids, &[well]).because, None, "what runs well is no cause");
    }

    #[test]
    fn a_taken_port_names_who_has_it_or_says_that_no_container_does() {
        let mut c = ended("web", &[]);
        c.error = Some("driver failed: listen tcp4 0.0.0.0:9100: bind: address already in use".into());
        c.attention = judge(&c, &Host::blank("packhouse"));
        assert_eq!(c.attention.as_ref().unwrap().code, "port-taken");
        assert!(related(&c, &[]).advice.contains("another program on the host"));
        let mut holder = Container::blank("packhouse", "old-web", "old-web");
        holder.state = State::Running;
        holder.ports =
            vec![Port { address: None, host_port: Some(9100), container_port: 80, protocol: "tcp".into() }];
        let found = related(&c, &[holder]);
        assert_eq!(found.because.as_deref(), Some("packhouse/old-web"));
        assert!(found.advice.contains("'packhouse/old-web' publishes 9100"), "{found:?}");
    }
}
