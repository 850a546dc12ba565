//! The client's own address when a proxy is in front: read from `Forwarded` (RFC 7239) or `X-Forwarded-For`, and only
//! from proxies that the settings name. Such a header from anyone else is ignored.

use std::net::{IpAddr, SocketAddr};
use std::str::FromStr;
use std::sync::Arc;

use axum::extract::{ConnectInfo, Request, State};
use axum::http::{HeaderMap, header};
use axum::middleware::Next;
use axum::response::Response;

use crate::access::ClientAddress;
use crate::web::WebContext;

/// The most hops of a chain that are looked at.
const MOST_HOPS: usize = 32;

/// A proxy's address, or a subnet of proxies, e.g. `192.0.2.7` or `2001:db8::/32`.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Subnet {
    address: IpAddr,
    bits: u8,
}

/// A text that is no address and no subnet.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("'{0}' is not an address or subnet; use for example 192.0.2.7 or 192.0.2.0/24")]
pub struct NoSubnet(String);

impl FromStr for Subnet {
    type Err = NoSubnet;

    fn from_str(text: &str) -> Result<Self, NoSubnet> {
        let wrong = || NoSubnet(gubernum_core::text::shown(text, 60));
        let (address, bits) = match text.split_once('/') {
            Some((address, bits)) => (address, Some(bits.parse::<u8>().map_err(|_| wrong())?)),
            None => (text, None),
        };
        let address: IpAddr = address.trim().parse().map_err(|_| wrong())?;
        let most = if address.is_ipv4() { 32 } else { 128 };
        let bits = bits.unwrap_or(most);
        if bits > most { Err(wrong()) } else { Ok(Self { address, bits }) }
    }
}

impl Subnet {
    /// Whether an address is in it.
    pub fn contains(&self, address: IpAddr) -> bool {
        let head = |bytes: &[u8], of: &[u8]| {
            let (whole, rest) = (usize::from(self.bits / 8), self.bits % 8);
            let mask = !(0xff_u8.checked_shr(rest.into()).unwrap_or(0));
            bytes[..whole] == of[..whole] && (rest == 0 || bytes[whole] & mask == of[whole] & mask)
        };
        match (self.address, address.to_canonical()) {
            (IpAddr::V4(own), IpAddr::V4(other)) => head(&own.octets(), &other.octets()),
            (IpAddr::V6(own), IpAddr::V6(other)) => head(&own.octets(), &other.octets()),
            _ => false,
        }
    }
}

/// The nearest hop that is no proxy of ours, from the connection's peer backwards.
fn client(peer: IpAddr, headers: &HeaderMap, trusted: &[Subnet]) -> IpAddr {
    let is_trusted = |address: IpAddr| trusted.iter().any(|subnet| subnet.contains(address));
    if !is_trusted(peer) {
        return peer;
    }
    let mut nearest = peer;
    for hop in hops(headers).into_iter().rev().take(MOST_HOPS) {
        // What a proxy could not tell ends what can be believed.
        let Some(address) = hop else { return nearest };
        nearest = address;
        if !is_trusted(address) {
            return nearest;
        }
    }
    nearest
}

/// The chain of hops, the client first. The standard header goes before the customary one.
fn hops(headers: &HeaderMap) -> Vec<Option<IpAddr>> {
    let values = |name: header::HeaderName| {
        let found = headers.get_all(name).iter().filter_map(|v| v.to_str().ok());
        found.flat_map(|v| v.split(',')).map(str::trim).map(str::to_owned).collect::<Vec<_>>()
    };
    let forwarded = values(header::FORWARDED);
    if !forwarded.is_empty() {
        let of = |element: &String| {
            let mut pairs = element.split(';').filter_map(|p| p.split_once('='));
            pairs
                .find(|(name, _)| name.trim().eq_ignore_ascii_case("for"))
                .and_then(|(_, node)| address(node))
        };
        return forwarded.iter().map(of).collect();
    }
    values(header::HeaderName::from_static("x-forwarded-for")).iter().map(|v| address(v)).collect()
}

/// `192.0.2.7`, `192.0.2.7:4711`, `[2001:db8::1]:4711` and the same in quotation marks.
fn address(node: &str) -> Option<IpAddr> {
    let node = node.trim().trim_matches('"');
    if let Ok(address) = node.parse::<IpAddr>() {
        return Some(address);
    }
    if let Ok(address) = node.parse::<SocketAddr>() {
        return Some(address.ip());
    }
    node.strip_prefix('[')?.strip_suffix(']')?.parse().ok()
}

/// Notes the client's address for all that count or write it down.
pub(super) async fn find_client(
    State(context): State<Arc<WebContext>>,
    mut request: Request,
    next: Next,
) -> Response {
    let peer = request.extensions().get::<ConnectInfo<SocketAddr>>().map(|info| info.0.ip());
    if let Some(peer) = peer {
        let found = client(peer, request.headers(), &context.trusted_proxies);
        request.extensions_mut().insert(ClientAddress(found));
    }
    next.run(request).await
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("192.0.2.0/24", "192.0.2.200", true)]
    #[case("192.0.2.0/25", "192.0.2.200", false)]
    #[case("192.0.2.7", "192.0.2.7", true)]
    #[case("192.0.2.7", "::ffff:192.0.2.7", true)]
    #[case("2001:db8::/33", "2001:db8:7fff::1", true)]
    #[case("2001:db8::/33", "2001:db8:8000::1", false)]
    #[case("0.0.0.0/0", "2001:db8::1", false)]
    fn subnets(#[case] subnet: &str, #[case] address: &str, #[case] inside: bool) {
        assert_eq!(subnet.parse::<Subnet>().unwrap().contains(address.parse().unwrap()), inside);
    }

    #[rstest]
    #[case("192.0.2.0/33")]
    #[case("proxy.example")]
    #[case("")]
    fn nonsense_is_named(#[case] text: &str) {
        assert!(text.parse::<Subnet>().is_err());
    }

    #[rstest]
    // A header from anyone but a trusted proxy is ignored.
    #[case("198.51.100.9", &[("x-forwarded-for", "203.0.113.5")], "198.51.100.9")]
    #[case("192.0.2.1", &[("x-forwarded-for", "203.0.113.5")], "203.0.113.5")]
    // What the client wrote itself is on the left and is not believed.
    #[case("192.0.2.1", &[("x-forwarded-for", "198.51.100.1, 203.0.113.5, 192.0.2.2")], "203.0.113.5")]
    #[case("192.0.2.1", &[("forwarded", "for=\"[2001:db8::9]:4711\";proto=https, for=192.0.2.2")], "2001:db8::9")]
    #[case("192.0.2.1", &[("forwarded", "for=unknown")], "192.0.2.1")]
    #[case("192.0.2.1", &[("forwarded", "for=203.0.113.7"), ("x-forwarded-for", "203.0.113.5")], "203.0.113.7")]
    #[case("192.0.2.1", &[], "192.0.2.1")]
    fn the_nearest_hop_that_is_no_proxy(
        #[case] peer: &str,
        #[case] sent: &[(&str, &str)],
        #[case] found: &str,
    ) {
        let trusted = ["192.0.2.0/24".parse().unwrap()];
        let mut headers = HeaderMap::new();
        for (name, value) in sent {
            headers.append(header::HeaderName::from_bytes(name.as_bytes()).unwrap(), value.parse().unwrap());
        }
        assert_eq!(client(peer.parse().unwrap(), &headers, &trusted), found.parse::<IpAddr>().unwrap());
    }
}
