//! Claims the service, signs in and out, and lists a member's sessions.

use std::sync::Arc;

use axum::Json;
use axum::extract::{Path, State};
use axum::http::{HeaderMap, HeaderValue, StatusCode, header};
use axum::response::{AppendHeaders, IntoResponse, Response};
use gubernum_api::Problem;
use gubernum_api::directories::DirectorySettings;
use gubernum_api::members::ChangePassword;
use gubernum_api::requests::{Claim, NewTicket, SignIn};
use gubernum_api::views::{Me, ServiceState, Session, Ticket};
use gubernum_core::directory::DirectoryKind;
use gubernum_store::audit::NewEntry;
use gubernum_store::credentials::{Kind, NewCredential, ProviderSession};
use gubernum_store::members::Member;
use jiff::{SignedDuration, Timestamp};

use crate::access::AccessContext;
use crate::access::Identity;
use crate::access::directory::Tokens;
use crate::access::http::credentials::{Origin, cookie, cookie_name, slow_down};
use crate::access::http::openid::come_in;
use crate::access::passwords;
use crate::access::passwords::SignInLane;
use crate::access::second_factor::use_code;
use crate::access::secrets;
use crate::access::throttle::{Key, network_of};
use crate::web::authenticate::session_key;
use crate::web::extract::Body;
use crate::web::problem::ApiError;

/// The longest path that a ticket is made for.
pub(crate) const LONGEST_PATH: usize = 8192;
pub(crate) const LONGEST_NAME: usize = 64;

/// State of the service: whether it is unclaimed, and its version.
#[utoipa::path(get, path = "/api/v1/service", tag = "service", security(()), responses((status = 200, body = ServiceState)))]
pub(crate) async fn service(
    State(context): State<Arc<AccessContext>>,
) -> Result<Json<ServiceState>, ApiError> {
    let unclaimed = !context.db.run(gubernum_store::Store::has_members).await?;
    let openid = context.directories.all().iter().find_map(|set_up| match &set_up.kept.settings {
        DirectorySettings::Openid(settings) => Some(settings.label.clone()),
        DirectorySettings::Ldap(_) => None,
    });
    Ok(Json(ServiceState { unclaimed, version: env!("CARGO_PKG_VERSION").to_owned(), openid }))
}

