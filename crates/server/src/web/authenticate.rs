//! Finds out once for each request who it is from, and ends long bodies with the credential that asked for them.
//!
//! A session's cookie alone is not enough: browsers send it to every port of the host, so a program on another port can
//! collect it. With it comes the session's key, which only pages of this very origin can read: as the header
//! `Gubernum-Key`, for a WebSocket as a subprotocol, and for a download by link as a ticket. What the extractor refuses,
//! and in which words, is in `access::http::credentials`.

use std::net::IpAddr;
use std::sync::Arc;

use axum::body::Body;
use axum::extract::{Request, State};
use axum::http::{HeaderMap, Uri, header};
use axum::middleware::Next;
use axum::response::Response;
use futures_util::StreamExt;
use gubernum_core::rights::Role;
use gubernum_store::credentials::{Kind, Presented};
use http_body::Body as _;
use ipnet::IpNet;

use crate::access::http::credentials::{LONGEST_SECRET, address_of, presented};
use crate::access::{
    AccessContext, CallerState, Freshness, Identity, Lease, hash_secret, lacks_second_factor,
};
use crate::web::problem::ApiError;

/// The header that carries a session's key.
pub(crate) const KEY_HEADER: &str = "gubernum-key";
/// The subprotocol of our WebSockets, and what begins the one that carries a session's key.
pub(crate) const PROTOCOL: &str = "gubernum";
const KEY_PROTOCOL: &str = "gubernum-key.";
/// The key that goes with a session, worked out from what is kept of its secret and the service's own key.
pub(crate) fn session_key(context: &AccessContext, hash: &[u8]) -> String {
    use base64::Engine as _;
    let text: String = hash.iter().map(|b| format!("{b:02x}")).collect();
    base64::engine::general_purpose::URL_SAFE_NO_PAD.encode(context.db.seal().code("session key", &text))
}

/// The key that a request carries.
fn shown_key(headers: &HeaderMap) -> Option<&str> {
    if let Some(key) = headers.get(KEY_HEADER) {
        return key.to_str().ok();
    }
    let offered = headers.get_all(header::SEC_WEBSOCKET_PROTOCOL).iter().filter_map(|v| v.to_str().ok());
    offered.flat_map(|v| v.split(',')).find_map(|p| p.trim().strip_prefix(KEY_PROTOCOL))
}

/// Whether two keys are the same, without telling by time how much fits.
fn same(a: &str, b: &str) -> bool {
    let (a, b) = (hash_secret(a), hash_secret(b));
    a.iter().zip(b).fold(0, |sum, (x, y)| sum | (x ^ y)) == 0
}

/// Takes the ticket out of an address; gives it, and the address without it.
fn ticket_of(uri: &Uri) -> Option<(String, Uri)> {
    let query = uri.query()?;
    let ticket = query.split('&').find_map(|pair| pair.strip_prefix("ticket="))?.to_owned();
    let rest: Vec<&str> = query.split('&').filter(|pair| !pair.starts_with("ticket=")).collect();
    let path =
        if rest.is_empty() { uri.path().to_owned() } else { format!("{}?{}", uri.path(), rest.join("&")) };
    Some((ticket, path.parse().ok()?))
}

/// A good credential with the roles that there are, and whether everybody needs a second factor.
type Found = (Presented, Vec<Role>, bool);

/// The credential of a hash, when it is of this kind and good from where it is shown.
async fn look_up(
    context: &AccessContext,
    hash: &[u8],
    kind: Kind,
    address: &str,
) -> Result<Option<Found>, ApiError> {
    let (looked_up, now) = (hash.to_vec(), context.clock.now());
    let found = context.db.run(move |store| {
        let Some(presented) = store.present(&looked_up, now)? else { return Ok(None) };
        Ok(Some((presented, store.roles()?, store.preferences()?.second_factor_for_all)))
    });
    Ok(found.await?.filter(|(p, ..)| p.kind == kind && is_good_from(&p.networks, address)))
}

/// Whether a credential may be shown from an address.
fn is_good_from(networks: &[String], address: &str) -> bool {
    let Ok(address) = address.parse::<IpAddr>() else { return networks.is_empty() };
    let holds =
        |network: &String| network.parse::<IpNet>().is_ok_and(|n| n.contains(&address.to_canonical()));
    networks.is_empty() || networks.iter().any(holds)
}

fn too_fast(seconds: u64) -> ApiError {
    let text = "too many requests: at most 200 per second for each session or token";
    let mut error = ApiError::new("too-fast", "Too many requests", 429, text);
    error.retry_after = Some(seconds);
    error
}

