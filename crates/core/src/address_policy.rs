//! Which network addresses the service may contact at a member's request, for a registry or a host: it goes there
//! with its own rights.
//!
//! Link-local and unspecified addresses are where machines hand out their own credentials; nobody runs an engine or a
//! registry there on purpose. Looking names up and connecting is the caller's.

use core::net::{IpAddr, Ipv6Addr};

/// Whether an address is one that is asked only when the settings allow it.
///
/// ```
/// use gubernum_core::address_policy::is_link_local;
/// assert!(is_link_local("169.254.9.9".parse().unwrap()));
/// assert!(is_link_local("::ffff:169.254.9.9".parse().unwrap()));
/// assert!(!is_link_local("10.9.1.4".parse().unwrap()));
/// ```
pub fn is_link_local(address: IpAddr) -> bool {
    match address {
        // All of 0.0.0.0/8 is "this host on this network" (RFC 1122).
        IpAddr::V4(ip) => ip.is_link_local() || ip.octets()[0] == 0,
        IpAddr::V6(ip) => match ip.to_ipv4_mapped().or_else(|| compatible(ip)) {
            Some(inner) => is_link_local(IpAddr::V4(inner)),
            None => ip.is_unicast_link_local() || ip.is_unspecified(),
        },
    }
}

/// The IPv4 address inside one of the old `::a.b.c.d` form, or behind the well-known NAT64 prefix (RFC 6052).
fn compatible(ip: Ipv6Addr) -> Option<core::net::Ipv4Addr> {
    let s = ip.segments();
    let old = s[..6] == [0; 6] && s[6] != 0;
    let nat64 = s[..6] == [0x64, 0xff9b, 0, 0, 0, 0];
    (old || nat64).then(|| {
        let [a, b] = s[6].to_be_bytes();
        let [c, d] = s[7].to_be_bytes();
        core::net::Ipv4Addr::new(a, b, c, d)
    })
}

/// The address that is in `host` or `host:port` itself, in any of the forms that resolvers take.
pub fn literal(place: &str) -> Option<IpAddr> {
    if let Ok(ip) = place.trim_matches(['[', ']']).parse() {
        return Some(ip);
    }
    let host = place.rsplit_once(':').map_or(place, |(host, _)| host);
    host.trim_matches(['[', ']']).parse().ok()
}

/// What to say of one that is refused.
pub fn refusal(place: &str) -> String {
    format!(
        "{} is a link-local or unspecified address; the setting 'allow_link_local' allows such addresses",
        crate::text::shown(place, 120)
    )
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("169.254.0.1", true)]
    #[case("0.0.0.0", true)]
    #[case("0.1.2.3", true)]
    #[case("::", true)]
    #[case("fe80::1", true)]
    #[case("::ffff:0.0.0.0", true)]
    #[case("::169.254.1.1", true)]
    #[case("64:ff9b::a9fe:101", true)]
    #[case("127.0.0.1", false)]
    #[case("::1", false)]
    #[case("192.168.1.5", false)]
    #[case("fd00::1", false)]
    fn ranges(#[case] address: &str, #[case] expected: bool) {
        assert_eq!(is_link_local(address.parse().unwrap()), expected);
    }

    #[rstest]
    #[case("169.254.1.1:5000", true)]
    #[case("[fe80::1]:5000", true)]
    #[case("fe80::1", true)]
    #[case("registry.tarnvalley.example:5000", false)]
    fn literals(#[case] place: &str, #[case] is_one: bool) {
        assert_eq!(literal(place).is_some(), is_one);
    }
}