/// Claims a new service with the code that it printed: creates the first member and signs in.
#[utoipa::path(post, path = "/api/v1/claim", tag = "service", security(()), request_body = Claim, responses(
    (status = 201, body = Me),
    (status = "4XX", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn claim(
    State(context): State<Arc<AccessContext>>,
    origin: Origin,
    Body(claim): Body<Claim>,
) -> Result<Response, ApiError> {
    let now = context.clock.now();
    let keys = [Key::new(format!("claim from {}", network_of(&origin.0)))];
    if let Some(seconds) = context.throttle.wait(&keys, now) {
        return Err(slow_down(seconds));
    }
    let expected = context.claim_code.lock().clone();
    // Compared even when there is none, so that a claimed service looks like a wrong code.
    let fits = secrets::same_code(&claim.code, expected.as_deref().unwrap_or("no code given"));
    if !fits || expected.is_none() {
        context.throttle.failed(&keys, now);
        audit(&context, &claim.member, &origin.0, "claim", "refused", now).await?;
        let text = "wrong or used claim code; find it in the output of the service, or sign in";
        return Err(ApiError::new("claim-refused", "Claim refused", 403, text).at("/code"));
    }
    let member = check_name(&claim.member)?;
    passwords::check_strength(&claim.password, &member).map_err(|e| ApiError::invalid("/password", e))?;
    let hash =
        passwords::hash(claim.password, SignInLane::Stranger).await.map_err(crowded)?.ok_or_else(no_hash)?;
    let name = member.clone();
    if !context.db.run(move |store| store.claim(&name, &hash, now)).await? {
        return Err(ApiError::new(
            "claim-refused",
            "Claim refused",
            403,
            "the service was claimed by somebody else; sign in",
        ));
    }
    *context.claim_code.lock() = None;
    audit(&context, &member, &origin.0, "claim", "succeeded", now).await?;
    open(&context, &member, &origin.0, StatusCode::CREATED, now, None).await
}

pub(super) fn check_name(name: &str) -> Result<String, ApiError> {
    let name = name.trim();
    let fine = |c: char| c.is_alphanumeric() || matches!(c, '.' | '-' | '_' | '@' | ' ');
    if name.is_empty() || name.chars().count() > LONGEST_NAME || !name.chars().all(fine) {
        let text =
            format!("a member's name has 1 to {LONGEST_NAME} letters, digits, spaces and '.', '-', '_', '@'");
        return Err(ApiError::invalid("/member", text));
    }
    Ok(name.to_owned())
}

pub(super) fn no_hash() -> ApiError {
    ApiError::new(
        "internal",
        "Internal error",
        500,
        "the password could not be hashed; is the machine out of memory?",
    )
}

pub(super) fn crowded(error: passwords::TooManySignIns) -> ApiError {
    let mut refused = ApiError::new("crowded", "Too many sign-ins", 503, error.to_string());
    refused.retry_after = Some(passwords::COME_AGAIN);
    refused
}

/// The cookie by which a browser shows that it has signed in to an account before: others' wrong tries do not hold it up.
const KNOWN: &str = "gubernum_known";
/// How long it shows that.
const KNOWN_SECONDS: i64 = 180 * 24 * 3600;

fn known_code(context: &AccessContext, account: &str, mark: &str) -> String {
    context
        .db
        .seal()
        .code("known browser", &format!("{account} {mark}"))
        .iter()
        .map(|b| format!("{b:02x}"))
        .collect()
}

/// Where the tries for an account are counted: of a browser that signed in to it before by the browser, else by network.
fn counted_by(context: &AccessContext, headers: &HeaderMap, account: &str, address: &str) -> String {
    let shown = cookie(headers, KNOWN).and_then(|value| value.split_once('.'));
    match shown {
        Some((mark, code))
            if mark.len() <= 64 && secrets::same_code(code, &known_code(context, account, mark)) =>
        {
            format!("browser {mark}")
        }
        _ => network_of(address),
    }
}

/// Signs in: sets the session cookie and returns the session key.
#[utoipa::path(post, path = "/api/v1/sessions", tag = "sessions", operation_id = "sign_in", security(()), request_body = SignIn, responses(
    (status = 201, body = Me),
    (status = "4XX", body = Problem, content_type = "application/problem+json"),
    (status = 503, body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn sign_in(
    State(context): State<Arc<AccessContext>>,
    origin: Origin,
    headers: HeaderMap,
    Body(wish): Body<SignIn>,
) -> Result<Response, ApiError> {
    let now = context.clock.now();
    let account: String = wish.member.to_lowercase().chars().take(LONGEST_NAME).collect();
    let by = counted_by(&context, &headers, &account, &origin.0);
    let is_known = by.starts_with("browser ");
    let here = Key::account_from(&account, &by);
    let (network, everywhere) = (Key::address(&network_of(&origin.0)), Key::account(&account));
    let both = [here.clone(), network.clone()];
    let waits: &[Key] = if is_known { &both[..1] } else { &both };
    if let Some(seconds) = context.throttle.wait(waits, now) {
        return Err(slow_down(seconds));
    }
    if !is_known {
        tokio::time::sleep(context.throttle.delay(&everywhere, now)).await;
    }
    let (name, password) = (wish.member.clone(), wish.password);
    let member = context.db.run(move |store| store.member(&name)).await?;
    // Counted before the slow check, so that many tries at once do not slip through together.
    let counted = [here.clone(), network.clone(), everywhere.clone()];
    context.throttle.failed(&counted, now);
    let is_short = password.chars().count() <= passwords::LONGEST;
    let has_password = member.as_ref().is_some_and(|m| m.directory.is_none());
    let asks_ldap = !has_password && context.directories.get(DirectoryKind::Ldap).is_some();
    let fits = if is_short && !asks_ldap {
        let hash = member.as_ref().map(|m| m.password_hash.clone()).filter(|hash| !hash.is_empty());
        let lane = if is_known || has_signed_in(&context, &account, &origin.0).await? {
            SignInLane::Known
        } else {
            SignInLane::Stranger
        };
        let checked = passwords::verify(password.clone(), hash, lane).await;
        checked.map_err(|error| {
            // A request that was turned away tried no password.
            counted.iter().for_each(|key| context.throttle.took_back(key));
            crowded(error)
        })?
    } else {
        false
    };
    let (member, why) = if asks_ldap && is_short {
        by_ldap(&context, &wish.member, password).await?
    } else {
        (member.filter(|_| fits), "refused".to_owned())
    };
    // A member who may not sign in any more gets the answer of a wrong password.
    let Some(member) = member.filter(|m| m.deactivated.is_none()) else {
        audit(&context, &wish.member, &origin.0, "sign-in", &why, now).await?;
        return Err(ApiError::new("sign-in-refused", "Sign-in refused", 401, "wrong name or password"));
    };
    let took_back = || {
        context.throttle.took_back(&network);
        context.throttle.took_back(&everywhere);
    };
    let id = member.id;
    if let Some(secret) = context.db.run(move |store| store.second_factor(id)).await? {
        let Some(code) = wish.code.filter(|code| !code.is_empty()) else {
            // The password was right, and no code was guessed.
            context.throttle.took_back(&here);
            took_back();
            // Somebody who has the password only shows here.
            audit(&context, &member.name, &origin.0, "sign-in", "password right, code asked for", now)
                .await?;
            return Err(code_needed());
        };
        let good = context.db.run(move |store| use_code(store, id, &secret, &code, now)).await?;
        if !good {
            audit(&context, &member.name, &origin.0, "sign-in", "refused: wrong code", now).await?;
            let text = "wrong or used code; wait for the next one";
            return Err(ApiError::new("sign-in-refused", "Sign-in refused", 401, text).at("/code"));
        }
    }
    context.throttle.succeeded(&here);
    took_back();
    audit(&context, &member.name, &origin.0, "sign-in", "succeeded", now).await?;
    open(&context, &member.name, &origin.0, StatusCode::CREATED, now, None).await
}

/// The member who is somebody in the LDAP directory, or why there is none.
async fn by_ldap(
    context: &AccessContext,
    name: &str,
    password: String,
) -> Result<(Option<Member>, String), ApiError> {
    // What is typed is looked for as it is; a name that no member could have is nobody's.
    if check_name(name).is_err() {
        return Ok((None, "refused".to_owned()));
    }
    let person = match context.directories.ldap_sign_in(name.trim(), &password).await {
        Ok(Some(person)) => person,
        Ok(None) => return Ok((None, "refused".to_owned())),
        Err(error) => {
            tracing::warn!("signing in through the directory failed: {error}");
            return Ok((None, format!("refused: {error}")));
        }
    };
    match come_in(context, DirectoryKind::Ldap, person).await? {
        Ok(id) => {
            let found = context.db.run(move |store| {
                let Some(record) = store.member_record(id)? else { return Ok(None) };
                store.member(&record.name)
            });
            Ok((found.await?, String::new()))
        }
        Err(turned) => Ok((None, format!("refused: {}", turned.why()))),
    }
}

/// The answer to the correct password of a member with a second factor.
pub(super) fn code_needed() -> ApiError {
    let text = "enter a code of your second factor, or a recovery code";
    ApiError::new("code-needed", "Code required", 401, text).at("/code")
}

/// Whether a session or token of this member was opened from this address and is still valid.
async fn has_signed_in(context: &AccessContext, member: &str, address: &str) -> Result<bool, ApiError> {
    let (member, address, now) = (member.to_owned(), address.to_owned(), context.clock.now());
    Ok(context.db.run(move |store| store.has_credential_from(&member, &address, now)).await?)
}

pub(super) async fn open(
    context: &AccessContext,
    member: &str,
    address: &str,
    status: StatusCode,
    now: Timestamp,
    tokens: Option<&Tokens>,
) -> Result<Response, ApiError> {
    let random = |prefix| {
        secrets::fresh(prefix).map_err(|e| ApiError::new("internal", "Internal error", 500, e.to_string()))
    };
    let (secret, mark) = (random("gbs_")?, random("")?);
    let (name, from, hash) = (member.to_owned(), address.to_owned(), secrets::hash(&secret));
    let provider = tokens.map(|tokens| (tokens.session.clone(), tokens.id_token.clone()));
    let lasts = context
        .db
        .run(move |store| {
            let lasts = SignedDuration::from_hours(i64::from(store.preferences()?.session_hours));
            let Some(member) = store.member(&name)? else { return Ok(lasts) };
            let new = NewCredential {
                kind: Kind::Session,
                hash: &hash,
                member_id: member.id,
                name: "",
                address: &from,
                expires: Some(now + lasts),
                bounds: None,
                networks: &[],
                provider: provider
                    .as_ref()
                    .map(|(id, id_token)| ProviderSession { id: id.as_deref(), id_token }),
            };
            store.add_credential(&new, now).map(|_| lasts)
        })
        .await?;
    let code = known_code(context, &member.to_lowercase(), &mark);
    let known = set_cookie(context, KNOWN, &format!("{mark}.{code}"), KNOWN_SECONDS);
    let session = set_cookie(context, cookie_name(context.secure), &secret, lasts.as_secs());
    let key = session_key(context, &secrets::hash(&secret));
    let me = Json(Me { member: member.to_owned(), by: "session".to_owned(), key: Some(key) });
    let cookies = AppendHeaders([(header::SET_COOKIE, session), (header::SET_COOKIE, known)]);
    Ok((status, cookies, me).into_response())
}

fn set_cookie(context: &AccessContext, name: &str, value: &str, seconds: i64) -> HeaderValue {
    let secure = if context.secure { "; Secure" } else { "" };
    let text = format!("{name}={value}; HttpOnly; SameSite=Strict; Path=/; Max-Age={seconds}{secure}");
    HeaderValue::from_str(&text).unwrap_or(HeaderValue::from_static(""))
}

/// A one-time ticket for a download by link, as a link has no header for the session key.
#[utoipa::path(post, path = "/api/v1/tickets", tag = "sessions", operation_id = "make_ticket", request_body = NewTicket, responses(
    (status = 201, body = Ticket),
    (status = "4XX", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn ticket(
    State(context): State<Arc<AccessContext>>,
    who: Identity,
    Body(wish): Body<NewTicket>,
) -> Result<(StatusCode, Json<Ticket>), ApiError> {
    if !wish.path.starts_with("/api/v1/") || wish.path.len() > LONGEST_PATH {
        return Err(ApiError::invalid(
            "/path",
            format!("the path must start with /api/v1/ and have at most {LONGEST_PATH} characters"),
        ));
    }
    let made = context.tickets.make(&who.hash, &wish.path);
    let made = made.map_err(|e| ApiError::new("internal", "Internal error", 500, e.to_string()))?;
    let Some(ticket) = made else {
        let text = "too many pending downloads; try again in a minute";
        return Err(ApiError::new("too-many", "Too many downloads", 429, text));
    };
    let joint = if wish.path.contains('?') { '&' } else { '?' };
    let address = format!("{}{joint}ticket={ticket}", wish.path);
    Ok((StatusCode::CREATED, Json(Ticket { address })))
}

async fn audit(
    context: &AccessContext,
    member: &str,
    address: &str,
    action: &'static str,
    outcome: &str,
    now: Timestamp,
) -> Result<(), ApiError> {
    let (member, address, outcome) = (member.to_owned(), address.to_owned(), outcome.to_owned());
    context
        .db
        .run(move |store| {
            store.audit(
                NewEntry {
                    member: &member,
                    address: &address,
                    action,
                    object: "service",
                    outcome: &outcome,
                    via: "",
                },
                now,
            )
        })
        .await?;
    Ok(())
}

/// Who one is signed in as.
#[utoipa::path(get, path = "/api/v1/sessions/current", tag = "sessions", responses(
    (status = 200, body = Me),
    (status = "4XX", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn current(who: Identity) -> Json<Me> {
    let by = if who.kind == Kind::Session { "session" } else { "token" };
    Json(Me { member: who.member, by: by.to_owned(), key: None })
}

/// Signs out of this session.
#[utoipa::path(delete, path = "/api/v1/sessions/current", tag = "sessions", responses(
    (status = 204),
    (status = "4XX", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn sign_out(
    State(context): State<Arc<AccessContext>>,
    who: Identity,
) -> Result<Response, ApiError> {
    if who.kind != Kind::Session {
        return Err(ApiError::new(
            "not-a-session",
            "Not a session",
            409,
            "a token cannot sign out; revoke it instead",
        ));
    }
    let (now, credential) = (context.clock.now(), who.credential);
    context
        .db
        .run(move |store| {
            store.revoke(who.member_id, who.credential, Kind::Session)?;
            store.audit(who.entry("sign-out", "service", "succeeded"), now)
        })
        .await?;
    context.leases.end(credential);
    let gone = set_cookie(&context, cookie_name(context.secure), "", 0);
    Ok((StatusCode::NO_CONTENT, [(header::SET_COOKIE, gone)]).into_response())
}

/// One's own sessions.
#[utoipa::path(get, path = "/api/v1/sessions", tag = "sessions", responses(
    (status = 200, body = Vec<Session>),
    (status = "4XX", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn list(
    State(context): State<Arc<AccessContext>>,
    who: Identity,
) -> Result<Json<Vec<Session>>, ApiError> {
    let now = context.clock.now();
    Ok(Json(context.db.run(move |store| store.sessions(who.member_id, who.credential, now)).await?))
}

/// Ends one of one's own sessions.
#[utoipa::path(delete, path = "/api/v1/sessions/{id}", tag = "sessions", params(("id" = u64, Path)), responses(
    (status = 204),
    (status = "4XX", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn end(
    State(context): State<Arc<AccessContext>>,
    who: Identity,
    Path(id): Path<String>,
) -> Result<StatusCode, ApiError> {
    let missing = || ApiError::not_found("you have no session with this number");
    let number = id.parse().map_err(|_| missing())?;
    let now = context.clock.now();
    let ended = context.db.run(move |store| {
        let ended = store.revoke(who.member_id, number, Kind::Session)?;
        if ended {
            store.audit(who.entry("end-session", &format!("session {number}"), "succeeded"), now)?;
        }
        Ok(ended)
    });
    if ended.await? {
        context.leases.end(number);
        return Ok(StatusCode::NO_CONTENT);
    }
    Err(missing())
}

/// Changes one's own password. All other sessions end.
#[utoipa::path(post, path = "/api/v1/password", tag = "sessions", operation_id = "change_password",
    request_body = ChangePassword, responses(
    (status = 204),
    (status = "4XX", body = Problem, content_type = "application/problem+json"),
    (status = 503, body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn change_password(
    State(context): State<Arc<AccessContext>>,
    who: Identity,
    Body(wish): Body<ChangePassword>,
) -> Result<StatusCode, ApiError> {
    if who.kind != Kind::Session {
        let text = "a password is changed after signing in with it; a token cannot";
        return Err(ApiError::new("not-a-session", "Not a session", 409, text));
    }
    let now = context.clock.now();
    let key = [Key::new(format!("password of {} by session", who.member_id))];
    if let Some(seconds) = context.throttle.wait(&key, now) {
        return Err(slow_down(seconds));
    }
    if wish.current.chars().count() > passwords::LONGEST {
        return Err(ApiError::invalid("/current", "wrong current password"));
    }
    let name = who.member.clone();
    let member = context.db.run(move |store| store.member(&name)).await?;
    if let Some(kind) = member.as_ref().and_then(|member| member.directory) {
        let text = format!("you sign in through the directory {}; change your password there", kind.word());
        return Err(ApiError::new("in-directory", "Member of a directory", 409, text));
    }
    let known = member.map(|m| m.password_hash).filter(|hash| !hash.is_empty());
    if !passwords::verify(wish.current, known, SignInLane::Known).await.map_err(crowded)? {
        context.throttle.failed(&key, now);
        audit(&context, &who.member, &who.address, "change-password", "refused", now).await?;
        return Err(ApiError::invalid("/current", "wrong current password"));
    }
    passwords::check_strength(&wish.new, &who.member).map_err(|e| ApiError::invalid("/new", e))?;
    let hash = passwords::hash(wish.new, SignInLane::Known).await.map_err(crowded)?.ok_or_else(no_hash)?;
    let ended = context.db.run(move |store| {
        store.set_password(who.member_id, &hash)?;
        store.audit(who.entry("change-password", "service", "succeeded"), now)?;
        store.end_sessions(who.member_id, Some(who.credential))
    });
    ended.await?.into_iter().for_each(|credential| context.leases.end(credential));
    Ok(StatusCode::NO_CONTENT)
}
