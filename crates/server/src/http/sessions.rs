//! Claiming the service, signing in and out, and the sessions of a member.

use axum::Json;
use axum::extract::{Path, State};
use axum::http::{HeaderValue, StatusCode, header};
use axum::response::{IntoResponse, Response};
use gubernum_api::Problem;
use gubernum_api::requests::{Claim, SignIn};
use gubernum_api::views::{Me, ServiceState, Session};
use gubernum_store::audit::NewEntry;
use gubernum_store::credentials::{Kind, NewCredential};
use jiff::{SignedDuration, Timestamp};

use super::extract::Body;
use super::problem::ApiError;
use crate::app::App;
use crate::auth::identity::{COOKIE, Identity, Origin, slow_down};
use crate::auth::{passwords, secrets};

/// How long a session lasts.
const SESSION: SignedDuration = SignedDuration::from_hours(7 * 24);
const LONGEST_NAME: usize = 64;

/// Whether the service waits to be claimed.
#[utoipa::path(get, path = "/api/v1/service", tag = "service", security(()), responses((status = 200, body = ServiceState)))]
pub(super) async fn service(State(app): State<App>) -> Result<Json<ServiceState>, ApiError> {
    let unclaimed = !app.db.run(gubernum_store::Store::has_members).await?;
    Ok(Json(ServiceState { unclaimed, version: env!("CARGO_PKG_VERSION").to_owned() }))
}

/// Makes the first member with the code printed where the service was started, and signs in.
#[utoipa::path(post, path = "/api/v1/claim", tag = "service", security(()), request_body = Claim, responses(
    (status = 201, body = Me),
    (status = "4XX", body = Problem, content_type = "application/problem+json"),
))]
pub(super) async fn claim(
    State(app): State<App>,
    origin: Origin,
    Body(claim): Body<Claim>,
) -> Result<Response, ApiError> {
    let now = app.clock.now();
    let keys = vec![format!("claim from {}", origin.0)];
    if let Some(seconds) = app.throttle.wait(&keys, now) {
        return Err(slow_down(seconds));
    }
    let expected = app.claim_code.lock().clone();
    // Compared even when there is none, so that a claimed service looks like a wrong code.
    let fits = secrets::same_code(&claim.code, expected.as_deref().unwrap_or("no code at all"));
    if !fits || expected.is_none() {
        app.throttle.failed(&keys, now);
        audit(&app, &claim.member, &origin.0, "claim", "refused", now).await?;
        let text = "the claim code is not valid, or it has been used; look where the service was started, or sign in";
        return Err(ApiError::new("claim-refused", "Claim refused", 403, text).at("/code"));
    }
    let member = check_name(&claim.member)?;
    passwords::check_strength(&claim.password, &member).map_err(|e| ApiError::invalid("/password", e))?;
    let hash = passwords::hash(claim.password).await.ok_or_else(no_hash)?;
    let name = member.clone();
    if !app.db.run(move |store| store.claim(&name, &hash, now)).await? {
        return Err(ApiError::new(
            "claim-refused",
            "Claim refused",
            403,
            "somebody else has claimed the service meanwhile; sign in",
        ));
    }
    *app.claim_code.lock() = None;
    audit(&app, &member, &origin.0, "claim", "succeeded", now).await?;
    open(&app, &member, &origin.0, StatusCode::CREATED, now).await
}

fn check_name(name: &str) -> Result<String, ApiError> {
    let name = name.trim();
    let fine = |c: char| c.is_alphanumeric() || matches!(c, '.' | '-' | '_' | '@' | ' ');
    if name.is_empty() || name.chars().count() > LONGEST_NAME || !name.chars().all(fine) {
        let text =
            format!("a member's name has 1 to {LONGEST_NAME} letters, digits, spaces and `.`, `-`, `_`, `@`");
        return Err(ApiError::invalid("/member", text));
    }
    Ok(name.to_owned())
}

fn no_hash() -> ApiError {
    ApiError::new(
        "internal",
        "The service failed",
        500,
        "the password could not be hashed; is the machine out of memory?",
    )
}

/// Signs in; the session travels in a cookie.
#[utoipa::path(post, path = "/api/v1/sessions", tag = "sessions", security(()), request_body = SignIn, responses(
    (status = 201, body = Me),
    (status = "4XX", body = Problem, content_type = "application/problem+json"),
))]
pub(super) async fn sign_in(
    State(app): State<App>,
    origin: Origin,
    Body(wish): Body<SignIn>,
) -> Result<Response, ApiError> {
    let now = app.clock.now();
    let account =
        format!("account {}", wish.member.to_lowercase().chars().take(LONGEST_NAME).collect::<String>());
    let keys = vec![account, format!("sign-in from {}", origin.0)];
    if let Some(seconds) = app.throttle.wait(&keys, now) {
        return Err(slow_down(seconds));
    }
    let name = wish.member.clone();
    let member = app.db.run(move |store| store.member(&name)).await?;
    // Counted before the slow check, so that many tries at once do not slip through together.
    app.throttle.failed(&keys, now);
    let fits = wish.password.chars().count() <= passwords::LONGEST
        && passwords::verify(wish.password, member.as_ref().map(|m| m.password_hash.clone())).await;
    let Some(member) = member.filter(|_| fits) else {
        audit(&app, &wish.member, &origin.0, "sign-in", "refused", now).await?;
        return Err(ApiError::new(
            "sign-in-refused",
            "Sign-in refused",
            401,
            "the name or the password is not right",
        ));
    };
    keys.iter().for_each(|key| app.throttle.succeeded(key));
    audit(&app, &member.name, &origin.0, "sign-in", "succeeded", now).await?;
    open(&app, &member.name, &origin.0, StatusCode::CREATED, now).await
}

