//! Other host ports for a cloned stack: a small override file beside its Compose files.

use std::collections::{BTreeMap, BTreeSet};

use crate::compose::model::Stack;
use crate::definition::PortRule;

/// The file's name.
pub const FILE: &str = "gubernum-ports.yaml";

/// The ports of a container, with others in the place of some.
pub fn exchanged(rules: &[PortRule], ports: &BTreeMap<u16, u16>) -> Vec<PortRule> {
    let with = |rule: &PortRule| match rule.host_port.and_then(|port| ports.get(&port)) {
        Some(port) => PortRule { host_port: Some(*port), host_port_to: None, ..rule.clone() },
        None => rule.clone(),
    };
    rules.iter().map(with).collect()
}

/// Those of `ports` that nothing publishes.
pub fn unknown<'a>(rules: impl Iterator<Item = &'a PortRule>, ports: &BTreeMap<u16, u16>) -> Vec<u16> {
    let known: BTreeSet<u16> = rules.filter_map(|rule| rule.host_port).collect();
    ports.keys().copied().filter(|port| !known.contains(port)).collect()
}

/// The file that gives a stack other ports on its host; `None` when none of its services has one of them.
pub fn text(stack: &Stack, ports: &BTreeMap<u16, u16>) -> Option<String> {
    let mut text =
        "# Ports of this clone: the original keeps those of the Compose file.\nservices:\n".to_owned();
    let mut is_needed = false;
    for (name, service) in &stack.services {
        let rules = &service.container.ports;
        let changed = exchanged(rules, ports);
        if changed == *rules {
            continue;
        }
        is_needed = true;
        text.push_str(&format!("  {}:\n    ports: !override\n", quoted(name)));
        for rule in changed {
            text.push_str(&format!("      - target: {}\n", rule.container_port));
            if let Some(port) = rule.host_port {
                let range = rule.host_port_to.map_or_else(String::new, |to| format!("-{to}"));
                text.push_str(&format!("        published: \"{port}{range}\"\n"));
            }
            if let Some(address) = &rule.address {
                text.push_str(&format!("        host_ip: {}\n", quoted(address)));
            }
            text.push_str(&format!("        protocol: {}\n", quoted(&rule.protocol)));
        }
    }
    is_needed.then_some(text)
}

/// A YAML text in quotes, written as JSON, in which nothing has a meaning; a variable's mark is doubled.
fn quoted(text: &str) -> String {
    serde_json::Value::String(text.replace('$', "$$")).to_string()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::compose::load::{ReadPurpose, StackInput};
    use crate::compose::read::read;

    #[test]
    fn the_file_changes_these_ports_and_nothing_else() {
        let main = "services:\n  api:\n    image: frost/api:2\n    ports: ['8080:80', '127.0.0.1:53:53/udp', '90']\n  store:\n    image: frost/store:1\n    ports: ['9000:9000']\n";
        let mut files: BTreeMap<String, String> = [("compose.yaml".to_owned(), main.to_owned())].into();
        let read_of = |files: &BTreeMap<String, String>, main: &[String]| {
            let none = BTreeMap::new();
            let profiles = BTreeSet::new();
            let given = StackInput {
                files,
                main,
                name: Some("frostwatch"),
                variables: &none,
                profiles: &profiles,
                wanted: ReadPurpose::Stack,
            };
            read(&given).map(|(_, stack)| stack).unwrap()
        };
        let before = read_of(&files, &["compose.yaml".to_owned()]);
        let ports = [(8080, 18080), (53, 1053)].into();
        let other = text(&before, &ports).unwrap();
        files.insert(FILE.to_owned(), other);
        let after = read_of(&files, &["compose.yaml".to_owned(), FILE.to_owned()]);
        let expected = exchanged(&before.services["api"].container.ports, &ports);
        assert_eq!(after.services["api"].container.ports, expected);
        assert_eq!(expected[0].host_port, Some(18080));
        assert_eq!(after.services["store"], before.services["store"]);
        assert_eq!(text(&before, &[(1, 2)].into()), None);
        let all = before.services.values().flat_map(|s| &s.container.ports);
        assert_eq!(unknown(all, &[(1, 2), (53, 54)].into()), [1]);
    }
}
