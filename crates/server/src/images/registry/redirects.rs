//! Where a registry's answers may lead: the HTTP client with its name lookups, and which redirects and sign-in
//! addresses are followed.

use std::net::SocketAddr;

use gubernum_core::address_policy::{is_link_local, refusal};
use reqwest::dns::{Addrs, Name, Resolve, Resolving};
use reqwest::{Url, redirect};

use crate::images::registry::RegistryError;

/// The most redirects of one answer.
pub(super) const MOST_REDIRECTS: usize = 5;

/// Looks names up and leaves out what must not be asked: a name may lead anywhere, and elsewhere at each look.
struct FilteringResolver;

impl Resolve for FilteringResolver {
    fn resolve(&self, name: Name) -> Resolving {
        Box::pin(async move {
            let host = name.as_str().to_owned();
            let all: Vec<SocketAddr> = tokio::net::lookup_host((host.as_str(), 0)).await?.collect();
            let fine: Vec<SocketAddr> = all.iter().copied().filter(|a| !is_link_local(a.ip())).collect();
            if fine.is_empty() && !all.is_empty() {
                return Err(refusal(&host).into());
            }
            Ok(Box::new(fine.into_iter()) as Addrs)
        })
    }
}

/// A client that follows no redirect by itself and tells nobody where it comes from.
pub(super) fn client(link_local: bool) -> reqwest::ClientBuilder {
    let builder = reqwest::Client::builder().redirect(redirect::Policy::none()).referer(false);
    if link_local { builder } else { builder.dns_resolver(std::sync::Arc::new(FilteringResolver)) }
}

/// Reads a place, unless it is an address that must not be asked.
pub(super) fn place(text: &str, link_local: bool) -> Result<Url, RegistryError> {
    let wrong = || RegistryError::Nonsense(text.to_owned(), "its address cannot be read".to_owned());
    let url = Url::parse(text).map_err(|_| wrong())?;
    // The parser has turned every way of writing an IPv4 address into the usual one.
    let ip = url.host_str().ok_or_else(wrong)?.trim_matches(['[', ']']).parse();
    if ip.is_ok_and(is_link_local) && !link_local {
        return Err(RegistryError::Delicate(url.host_str().unwrap_or_default().to_owned()));
    }
    Ok(url)
}

/// Whether both are the same registry: scheme, host and port.
pub(super) fn same_place(a: &Url, b: &Url) -> bool {
    a.scheme() == b.scheme()
        && a.host_str() == b.host_str()
        && a.port_or_known_default() == b.port_or_known_default()
}

/// What may be done with a redirect.
#[derive(Debug, PartialEq, Eq)]
pub(super) enum Turn {
    /// It stays at the registry: with the sign-in.
    Home(Url),
    /// It leads to where the registry stores its blobs: without the sign-in.
    Store(Url),
    /// It is not followed.
    Astray,
}

/// Judges a redirect from `from` to `location`. Elsewhere only blobs may lie, as the OCI distribution specification has it;
/// and never without TLS when the registry itself speaks it.
pub(super) fn turn(from: &Url, home: &Url, location: &str) -> Turn {
    let Ok(to) = from.join(location) else { return Turn::Astray };
    if same_place(&to, home) {
        return Turn::Home(to);
    }
    let is_blob = from.path().contains("/blobs/") || !same_place(from, home);
    let is_fit = to.scheme() == "https" || (to.scheme() == "http" && home.scheme() == "http");
    if is_blob && is_fit { Turn::Store(to) } else { Turn::Astray }
}

/// Whether the sign-in may be sent to where the registry says. A registry without TLS may be anybody's by now: what is
/// told to it goes nowhere else.
pub(super) fn may_sign_in(home: &Url, realm: &Url) -> bool {
    if home.scheme() == "https" { realm.scheme() == "https" } else { home.host_str() == realm.host_str() }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn url(text: &str) -> Url {
        Url::parse(text).unwrap()
    }

    #[rstest]
    #[case::same_host("/v2/a/manifests/1", "/v2/b/manifests/1", "home")]
    #[case::manifest_elsewhere("/v2/a/manifests/1", "https://else.example/x", "astray")]
    #[case::other_port("/v2/a/manifests/1", "https://r.example:8443/v2/a/manifests/1", "astray")]
    #[case::downgrade("/v2/a/manifests/1", "http://r.example/v2/a/manifests/1", "astray")]
    #[case::blob_elsewhere("/v2/a/blobs/sha256:1", "https://store.example/x", "store")]
    #[case::blob_downgraded("/v2/a/blobs/sha256:1", "http://store.example/x", "astray")]
    #[case::other_scheme("/v2/a/blobs/sha256:1", "file:///etc/passwd", "astray")]
    fn redirects(#[case] from: &str, #[case] location: &str, #[case] expected: &str) {
        let home = url("https://r.example/");
        let found = match turn(&home.join(from).unwrap(), &home, location) {
            Turn::Home(_) => "home",
            Turn::Store(_) => "store",
            Turn::Astray => "astray",
        };
        assert_eq!(found, expected);
    }

    #[rstest]
    #[case("https://r.example", "https://auth.example/token", true)]
    #[case("https://r.example", "http://r.example/token", false)]
    #[case("http://r.example:5000", "http://r.example:5001/token", true)]
    #[case("http://r.example:5000", "http://thief.example/token", false)]
    #[case("http://r.example:5000", "https://thief.example/token", false)]
    fn sign_ins(#[case] home: &str, #[case] realm: &str, #[case] expected: bool) {
        assert_eq!(may_sign_in(&url(home), &url(realm)), expected);
    }

    #[rstest]
    #[case("http://169.254.1.1/v2/", false)]
    #[case("http://2851995905/v2/", false)]
    #[case("http://0xa9.0xfe.1.1/v2/", false)]
    #[case("http://0/v2/", false)]
    #[case("http://[fe80::1]:5000/v2/", false)]
    #[case("http://127.0.0.1:5000/v2/", true)]
    fn delicate_places_are_refused_however_written(#[case] text: &str, #[case] fine: bool) {
        assert_eq!(place(text, false).is_ok(), fine);
        assert!(place(text, true).is_ok());
    }

    #[tokio::test]
    async fn names_that_lead_to_delicate_addresses_are_not_followed() {
        let _ = rustls::crypto::ring::default_provider().install_default();
        // The look-up refuses before anything is sent.
        let found = FilteringResolver.resolve("0.0.0.0".parse().unwrap()).await;
        assert!(found.is_err());
    }
}