fn directory_failed(why: impl std::fmt::Display) -> ApiError {
    let text =
        format!("your groups could not be read for an hour, so nothing is allowed until they can: {why}");
    let mut error = ApiError::new("directory-silent", "The directory does not answer", 503, text);
    error.retry_after = Some(10);
    error
}

/// Who a request is from, if it shows a good credential.
async fn identify(context: &AccessContext, request: &mut Request) -> Result<Option<Identity>, ApiError> {
    let Some((secret, in_cookie)) = presented(request.headers(), context.secure) else { return Ok(None) };
    let hash = hash_secret(secret.get(..LONGEST_SECRET).unwrap_or(secret));
    if in_cookie {
        let expected = session_key(context, &hash);
        let by_key = shown_key(request.headers()).is_some_and(|key| same(key, &expected));
        if !by_key {
            let Some((ticket, plain)) = ticket_of(request.uri()) else { return Ok(None) };
            if request.method() != axum::http::Method::GET
                || !context.tickets.take(&ticket, &hash, &plain.to_string())
            {
                return Ok(None);
            }
            *request.uri_mut() = plain;
        }
    }
    let expected = if in_cookie { Kind::Session } else { Kind::Token };
    let address = address_of(request.extensions());
    let Some(mut found) = look_up(context, &hash, expected, &address).await? else { return Ok(None) };
    if let Some((kind, checked)) = found.0.directory {
        match context.freshen(found.0.member_id, kind, checked).await.map_err(directory_failed)? {
            Freshness::Known => {}
            Freshness::Asked => match look_up(context, &hash, expected, &address).await? {
                Some(again) => found = again,
                None => return Ok(None),
            },
            Freshness::TooOld(why) => return Err(directory_failed(why)),
        }
    }
    let (presented, roles, for_all) = found;
    context.rate_limit.take(presented.id, tokio::time::Instant::now()).map_err(too_fast)?;
    let now = context.clock.now();
    let access = context.rights.of(&presented, &roles, for_all, now);
    let standing = match (presented.kind, presented.stepped_until) {
        (Kind::Token, _) => CallerState::Token,
        (Kind::Session, Some(until)) if until > now => CallerState::SteppedUp(until),
        (Kind::Session, _) => CallerState::Session,
    };
    let via = match presented.kind {
        Kind::Token => format!("token {} ({})", presented.name, presented.id),
        Kind::Session => format!("session {}", presented.id),
    };
    let lacks_second_factor = lacks_second_factor(&presented, &roles, for_all);
    let Presented { id, kind, member_id, member, expires, view_as, .. } = presented;
    let lease = context.leases.lease(id, expires);
    Ok(Some(Identity {
        credential: id,
        kind,
        member_id,
        member,
        address,
        hash,
        access,
        via: via.into(),
        lacks_second_factor,
        standing,
        view_as,
        lease,
    }))
}

/// Notes who a request is from. What it sends and what is answered goes on for as long as the credential is good.
pub(super) async fn authenticate(
    State(context): State<Arc<AccessContext>>,
    mut request: Request,
    next: Next,
) -> Response {
    let identity = match identify(&context, &mut request).await {
        Ok(Some(identity)) => identity,
        Ok(None) => return next.run(request).await,
        Err(error) => return axum::response::IntoResponse::into_response(error),
    };
    let lease = identity.lease.clone();
    request.extensions_mut().insert(identity);
    let is_short = |body: &Body| body.size_hint().exact().is_some_and(|size| size <= SHORT);
    if !is_short(request.body()) {
        let ending = lease.clone();
        request = request.map(|body| guarded(body, &ending));
    }
    let response = next.run(request).await;
    if is_short(response.body()) { response } else { response.map(|body| guarded(body, &lease)) }
}

/// Bodies up to this size are there whole; nothing of them outlives anything.
const SHORT: u64 = 64 * 1024;

/// A body that is interrupted when the credential ends.
fn guarded(body: Body, lease: &Lease) -> Body {
    let ended = futures_util::stream::once(lease.end())
        .map(|()| Err(axum::Error::new(std::io::Error::other("the session or token has ended"))));
    // The end of the credential is looked at first, and the end of the body ends both.
    let both = futures_util::stream::unfold(
        (Box::pin(ended), Some(body.into_data_stream())),
        |(mut ended, data)| async move {
            let mut data = data?;
            tokio::select! {
                biased;
                Some(error) = ended.next() => Some((error, (ended, None))),
                piece = data.next() => piece.map(|piece| (piece, (ended, Some(data)))),
            }
        },
    );
    // A compressor polls once more after the end.
    Body::from_stream(both.fuse())
}
