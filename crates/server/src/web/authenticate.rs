//! Finds out once for each request who it is from, and ends long bodies with the credential that asked for them.
//!
//! A session's cookie alone is not enough: browsers send it to every port of the host, so a program on another port can
//! collect it. With it comes the session's key, which only pages of this very origin can read: as the header
//! `Gubernum-Key`, for a WebSocket as a subprotocol, and for a download by link as a ticket. What the extractor refuses,
//! and in which words, is in `access::http::credentials`.

use std::collections::HashMap;
use std::time::Duration;

use axum::body::Body;
use axum::extract::{Request, State};
use axum::http::{HeaderMap, Uri, header};
use axum::middleware::Next;
use axum::response::Response;
use futures_util::StreamExt;
use gubernum_store::credentials::{Kind, Presented};
use http_body::Body as _;
use parking_lot::Mutex;
use tokio::time::Instant;

use crate::access::http::credentials::{LONGEST_SECRET, address_of, presented};
use crate::access::{Identity, Lease, NoRandomness, fresh_secret, hash_secret};
use crate::app::App;
use crate::web::problem::ApiError;

/// The header that carries a session's key.
pub(crate) const KEY_HEADER: &str = "gubernum-key";
/// The subprotocol of our WebSockets, and what begins the one that carries a session's key.
pub(crate) const PROTOCOL: &str = "gubernum";
const KEY_PROTOCOL: &str = "gubernum-key.";
/// How long a ticket is good, and how many there may be.
const TICKET: Duration = Duration::from_secs(60);
const MOST_TICKETS: usize = 1000;

/// Tickets for downloads by link: each for one path of one session, once.
#[derive(Default)]
pub(crate) struct Tickets(Mutex<HashMap<String, Ticket>>);

/// The session that asked, the path, and until when it is good.
type Ticket = (Vec<u8>, String, Instant);

impl Tickets {
    /// Makes a ticket; `None` when there are too many.
    pub(crate) fn make(&self, session: &[u8], path: &str) -> Result<Option<String>, NoRandomness> {
        let ticket = fresh_secret("")?;
        let mut all = self.0.lock();
        all.retain(|_, (.., made)| made.elapsed() < TICKET);
        if all.len() >= MOST_TICKETS {
            return Ok(None);
        }
        all.insert(ticket.clone(), (session.to_vec(), path.to_owned(), Instant::now()));
        Ok(Some(ticket))
    }

    /// Takes a ticket, if it is for this path of this session.
    fn take(&self, ticket: &str, session: &[u8], path: &str) -> bool {
        let found = self.0.lock().remove(ticket);
        found.is_some_and(|(of, to, made)| of == session && to == path && made.elapsed() < TICKET)
    }
}

/// The key that goes with a session, worked out from what is kept of its secret and the service's own key.
pub(crate) fn session_key(app: &App, hash: &[u8]) -> String {
    use base64::Engine as _;
    let text: String = hash.iter().map(|b| format!("{b:02x}")).collect();
    base64::engine::general_purpose::URL_SAFE_NO_PAD.encode(app.db.seal().code("session key", &text))
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

/// Who a request is from, if it shows a good credential.
async fn identify(app: &App, request: &mut Request) -> Result<Option<Identity>, ApiError> {
    let Some((secret, in_cookie)) = presented(request.headers(), app.secure) else { return Ok(None) };
    let hash = hash_secret(secret.get(..LONGEST_SECRET).unwrap_or(secret));
    if in_cookie {
        let expected = session_key(app, &hash);
        let by_key = shown_key(request.headers()).is_some_and(|key| same(key, &expected));
        if !by_key {
            let Some((ticket, plain)) = ticket_of(request.uri()) else { return Ok(None) };
            if request.method() != axum::http::Method::GET
                || !app.tickets.take(&ticket, &hash, &plain.to_string())
            {
                return Ok(None);
            }
            *request.uri_mut() = plain;
        }
    }
    let (looked_up, now) = (hash.clone(), app.clock.now());
    let found = app.db.run(move |store| store.present(&looked_up, now)).await?;
    let expected = if in_cookie { Kind::Session } else { Kind::Token };
    let Some(Presented { id, kind, member_id, member, expires }) = found.filter(|p| p.kind == expected)
    else {
        return Ok(None);
    };
    let address = address_of(request.extensions());
    let lease = app.leases.of(id, expires);
    Ok(Some(Identity { credential: id, kind, member_id, member, address, hash, lease }))
}

/// Notes who a request is from. What it sends and what is answered goes on for as long as the credential is good.
pub(super) async fn authenticate(State(app): State<App>, mut request: Request, next: Next) -> Response {
    let identity = match identify(&app, &mut request).await {
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

/// A body that breaks off when the credential ends.
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
    // Whoever packs an answer looks once more after its end.
    Body::from_stream(both.fuse())
}
