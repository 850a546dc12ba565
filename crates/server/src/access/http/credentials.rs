//! Reads a request's credentials: a session cookie with its key, or a token; and the client's address.

use std::net::{IpAddr, Ipv4Addr, SocketAddr};
use std::sync::Arc;

use axum::extract::{ConnectInfo, FromRef, FromRequestParts};
use axum::http::request::Parts;
use axum::http::{Extensions, HeaderMap, header};

use crate::access::throttle::{Key, network_of};
use crate::access::{AccessContext, ClientAddress, Identity};
use crate::web::ApiError;

/// The name of the session's cookie. Over TLS it has a prefix by which browsers hold it to this host, over TLS.
const COOKIE: &str = "gubernum_session";
const SECURE_COOKIE: &str = "__Host-gubernum_session";
/// The longest secret that is looked at.
pub(crate) const LONGEST_SECRET: usize = 200;

/// The name of the session's cookie.
pub(crate) fn cookie_name(secure: bool) -> &'static str {
    if secure { SECURE_COOKIE } else { COOKIE }
}

/// Where a request comes from.
#[derive(Debug, Clone)]
pub(crate) struct Origin(pub(crate) String);

pub(crate) fn address_of(extensions: &Extensions) -> String {
    let found = extensions.get::<ClientAddress>().map(|a| a.0);
    let peer = || extensions.get::<ConnectInfo<SocketAddr>>().map(|info| info.0.ip());
    found.or_else(peer).unwrap_or(IpAddr::V4(Ipv4Addr::UNSPECIFIED)).to_canonical().to_string()
}

impl<S: Send + Sync> FromRequestParts<S> for Origin {
    type Rejection = std::convert::Infallible;

    async fn from_request_parts(parts: &mut Parts, _: &S) -> Result<Self, Self::Rejection> {
        Ok(Self(address_of(&parts.extensions)))
    }
}

/// The value of a cookie.
pub(crate) fn cookie<'a>(headers: &'a HeaderMap, name: &str) -> Option<&'a str> {
    headers
        .get_all(header::COOKIE)
        .iter()
        .filter_map(|v| v.to_str().ok())
        .flat_map(|v| v.split(';'))
        .find_map(|pair| pair.trim().strip_prefix(name)?.strip_prefix('='))
}

/// The secret that a request carries, and whether it came in the cookie.
pub(crate) fn presented(headers: &HeaderMap, secure: bool) -> Option<(&str, bool)> {
    if let Some(value) = headers.get(header::AUTHORIZATION) {
        let text = value.to_str().ok()?;
        let (scheme, secret) = text.split_once(' ')?;
        return scheme.eq_ignore_ascii_case("bearer").then_some((secret.trim(), false));
    }
    cookie(headers, cookie_name(secure)).map(|secret| (secret, true))
}

impl<S: Send + Sync> FromRequestParts<S> for Identity
where
    Arc<AccessContext>: FromRef<S>,
{
    type Rejection = ApiError;

    async fn from_request_parts(parts: &mut Parts, state: &S) -> Result<Self, ApiError> {
        if let Some(identity) = parts.extensions.get::<Self>() {
            return Ok(identity.clone());
        }
        let context = Arc::<AccessContext>::from_ref(state);
        // A tab whose session has ended asks again; that is no guessing.
        let Some((_, false)) = presented(&parts.headers, context.secure) else {
            return Err(ApiError::unauthorized());
        };
        // A secret of 256 bits cannot be guessed, so a right one never waits for another's wrong ones:
        // many members may come from one address.
        let key = [Key::new(format!("token from {}", network_of(&address_of(&parts.extensions))))];
        let now = context.clock.now();
        let wait = context.throttle.wait(&key, now);
        context.throttle.failed(&key, now);
        Err(wait.map_or_else(ApiError::unauthorized, slow_down))
    }
}

pub(crate) fn slow_down(seconds: u64) -> ApiError {
    let text = format!("too many failed attempts; try again in {seconds} s");
    let mut error = ApiError::new("slow-down", "Too many failed attempts", 429, text);
    error.retry_after = Some(seconds);
    error
}
