//! Checks the ports and networks of a definition.

use std::collections::BTreeSet;

use super::*;

impl Checker<'_> {
    pub(super) fn ports(&mut self) {
        let context = self.context;
        let held = held_ports(context.containers.iter().copied(), context.replaces);
        let own_network = self.d.network.mode.as_deref().is_none_or(|m| m == "bridge" || m == "default");
        let mut given: HashMap<(u16, &str), Vec<Option<&str>>> = HashMap::new();
        let taken: BTreeSet<(u16, String)> = held
            .keys()
            .cloned()
            .chain(context.foreign_ports.iter().cloned())
            .chain(self.d.ports.iter().filter_map(|p| Some((p.host_port?, p.protocol.clone()))))
            .collect();
        let free = |from: u16, protocol: &str| {
            let next =
                (from..=u16::MAX).chain(1024..from).find(|p| !taken.contains(&(*p, protocol.to_owned())));
            next.map(|p| p.to_string())
        };
        if !own_network && !self.d.ports.is_empty() {
            let mode = self.d.network.mode.clone().unwrap_or_default();
            self.warn(
                "/ports",
                format!(
                    "in the network mode '{}' nothing is published; the ports have no effect",
                    shown(&mode, 40)
                ),
            );
        }
        for (n, p) in self.d.ports.iter().enumerate() {
            let field = format!("/ports/{n}");
            if !matches!(p.protocol.as_str(), "tcp" | "udp" | "sctp") {
                self.error(
                    format!("{field}/protocol"),
                    format!("'{}' is not a protocol: tcp, udp or sctp", shown(&p.protocol, 20)),
                );
            }
            if p.container_port == 0 {
                self.error(format!("{field}/container_port"), "the container port must be from 1 to 65535");
            }
            if let Some(address) = p.address.as_deref().filter(|a| a.parse::<core::net::IpAddr>().is_err()) {
                self.error(
                    format!("{field}/address"),
                    format!("'{}' is not an IP address of the host", shown(address, 60)),
                );
            }
            let Some(port) = p.host_port else { continue };
            let at = format!("{field}/host_port");
            if port == 0 {
                self.error(at, "the host port must be from 1 to 65535; leave it empty for any free one");
                continue;
            }
            let before = given.entry((port, p.protocol.as_str())).or_default();
            if before.iter().any(|a| addresses_meet(*a, p.address.as_deref())) {
                let proposal = free(port.saturating_add(1), &p.protocol);
                self.say(Weight::Error, at, format!("port {port}/{} is given twice", p.protocol), proposal);
                continue;
            }
            before.push(p.address.as_deref());
            let holder = held.get(&(port, p.protocol.clone())).and_then(|all| {
                all.iter()
                    .filter(|(_, q)| addresses_meet(q.address.as_deref(), p.address.as_deref()))
                    .max_by_key(|(c, _)| c.state.is_alive())
            });
            if let Some((c, _)) = holder {
                let proposal = free(port.saturating_add(1), &p.protocol);
                if c.state.is_alive() {
                    let sentence = format!(
                        "port {port} is in use on {} by '{}'{}",
                        self.host_name(),
                        c.name,
                        next_words(proposal.as_deref())
                    );
                    self.say(Weight::Error, at, sentence, proposal);
                } else {
                    let sentence = format!(
                        "port {port} is also published by '{}', which is not running; only one of them can run at a time",
                        c.name
                    );
                    self.say(Weight::Warning, at, sentence, proposal);
                }
            } else if context.foreign_ports.contains(&(port, p.protocol.clone())) {
                let proposal = free(port.saturating_add(1), &p.protocol);
                let sentence = format!(
                    "port {port} is in use on {} by another program{}",
                    self.host_name(),
                    next_words(proposal.as_deref())
                );
                self.say(Weight::Error, at, sentence, proposal);
            }
        }
    }

    pub(super) fn network(&mut self) {
        let n = &self.d.network;
        if let Some(mode) = n.mode.as_deref() {
            let container = mode.strip_prefix("container:");
            if !matches!(mode, "host" | "none" | "bridge" | "default" | "slirp4netns" | "pasta" | "private")
                && container.is_none()
            {
                self.error(
                    "/network/mode",
                    format!(
                        "'{}' is not a network mode; use host, none or container:name, or list networks",
                        shown(mode, 60)
                    ),
                );
            }
            if let Some(name) = container
                && !self.context.containers.is_empty()
                && !self.context.containers.iter().any(|c| c.name == name || c.id.starts_with(name))
            {
                self.error(
                    "/network/mode",
                    format!(
                        "no container '{}' on {} whose network could be shared",
                        shown(name, 60),
                        self.host_name()
                    ),
                );
            }
            if !n.networks.is_empty() && !matches!(mode, "bridge" | "default") {
                self.error(
                    "/network/networks",
                    format!(
                        "in the network mode '{}' a container is in no networks; choose one of the two",
                        shown(mode, 40)
                    ),
                );
            }
        }
        for (k, joined) in n.networks.iter().enumerate() {
            let field = format!("/network/networks/{k}");
            let Some(assets) = self.context.assets else { continue };
            let there: Vec<_> = assets.networks.iter().filter(|x| x.name == joined.name).collect();
            if there.is_empty() {
                let near = assets
                    .networks
                    .iter()
                    .map(|x| &x.name)
                    .filter(|x| strsim::jaro_winkler(x, &joined.name) > 0.85)
                    .max_by(|a, b| {
                        strsim::jaro_winkler(a, &joined.name)
                            .total_cmp(&strsim::jaro_winkler(b, &joined.name))
                    });
                let sentence = format!(
                    "no network '{}' on {}; create it first, or choose an existing one",
                    shown(&joined.name, 60),
                    self.host_name()
                );
                self.say(Weight::Error, format!("{field}/name"), sentence, near.cloned());
                continue;
            }
            if there.len() > 1 {
                self.error(
                    format!("{field}/name"),
                    format!("{} networks are named '{}' on {}", there.len(), joined.name, self.host_name()),
                );
            }
            if let (true, Some(alias)) = (there[0].is_built_in(), joined.aliases.first()) {
                let text = format!(
                    "the built-in network '{}' has no aliases such as '{}'; connect to a custom network",
                    joined.name,
                    shown(alias, 60)
                );
                self.error(format!("{field}/aliases"), text);
            }
            if let Some(address) = joined.ipv6.as_deref()
                && address.parse::<core::net::Ipv6Addr>().is_err()
            {
                let text = format!("'{}' is not an IPv6 address", shown(address, 60));
                self.error(format!("{field}/ipv6"), text);
            }
            if let Some(address) = joined.address.as_deref() {
                self.fixed_address(&field, address, &joined.name, there[0].is_built_in());
            }
        }
    }

    fn fixed_address(&mut self, field: &str, address: &str, network: &str, built_in: bool) {
        let at = format!("{field}/address");
        let Ok(ip) = address.parse::<core::net::Ipv4Addr>() else {
            return self.error(at, format!("'{}' is not an IPv4 address", shown(address, 40)));
        };
        if built_in {
            return self.error(
                at,
                format!(
                    "the built-in network '{network}' has no fixed addresses; create a network with a subnet"
                ),
            );
        }
        let subnets = self
            .context
            .assets
            .and_then(|a| a.networks.iter().find(|n| n.name == network))
            .map(|n| &n.subnets);
        let ranges: Vec<&str> =
            subnets.into_iter().flatten().map(|s| s.subnet.as_str()).filter(|s| !s.contains(':')).collect();
        if !ranges.is_empty() && !ranges.iter().any(|r| within(ip, r)) {
            self.error(at.clone(), format!("'{address}' is outside of '{network}' ({})", ranges.join(", ")));
        }
        let gateway = subnets.into_iter().flatten().any(|s| s.gateway.as_deref() == Some(address));
        if gateway {
            self.error(at.clone(), format!("'{address}' is the gateway of '{network}'"));
        }
        let taken = self.context.containers.iter().find(|c| {
            Some(c.id.as_str()) != self.context.replaces
                && c.attachments.iter().any(|a| a.network == network && a.address.as_deref() == Some(address))
        });
        if let Some(taken) = taken {
            self.error(at, format!("'{address}' is in use by '{}'", taken.name));
        }
    }
}

fn next_words(port: Option<&str>) -> String {
    port.map_or_else(String::new, |p| format!("; {p} is free"))
}

fn within(ip: core::net::Ipv4Addr, range: &str) -> bool {
    let Some((base, bits)) = range.split_once('/') else { return true };
    let (Ok(base), Ok(bits)) = (base.parse::<core::net::Ipv4Addr>(), bits.parse::<u32>()) else {
        return true;
    };
    let mask = u32::MAX.checked_shl(32 - bits.min(32)).unwrap_or(0);
    u32::from(ip) & mask == u32::from(base) & mask
}
