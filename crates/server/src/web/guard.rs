//! Protects browsers from other sites: the check of the Origin, and strict headers.

use std::sync::Arc;

use axum::extract::{Request, State};
use axum::http::{HeaderName, HeaderValue, Method, header};
use axum::middleware::Next;
use axum::response::{IntoResponse, Response};

use crate::access::ProblemType;
use crate::access::http::credentials::presented;
use crate::web::WebContext;
use crate::web::problem::ApiError;

const POLICY: &str = "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; frame-ancestors 'none'; base-uri 'none'; form-action 'self'; object-src 'none'";

/// Sets the headers that go with every answer.
pub(super) async fn headers(
    State(context): State<Arc<WebContext>>,
    request: Request,
    next: Next,
) -> Response {
    let mut response = next.run(request).await;
    if let Some(ProblemType(kind)) = response.extensions().get() {
        context.tally.count(kind);
    }
    let headers = response.headers_mut();
    if context.strict_transport {
        // A year; only where the certificate is one that browsers are meant to trust.
        headers.insert(header::STRICT_TRANSPORT_SECURITY, HeaderValue::from_static("max-age=31536000"));
    }
    for (name, value) in [
        (header::CONTENT_SECURITY_POLICY, POLICY),
        (header::X_CONTENT_TYPE_OPTIONS, "nosniff"),
        (header::REFERRER_POLICY, "no-referrer"),
        (header::X_FRAME_OPTIONS, "DENY"),
        (HeaderName::from_static("cross-origin-opener-policy"), "same-origin"),
    ] {
        headers.insert(name, HeaderValue::from_static(value));
    }
    if !headers.contains_key(header::CACHE_CONTROL) {
        headers.insert(header::CACHE_CONTROL, HeaderValue::from_static("no-store"));
    }
    response
}

/// Refuses changing requests and WebSockets that another site's page makes.
pub(super) async fn refuse_other_sites(
    State(context): State<Arc<WebContext>>,
    request: Request,
    next: Next,
) -> Response {
    let upgrade = request.headers().contains_key(header::UPGRADE);
    let changing = !matches!(*request.method(), Method::GET | Method::HEAD | Method::OPTIONS);
    if (changing || upgrade) && !is_own(&context, &request) {
        let text = "this request comes from another site; open Gubernum's own address, or use a token";
        return ApiError::new("other-origin", "Refused origin", 403, text).at("Origin").into_response();
    }
    next.run(request).await
}

fn is_own(context: &WebContext, request: &Request) -> bool {
    let headers = request.headers();
    let Some(origin) = headers.get(header::ORIGIN) else {
        // Programs send no Origin; browsers always do for these. A cookie without one is suspicious.
        return !matches!(presented(headers, context.secure), Some((_, true)));
    };
    let Ok(origin) = origin.to_str() else { return false };
    if context.public_url.as_deref().is_some_and(|url| url.trim_end_matches('/').eq_ignore_ascii_case(origin))
    {
        return true;
    }
    let host = headers
        .get(header::HOST)
        .and_then(|h| h.to_str().ok())
        .or_else(|| request.uri().authority().map(|a| a.as_str()));
    let scheme = if context.secure { "https://" } else { "http://" };
    match (origin.strip_prefix(scheme), host) {
        (Some(authority), Some(host)) => authority.eq_ignore_ascii_case(host),
        _ => false,
    }
}

/// Refuses requests that name another host than this one: a page of somebody else's whose name was made to lead here.
pub(super) async fn refuse_unknown_names(
    State(context): State<Arc<WebContext>>,
    request: Request,
    next: Next,
) -> Response {
    let named = request.headers().get(header::HOST).and_then(|h| h.to_str().ok());
    let named = named.or_else(|| request.uri().authority().map(|a| a.as_str())).unwrap_or_default();
    if context.names.knows(named) {
        return next.run(request).await;
    }
    let shown = gubernum_core::text::shown(named, 100);
    let text = format!("unknown host name '{shown}'; add it to host_names, or set public_url");
    ApiError::new("unknown-name", "Unknown host name", 421, text).at("Host").into_response()
}

/// The names under which the service may be asked for.
#[derive(Debug, Default)]
pub(crate) struct Names(Vec<String>);

impl Names {
    /// These names, the one of the address behind a proxy and the machine's own.
    pub(crate) fn new(names: &[String], public_url: Option<&str>) -> Self {
        let machine = gethostname::gethostname().to_string_lossy().into_owned();
        let public = public_url.and_then(|url| url.split("://").nth(1)).unwrap_or_default();
        let all = names.iter().map(String::as_str).chain([host_of(public), &machine]);
        Self(all.filter(|n| !n.is_empty()).map(str::to_ascii_lowercase).collect())
    }

    /// Whether this is one of them. An address is never a name that somebody could point here.
    fn knows(&self, host: &str) -> bool {
        let host = host_of(host).trim_end_matches('.').to_ascii_lowercase();
        host == "localhost"
            || host.ends_with(".localhost")
            || host.trim_matches(['[', ']']).parse::<std::net::IpAddr>().is_ok()
            || self.0.contains(&host)
    }
}

/// A host without its port.
fn host_of(authority: &str) -> &str {
    let authority = authority.split('/').next().unwrap_or_default();
    match authority.rsplit_once(':') {
        Some((host, port)) if port.bytes().all(|b| b.is_ascii_digit()) && !host.ends_with(':') => host,
        _ => authority,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("127.0.0.1:7310", true)]
    #[case("[::1]:7310", true)]
    #[case("[::1]", true)]
    #[case("localhost:7310", true)]
    #[case("Gubernum.Tarnvalley.example", true)]
    #[case("console.tarnvalley.example:443", true)]
    #[case("elsewhere.example", false)]
    #[case("gubernum.tarnvalley.example.elsewhere.example", false)]
    #[case("", false)]
    fn only_our_own_names(#[case] host: &str, #[case] known: bool) {
        let names = ["gubernum.tarnvalley.example".to_owned()];
        assert_eq!(Names::new(&names, Some("https://console.tarnvalley.example")).knows(host), known);
    }
}
