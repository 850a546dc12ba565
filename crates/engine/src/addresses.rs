//! Fixed addresses on podman, whose record of a container has only its present address. The configured address is
//! kept in a label of ours.
//!
//! A network that the label does not name (the container was made or joined by others) counts as fixed at its present
//! address: a container that others find there must not move when it is replaced. Joining is in `make`, reading in
//! `defined`.

use std::collections::BTreeMap;

use gubernum_core::definition::NetworkConnection;

/// The label: `network=address,address` entries with spaces between; no address means that none was wanted.
pub(crate) const LABEL: &str = "gubernum.addresses";

/// The label's value for these networks.
pub(crate) fn written(networks: &[NetworkConnection]) -> String {
    let one = |n: &NetworkConnection| {
        let both: Vec<&str> = n.address.iter().chain(&n.ipv6).map(String::as_str).collect();
        format!("{}={}", n.name, both.join(","))
    };
    networks.iter().map(one).collect::<Vec<_>>().join(" ")
}

/// The addresses (version 4 and 6) that were wanted in this network: by the label, else the present ones.
pub(crate) fn wanted(
    label: Option<&String>,
    network: &str,
    present: [Option<String>; 2],
) -> [Option<String>; 2] {
    let entries: BTreeMap<&str, &str> =
        label.iter().flat_map(|l| l.split(' ')).filter_map(|e| e.split_once('=')).collect();
    let Some(both) = entries.get(network) else { return present };
    let find =
        |six: bool| both.split(',').find(|a| !a.is_empty() && a.contains(':') == six).map(str::to_owned);
    // It may have been taken out and put in again elsewhere since.
    let [now, now_six] = present;
    [find(false).map(|was| now.unwrap_or(was)), find(true).map(|was| now_six.unwrap_or(was))]
}

#[cfg(test)]
mod tests {
    use super::*;

    fn join(name: &str, address: Option<&str>, ipv6: Option<&str>) -> NetworkConnection {
        NetworkConnection {
            name: name.into(),
            address: address.map(str::to_owned),
            ipv6: ipv6.map(str::to_owned),
            ..NetworkConnection::default()
        }
    }

    #[test]
    fn what_was_wanted_is_read_back_and_the_rest_stays_where_it_is() {
        let networks = [
            join("cold", Some("10.91.4.9"), Some("fd00::9")),
            join("six", None, Some("fd01::2")),
            join("any", None, None),
        ];
        let label = written(&networks);
        for n in &networks {
            // Stopped, it has none at present.
            let found = wanted(Some(&label), &n.name, [None, None]);
            assert_eq!(found, [n.address.clone(), n.ipv6.clone()], "{label}");
        }
        let moved = wanted(Some(&label), "cold", [Some("10.91.4.30".to_owned()), None]);
        assert_eq!(moved[0].as_deref(), Some("10.91.4.30"));
        let now = [Some("192.0.2.77".to_owned()), Some("fd02::1".to_owned())];
        assert_eq!(wanted(Some(&label), "joined-later", now.clone()), now);
        assert_eq!(wanted(None, "cold", now.clone()), now);
    }
}