async fn open(
    app: &App,
    member: &str,
    address: &str,
    status: StatusCode,
    now: Timestamp,
) -> Result<Response, ApiError> {
    let secret = secrets::fresh("gbs_")
        .map_err(|e| ApiError::new("internal", "The service failed", 500, e.to_string()))?;
    let (name, from, hash) = (member.to_owned(), address.to_owned(), secrets::hash(&secret));
    app.db
        .run(move |store| {
            let Some(member) = store.member(&name)? else { return Ok(()) };
            let new = NewCredential {
                kind: Kind::Session,
                hash: &hash,
                member_id: member.id,
                name: "",
                address: &from,
                expires: Some(now + SESSION),
            };
            store.add_credential(&new, now).map(|_| ())
        })
        .await?;
    let cookie = cookie(app, &secret, SESSION.as_secs());
    let me = Json(Me { member: member.to_owned(), by: "session".to_owned() });
    Ok((status, [(header::SET_COOKIE, cookie)], me).into_response())
}

fn cookie(app: &App, secret: &str, seconds: i64) -> HeaderValue {
    let secure = if app.secure { "; Secure" } else { "" };
    let text = format!("{COOKIE}={secret}; HttpOnly; SameSite=Strict; Path=/; Max-Age={seconds}{secure}");
    HeaderValue::from_str(&text).unwrap_or(HeaderValue::from_static(""))
}

async fn audit(
    app: &App,
    member: &str,
    address: &str,
    action: &'static str,
    outcome: &'static str,
    now: Timestamp,
) -> Result<(), ApiError> {
    let (member, address) = (member.to_owned(), address.to_owned());
    app.db
        .run(move |store| {
            store.audit(
                NewEntry { member: &member, address: &address, action, object: "service", outcome },
                now,
            )
        })
        .await?;
    Ok(())
}

/// Who is asking.
#[utoipa::path(get, path = "/api/v1/sessions/current", tag = "sessions", responses(
    (status = 200, body = Me),
    (status = "4XX", body = Problem, content_type = "application/problem+json"),
))]
pub(super) async fn current(who: Identity) -> Json<Me> {
    let by = if who.kind == Kind::Session { "session" } else { "token" };
    Json(Me { member: who.member, by: by.to_owned() })
}

/// Signs out: ends the session that asks.
#[utoipa::path(delete, path = "/api/v1/sessions/current", tag = "sessions", responses(
    (status = 204),
    (status = "4XX", body = Problem, content_type = "application/problem+json"),
))]
pub(super) async fn sign_out(State(app): State<App>, who: Identity) -> Result<Response, ApiError> {
    if who.kind != Kind::Session {
        return Err(ApiError::new(
            "not-a-session",
            "Not a session",
            409,
            "a token does not sign out; revoke it instead",
        ));
    }
    app.db.run(move |store| store.revoke(who.member_id, who.credential, Kind::Session)).await?;
    Ok((StatusCode::NO_CONTENT, [(header::SET_COOKIE, cookie(&app, "", 0))]).into_response())
}

/// The sessions of the member who asks.
#[utoipa::path(get, path = "/api/v1/sessions", tag = "sessions", responses(
    (status = 200, body = Vec<Session>),
    (status = "4XX", body = Problem, content_type = "application/problem+json"),
))]
pub(super) async fn list(State(app): State<App>, who: Identity) -> Result<Json<Vec<Session>>, ApiError> {
    let now = app.clock.now();
    Ok(Json(app.db.run(move |store| store.sessions(who.member_id, who.credential, now)).await?))
}

/// Ends one of the sessions of the member who asks.
#[utoipa::path(delete, path = "/api/v1/sessions/{id}", tag = "sessions", params(("id" = u64, Path)), responses(
    (status = 204),
    (status = "4XX", body = Problem, content_type = "application/problem+json"),
))]
pub(super) async fn end(
    State(app): State<App>,
    who: Identity,
    Path(id): Path<String>,
) -> Result<StatusCode, ApiError> {
    let missing = || ApiError::not_found("there is no session of yours with this number");
    let number = id.parse().map_err(|_| missing())?;
    if app.db.run(move |store| store.revoke(who.member_id, number, Kind::Session)).await? {
        return Ok(StatusCode::NO_CONTENT);
    }
    Err(missing())
}
