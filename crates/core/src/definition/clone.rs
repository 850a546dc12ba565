//! The definition proposed for a clone: the same settings without what only one container can have.
//!
//! Which ports are free on a host is found by [`super::check`]; here its proposals are taken.

use std::collections::BTreeSet;

use super::check::Finding;
use super::{Definition, MountKind};

/// Labels with this prefix put a container into a stack.
const STACK_LABELS: &str = "com.docker.compose.";
/// Names that are tried before one is taken that is not free; then the check says so.
const MOST_TRIES: u32 = 1000;

/// A definition for a clone: without its place in a stack, its anonymous volumes and its fixed addresses, which only one
/// container can have. Its name stays.
///
/// ```
/// use gubernum_core::definition::{Definition, clone::clone_of};
/// let mut first = Definition::for_image("frost/api:2");
/// first.labels.insert("com.docker.compose.project".into(), "frostwatch".into());
/// assert!(clone_of(&first).labels.is_empty());
/// ```
pub fn clone_of(definition: &Definition) -> Definition {
    let mut clone = definition.clone();
    clone.labels.retain(|name, _| !name.starts_with(STACK_LABELS));
    clone.mounts.retain(|m| m.kind != MountKind::Volume || !m.source.as_deref().is_some_and(is_anonymous));
    for network in &mut clone.network.networks {
        network.address = None;
        network.ipv6 = None;
    }
    clone
}

/// The name of a volume that an engine made up.
fn is_anonymous(source: &str) -> bool {
    source.len() == 64 && source.bytes().all(|b| b.is_ascii_hexdigit())
}

/// The first of `name`, `name-2`, `name-3` … that is not taken.
pub fn free_name(name: &str, taken: &BTreeSet<String>) -> String {
    let numbered = (2..MOST_TRIES).map(|n| format!("{name}-{n}"));
    let mut all = std::iter::once(name.to_owned()).chain(numbered);
    all.find(|name| !taken.contains(name)).unwrap_or_else(|| name.to_owned())
}

/// Takes the ports that are proposed in place of taken ones; whether there were any.
pub fn take_free_ports(definition: &mut Definition, findings: &[Finding]) -> bool {
    let mut any = false;
    for finding in findings {
        let place = finding.field.strip_prefix("/ports/").and_then(|rest| rest.split('/').next());
        let rule = place.and_then(|n| definition.ports.get_mut(n.parse::<usize>().ok()?));
        let port = finding.proposal.as_deref().and_then(|p| p.parse().ok());
        if let (Some(rule), Some(port)) = (rule, port) {
            rule.host_port = Some(port);
            any = true;
        }
    }
    any
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::definition::arbitrary::definition;
    use crate::definition::check::Weight;
    use proptest::prelude::*;
    use rstest::rstest;

    fn taken(names: &[&str]) -> BTreeSet<String> {
        names.iter().map(|n| (*n).to_owned()).collect()
    }

    #[rstest]
    #[case(&[], "api")]
    #[case(&["api"], "api-2")]
    #[case(&["api", "api-2", "api-4"], "api-3")]
    fn a_clone_gets_the_next_name(#[case] names: &[&str], #[case] free: &str) {
        assert_eq!(free_name("api", &taken(names)), free);
    }

    #[test]
    fn only_ports_with_a_proposal_are_moved() {
        let mut d = Definition::for_image("frost/api:2");
        let port = |host_port| super::super::PortRule {
            address: None,
            host_port: Some(host_port),
            host_port_to: None,
            container_port: 80,
            protocol: "tcp".into(),
        };
        d.ports = vec![port(7311), port(7312)];
        let finding = |field: &str, proposal: Option<&str>| Finding {
            field: field.into(),
            weight: Weight::Error,
            sentence: "taken".into(),
            proposal: proposal.map(str::to_owned),
        };
        let odd = [
            finding("/ports/1/host_port", Some("7412")),
            finding("/ports/9/host_port", Some("1")),
            finding("/ports/0/host_port", None),
            finding("/ports/0/host_port", Some("many")),
            finding("/name", Some("api-2")),
        ];
        assert!(take_free_ports(&mut d, &odd));
        assert_eq!(d.ports.iter().map(|p| p.host_port).collect::<Vec<_>>(), [Some(7311), Some(7412)]);
        assert!(!take_free_ports(&mut d, &odd[1..]));
    }

    proptest! {
        #[test]
        fn a_clone_shares_nothing_that_only_one_can_have(d in definition()) {
            let clone = clone_of(&d);
            prop_assert!(clone.network.networks.iter().all(|n| n.address.is_none() && n.ipv6.is_none()));
            prop_assert!(clone.labels.keys().all(|l| !l.starts_with(STACK_LABELS)));
            prop_assert_eq!(&clone.environment, &d.environment);
            prop_assert_eq!(&clone.image, &d.image);
            prop_assert_eq!(clone_of(&clone), clone.clone(), "a clone of a clone is the same");
        }
    }
}
