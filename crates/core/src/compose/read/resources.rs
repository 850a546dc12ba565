//! Reads the networks, volumes, configs and secrets of a stack.

use super::Reader;
use super::fields::{flag, items, pairs, text};
use crate::compose::model::{AddressRange, FileSource, Network, Volume};
use crate::yaml::{Key, Node, Value};

/// Whether something is there already, and the name that an older form gives it.
fn external(node: &Node) -> (bool, Option<String>) {
    let Some(external) = node.get("external") else { return (false, None) };
    (flag(external, "is").unwrap_or(false), text(external, "name"))
}

impl Reader {
    /// What is there already is only named.
    fn only_named(&mut self, key: &Key, node: &Node) {
        let others = node.entries().iter().filter(|(k, v)| {
            !matches!(k.as_str(), "external" | "name") && !k.starts_with("x-") && !is_empty(v)
        });
        for (other, _) in others {
            let sentence =
                format!("'{key}' is 'external', so '{other}' cannot be set; remove one of the two");
            self.tell(other.wrong(sentence));
        }
    }

    pub(super) fn network(&mut self, key: &Key, node: &Node) -> Network {
        let (external, older) = external(node);
        if external {
            self.only_named(key, node);
        }
        let ipam = node.get("ipam");
        let ranges = ipam.map(|i| items(i, "config")).unwrap_or_default().iter().map(|range| AddressRange {
            subnet: text(range, "subnet"),
            range: text(range, "ip_range"),
            gateway: text(range, "gateway"),
            taken: pairs(range, "aux_addresses"),
        });
        Network {
            name: text(node, "name").or(older).or_else(|| external.then(|| key.text.clone())),
            external,
            driver: text(node, "driver"),
            options: pairs(node, "driver_opts"),
            labels: pairs(node, "labels"),
            internal: flag(node, "internal").unwrap_or(false),
            attachable: flag(node, "attachable").unwrap_or(false),
            ipv4: flag(node, "enable_ipv4"),
            ipv6: flag(node, "enable_ipv6"),
            address_driver: ipam.and_then(|i| text(i, "driver")),
            address_options: ipam.map(|i| pairs(i, "options")).unwrap_or_default(),
            ranges: ranges.collect(),
        }
    }

    pub(super) fn volume(&mut self, key: &Key, node: &Node) -> Volume {
        let (external, older) = external(node);
        if external {
            self.only_named(key, node);
        }
        Volume {
            name: text(node, "name").or(older).or_else(|| external.then(|| key.text.clone())),
            external,
            driver: text(node, "driver"),
            options: pairs(node, "driver_opts"),
            labels: pairs(node, "labels"),
        }
    }

    pub(super) fn file_source(&mut self, key: &Key, node: &Node) -> FileSource {
        let (external, older) = external(node);
        if external {
            return FileSource::External(text(node, "name").or(older).unwrap_or_else(|| key.text.clone()));
        }
        let said: Vec<FileSource> = [
            text(node, "file").map(FileSource::File),
            text(node, "environment").map(FileSource::Environment),
            text(node, "content").map(FileSource::Content),
        ]
        .into_iter()
        .flatten()
        .collect();
        match &said[..] {
            [one] => one.clone(),
            [] => {
                let sentence =
                    format!("'{key}' has no content; set 'file', 'content', 'environment' or 'external'");
                self.tell(key.wrong(sentence));
                FileSource::Content(String::new())
            }
            _ => {
                let sentence = format!(
                    "'{key}' has more than one source; keep one of 'file', 'content' and 'environment'"
                );
                self.tell(key.wrong(sentence));
                FileSource::Content(String::new())
            }
        }
    }
}

fn is_empty(node: &Node) -> bool {
    match &node.value {
        Value::Null => true,
        Value::List(items) => items.is_empty(),
        Value::Map(entries) => entries.is_empty(),
        _ => false,
    }
}
