//! Finds out who a request is from: a session's cookie or a token's header.

use std::net::{IpAddr, Ipv4Addr, SocketAddr};

use axum::extract::{ConnectInfo, FromRequestParts};
use axum::http::request::Parts;
use axum::http::{HeaderMap, header};
use gubernum_store::audit::NewEntry;
use gubernum_store::credentials::{Kind, Presented};

use super::secrets;
use crate::app::App;
use crate::http::problem::ApiError;
use crate::runner::Author;

/// The name of the session's cookie.
pub(crate) const COOKIE: &str = "gubernum_session";
/// The longest secret that is looked at.
const LONGEST_SECRET: usize = 200;

/// A member who is asking.
#[derive(Debug, Clone)]
pub(crate) struct Identity {
    pub(crate) credential: i64,
    pub(crate) kind: Kind,
    pub(crate) member_id: i64,
    pub(crate) member: String,
    pub(crate) address: String,
    pub(crate) hash: Vec<u8>,
}

impl Identity {
    /// An entry of the audit log about what they did.
    pub(crate) fn entry<'a>(&'a self, action: &'a str, object: &'a str, outcome: &'a str) -> NewEntry<'a> {
        NewEntry { member: &self.member, address: &self.address, action, object, outcome }
    }

    pub(crate) fn author(&self) -> Author {
        Author { member: self.member.clone(), address: self.address.clone() }
    }
}

/// Where a request comes from.
#[derive(Debug, Clone)]
pub(crate) struct Origin(pub(crate) String);

pub(crate) fn address_of(parts: &Parts) -> String {
    let address = parts.extensions.get::<ConnectInfo<SocketAddr>>().map(|info| info.0.ip());
    address.unwrap_or(IpAddr::V4(Ipv4Addr::UNSPECIFIED)).to_string()
}

impl<S: Send + Sync> FromRequestParts<S> for Origin {
    type Rejection = std::convert::Infallible;

    async fn from_request_parts(parts: &mut Parts, _: &S) -> Result<Self, Self::Rejection> {
        Ok(Self(address_of(parts)))
    }
}

/// The secret that a request carries, and whether it came in the cookie.
pub(crate) fn presented(headers: &HeaderMap) -> Option<(&str, bool)> {
    if let Some(value) = headers.get(header::AUTHORIZATION) {
        let text = value.to_str().ok()?;
        let (scheme, secret) = text.split_once(' ')?;
        return scheme.eq_ignore_ascii_case("bearer").then_some((secret.trim(), false));
    }
    headers
        .get_all(header::COOKIE)
        .iter()
        .filter_map(|v| v.to_str().ok())
        .flat_map(|v| v.split(';'))
        .find_map(|pair| pair.trim().strip_prefix(COOKIE)?.strip_prefix('='))
        .map(|secret| (secret, true))
}

impl FromRequestParts<App> for Identity {
    type Rejection = ApiError;

    async fn from_request_parts(parts: &mut Parts, app: &App) -> Result<Self, ApiError> {
        let address = address_of(parts);
        let Some((secret, in_cookie)) = presented(&parts.headers) else {
            return Err(ApiError::unauthorized());
        };
        let key = [format!("token from {address}")];
        let now = app.clock.now();
        let hash = secrets::hash(secret.get(..LONGEST_SECRET).unwrap_or(secret));
        let looked_up = hash.clone();
        let found = app.db.run(move |store| store.present(&looked_up, now)).await?;
        let expected = if in_cookie { Kind::Session } else { Kind::Token };
        match found {
            Some(Presented { id, kind, member_id, member }) if kind == expected => {
                Ok(Self { credential: id, kind, member_id, member, address, hash })
            }
            // A tab whose session has ended asks again; that is no guessing.
            _ if in_cookie => Err(ApiError::unauthorized()),
            // A secret of 256 bits cannot be guessed, so a right one never waits for another's wrong ones:
            // many members may come from one address.
            _ => {
                let wait = app.throttle.wait(&key, now);
                app.throttle.failed(&key, now);
                Err(wait.map_or_else(ApiError::unauthorized, slow_down))
            }
        }
    }
}

pub(crate) fn slow_down(seconds: u64) -> ApiError {
    let text = format!("too many failed tries; wait {seconds} s and try again");
    let mut error = ApiError::new("slow-down", "Too many failed tries", 429, text);
    error.retry_after = Some(seconds);
    error
}
