//! What protects a browser's member from other sites: the check of the Origin, and strict headers.

use axum::extract::{Request, State};
use axum::http::{HeaderName, HeaderValue, Method, header};
use axum::middleware::Next;
use axum::response::{IntoResponse, Response};

use super::problem::ApiError;
use crate::app::App;
use crate::auth::identity::presented;

const POLICY: &str = "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; frame-ancestors 'none'; base-uri 'none'; form-action 'self'; object-src 'none'";

/// Sets the headers that go with every answer.
pub(super) async fn headers(request: Request, next: Next) -> Response {
    let mut response = next.run(request).await;
    let headers = response.headers_mut();
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
pub(super) async fn refuse_other_sites(State(app): State<App>, request: Request, next: Next) -> Response {
    let upgrade = request.headers().contains_key(header::UPGRADE);
    let changing = !matches!(*request.method(), Method::GET | Method::HEAD | Method::OPTIONS);
    if (changing || upgrade) && !is_own(&app, &request) {
        let text = "this request comes from another site's page, or does not say where it comes from; open Gubernum's own address, or use a token";
        return ApiError::new("other-origin", "Refused origin", 403, text).at("Origin").into_response();
    }
    next.run(request).await
}

fn is_own(app: &App, request: &Request) -> bool {
    let headers = request.headers();
    let Some(origin) = headers.get(header::ORIGIN) else {
        // Programs send no Origin; browsers always do for these. A cookie without one is suspicious.
        return !matches!(presented(headers), Some((_, true)));
    };
    let Ok(origin) = origin.to_str() else { return false };
    if app.public_url.as_deref().is_some_and(|url| url.trim_end_matches('/').eq_ignore_ascii_case(origin)) {
        return true;
    }
    let host = headers
        .get(header::HOST)
        .and_then(|h| h.to_str().ok())
        .or_else(|| request.uri().authority().map(|a| a.as_str()));
    let scheme = if app.secure { "https://" } else { "http://" };
    match (origin.strip_prefix(scheme), host) {
        (Some(authority), Some(host)) => authority.eq_ignore_ascii_case(host),
        _ => false,
    }
}
