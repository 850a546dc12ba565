//! Sign-in by OpenID Connect: to the provider and back, and out again. Each step works once, for a while, and in the
//! browser that began it. A refusal says no more than that; the audit log says why.

use std::sync::Arc;

use axum::Json;
use axum::extract::{Form, Query, State};
use axum::http::{HeaderMap, HeaderValue, StatusCode, header};
use axum::response::{AppendHeaders, IntoResponse, Redirect, Response};
use gubernum_api::Problem;
use gubernum_api::directories::{FinishOpenid, ProviderLogout};
use gubernum_api::views::Me;
use gubernum_core::directory::{DirectoryKind, granted};
use gubernum_core::text::shown;
use gubernum_store::StoreError;
use gubernum_store::audit::NewEntry;
use gubernum_store::directories::FromDirectory;
use serde::Deserialize;

use crate::access::directory::{Begun, CompletedSignIn, DirectoryError, Person};
use crate::access::http::credentials::{Origin, cookie, slow_down};
use crate::access::http::sessions::{LONGEST_NAME, code_needed, open};
use crate::access::second_factor::use_code;
use crate::access::throttle::{Key, network_of};
use crate::access::{AccessContext, Identity, secrets};
use crate::web::extract::Body;
use crate::web::problem::ApiError;

/// The cookie that binds a sign-in to the browser that began it. It comes along when the provider sends the browser back, which a strict
/// one would not.
const BROWSER: &str = "gubernum_openid";
const BROWSER_SECONDS: i64 = 900;
/// The longest of what a provider sends back with a browser, in bytes.
const LONGEST: usize = 8192;

fn browser_cookie(context: &AccessContext, value: &str, seconds: i64) -> HeaderValue {
    let secure = if context.secure { "; Secure" } else { "" };
    let text =
        format!("{BROWSER}={value}; HttpOnly; SameSite=Lax; Path=/api/v1/openid; Max-Age={seconds}{secure}");
    HeaderValue::from_str(&text).unwrap_or(HeaderValue::from_static(""))
}

fn no_randomness(error: impl std::fmt::Display) -> ApiError {
    ApiError::new("internal", "Internal error", 500, error.to_string())
}

/// What the browser's page is told of a sign-in that came to nothing.
fn back_with(reason: &str) -> Response {
    Redirect::to(&format!("/#refused={reason}")).into_response()
}

async fn audit(
    context: &AccessContext,
    member: &str,
    address: &str,
    outcome: &str,
) -> Result<(), StoreError> {
    let (member, address, outcome) = (member.to_owned(), address.to_owned(), outcome.to_owned());
    let now = context.clock.now();
    let written = context.db.run(move |store| {
        let entry = NewEntry {
            member: &member,
            address: &address,
            action: "sign-in",
            object: "openid",
            outcome: &outcome,
            via: "",
        };
        store.audit(entry, now)
    });
    written.await.map(|_| ())
}

/// Sends a browser to the provider.
#[utoipa::path(get, path = "/api/v1/openid/begin", tag = "sessions", operation_id = "begin_openid", security(()), responses(
    (status = 303, description = "To the provider, or back to the console when the provider cannot be reached."),
    (status = "4XX", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn begin(
    State(context): State<Arc<AccessContext>>,
    origin: Origin,
) -> Result<Response, ApiError> {
    if context.directories.get(DirectoryKind::Openid).is_none() {
        return Err(ApiError::not_found("OpenID Connect is not configured"));
    }
    let keys = [Key::new(format!("openid from {}", network_of(&origin.0)))];
    if let Some(seconds) = context.throttle.wait(&keys, context.clock.now()) {
        return Err(slow_down(seconds));
    }
    match context.directories.openid_begin().await {
        Ok((address, begun)) => {
            let browser =
                begun.sealed(context.db.seal()).ok_or_else(|| no_randomness("it cannot be sealed"))?;
            let cookies =
                AppendHeaders([(header::SET_COOKIE, browser_cookie(&context, &browser, BROWSER_SECONDS))]);
            Ok((cookies, Redirect::to(&address)).into_response())
        }
        Err(error) => {
            tracing::warn!("signing in by OpenID Connect failed: {error}");
            Ok(back_with("unavailable"))
        }
    }
}

/// What a provider sends back with a browser.
#[derive(Debug, Default, Deserialize, utoipa::IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct Callback {
    /// The authorization code.
    code: Option<String>,
    /// The state of the sign-in.
    state: Option<String>,
    /// The provider (RFC 9207).
    iss: Option<String>,
    /// The provider's error.
    error: Option<String>,
}

/// Redirect address for the provider.
#[utoipa::path(get, path = "/api/v1/openid/callback", tag = "sessions", operation_id = "openid_callback", security(()),
    params(Callback), responses(
    (status = 303, description = "Back to the console, with a ticket or an error code."),
    (status = "4XX", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn callback(
    State(context): State<Arc<AccessContext>>,
    origin: Origin,
    headers: HeaderMap,
    Query(answer): Query<Callback>,
) -> Result<Response, ApiError> {
    let now = context.clock.now();
    let keys = [Key::new(format!("openid from {}", network_of(&origin.0)))];
    if let Some(seconds) = context.throttle.wait(&keys, now) {
        return Err(slow_down(seconds));
    }
    let browser = cookie(&headers, BROWSER).unwrap_or_default();
    let begun = Begun::opened(context.db.seal(), browser, now.as_second()).filter(|begun| {
        let state = answer.state.as_deref().unwrap_or_default();
        secrets::hash(state) == secrets::hash(&begun.state) && context.directories.use_state(&begun.state)
    });
    let Some(begun) = begun else {
        context.throttle.failed(&keys, now);
        audit(&context, "", &origin.0, "refused: the sign-in was not begun here, or used before").await?;
        return Ok(back_with("stale"));
    };
    if let Some(error) = &answer.error {
        audit(&context, "", &origin.0, &format!("refused by the provider: {}", shown(error, 80))).await?;
        return Ok(back_with("denied"));
    }
    let issuer = context.directories.get(DirectoryKind::Openid).map(|set_up| set_up.kept.settings);
    let is_other = match (&answer.iss, issuer) {
        (Some(given), Some(gubernum_api::directories::DirectorySettings::Openid(settings))) => {
            given.trim_end_matches('/') != settings.issuer.trim_end_matches('/')
        }
        _ => false,
    };
    let code = answer.code.filter(|code| !code.is_empty() && code.len() <= LONGEST && !is_other);
    let Some(code) = code else {
        audit(&context, "", &origin.0, "refused: the answer is from another provider, or has no code")
            .await?;
        return Ok(back_with("failed"));
    };
    let found = match context.directories.openid_exchange(code, begun).await {
        Ok(found) => found,
        Err(error) => {
            context.throttle.failed(&keys, now);
            tracing::warn!("signing in by OpenID Connect failed: {error}");
            audit(&context, "", &origin.0, &format!("refused: {error}")).await?;
            let is_down = matches!(error, DirectoryError::Unreachable(_) | DirectoryError::Silent);
            return Ok(back_with(if is_down { "unavailable" } else { "failed" }));
        }
    };
    let name = found.person.name.clone();
    match come_in(&context, DirectoryKind::Openid, found.person).await? {
        Ok(member) => {
            let ticket = secrets::fresh("").map_err(no_randomness)?;
            let kept = serde_json::to_string(&found.tokens).ok();
            context.db.run(move |store| store.set_directory_token(member, kept.as_deref())).await?;
            let name =
                context.db.run(move |store| store.member_record(member)).await?.map_or(name, |m| m.name);
            context.directories.arrived.put(
                &ticket,
                browser,
                CompletedSignIn { member, name, tokens: found.tokens },
            );
            Ok(Redirect::to(&format!("/#signed-in={ticket}")).into_response())
        }
        Err(refused) => {
            audit(&context, &name, &origin.0, &format!("refused: {}", refused.why())).await?;
            Ok(back_with(refused.word()))
        }
    }
}

/// Why somebody whom a directory knows may not come in.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Refused {
    /// None of their groups is granted anything.
    NoGrants,
    /// Another member has the name.
    NameTaken,
    /// They were deactivated here.
    Deactivated,
    /// Their name cannot be a member's.
    BadName,
}

impl Refused {
    pub(super) fn why(self) -> &'static str {
        match self {
            Self::NoGrants => "no group has a grant",
            Self::NameTaken => "another member has this name, or the limit of members is reached",
            Self::Deactivated => "deactivated",
            Self::BadName => "the name in the directory is not a valid member name",
        }
    }

    fn word(self) -> &'static str {
        match self {
            Self::NoGrants => "no-grants",
            Self::NameTaken => "name-taken",
            Self::Deactivated | Self::BadName => "failed",
        }
    }
}

/// Takes somebody in whom a directory knows: makes the member where there is none yet, and gives what the groups grant.
pub(super) async fn come_in(
    context: &AccessContext,
    kind: DirectoryKind,
    person: Person,
) -> Result<Result<i64, Refused>, ApiError> {
    let now = context.clock.now();
    let mapping = context.directories.get(kind).map(|set_up| set_up.kept.mapping).unwrap_or_default();
    let grants = granted(&person.groups, &mapping);
    let Ok(name) = super::sessions::check_name(&person.name) else { return Ok(Err(Refused::BadName)) };
    if name.chars().count() > LONGEST_NAME {
        return Ok(Err(Refused::BadName));
    }
    let put = context.db.run(move |store| {
        let known = store.directory_member(kind, &person.subject)?;
        let has_own = match &known {
            Some(known) => !store.grants_of(known.id)?.is_empty(),
            None => false,
        };
        if let Some(known) = &known {
            if known.deactivated.is_some() {
                return Ok(Err(Refused::Deactivated));
            }
            store.set_directory_grants(known.id, &grants, now)?;
        }
        if grants.is_empty() && !has_own {
            return Ok(Err(Refused::NoGrants));
        }
        let said = FromDirectory { kind, subject: &person.subject, name: &name, grants: &grants };
        match store.put_directory_member(&said, now) {
            Ok(member) => Ok(Ok(member.id)),
            Err(StoreError::Taken(_) | StoreError::Full { .. }) => Ok(Err(Refused::NameTaken)),
            Err(error) => Err(error),
        }
    });
    Ok(put.await?)
}

/// Finishes signing in with the ticket from the console's address.
#[utoipa::path(post, path = "/api/v1/openid/sessions", tag = "sessions", operation_id = "finish_openid", security(()),
    request_body = FinishOpenid, responses(
    (status = 201, body = Me),
    (status = "4XX", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn finish(
    State(context): State<Arc<AccessContext>>,
    origin: Origin,
    headers: HeaderMap,
    Body(wish): Body<FinishOpenid>,
) -> Result<Response, ApiError> {
    let now = context.clock.now();
    let keys = [Key::new(format!("openid from {}", network_of(&origin.0)))];
    if let Some(seconds) = context.throttle.wait(&keys, now) {
        return Err(slow_down(seconds));
    }
    context.throttle.failed(&keys, now);
    let browser = cookie(&headers, BROWSER).unwrap_or_default().to_owned();
    let arrived = context.directories.arrived.take(&wish.ticket, &browser);
    let Some(arrived) = arrived else {
        audit(&context, "", &origin.0, "refused: no such ticket").await?;
        let text = "this sign-in is unknown or was used before; sign in again";
        return Err(ApiError::new("sign-in-refused", "Sign-in refused", 401, text).at("/ticket"));
    };
    let id = arrived.member;
    if let Some(secret) = context.db.run(move |store| store.second_factor(id)).await? {
        let Some(code) = wish.code.filter(|code| !code.is_empty()) else {
            context.throttle.took_back(&keys[0]);
            context.directories.arrived.put(&wish.ticket, &browser, arrived);
            return Err(code_needed());
        };
        if !context.db.run(move |store| use_code(store, id, &secret, &code, now)).await? {
            audit(&context, &arrived.name, &origin.0, "refused: wrong code").await?;
            context.directories.arrived.put(&wish.ticket, &browser, arrived);
            let text = "wrong or used code; wait for the next one";
            return Err(ApiError::new("sign-in-refused", "Sign-in refused", 401, text).at("/code"));
        }
    }
    context.throttle.succeeded(&keys[0]);
    audit(&context, &arrived.name, &origin.0, "succeeded").await?;
    let mut response =
        open(&context, &arrived.name, &origin.0, StatusCode::CREATED, now, Some(&arrived.tokens)).await?;
    response.headers_mut().append(header::SET_COOKIE, browser_cookie(&context, "", 0));
    Ok(response)
}

/// A back-channel logout request from the provider.
#[derive(Debug, Deserialize, utoipa::ToSchema)]
pub(crate) struct LogoutToken {
    /// The logout token.
    logout_token: String,
}

/// Back-channel logout (OpenID Connect): the provider reports a sign-out, and the member's sessions end.
#[utoipa::path(post, path = "/api/v1/openid/logout", tag = "sessions", operation_id = "openid_logout", security(()),
    request_body(content = LogoutToken, content_type = "application/x-www-form-urlencoded"), responses(
    (status = 200, description = "Their sessions have ended."),
    (status = "4XX", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn logout(
    State(context): State<Arc<AccessContext>>,
    origin: Origin,
    form: Result<Form<LogoutToken>, axum::extract::rejection::FormRejection>,
) -> Result<StatusCode, ApiError> {
    let now = context.clock.now();
    let keys = [Key::new(format!("openid logout from {}", network_of(&origin.0)))];
    if let Some(seconds) = context.throttle.wait(&keys, now) {
        return Err(slow_down(seconds));
    }
    let refused = || {
        let text = "the logout token is not accepted";
        ApiError::new("logout-refused", "Sign-out refused", 400, text).at("/logout_token")
    };
    let Ok(Form(LogoutToken { logout_token })) = form else { return Err(refused()) };
    let claims = match context.directories.openid_logout(&logout_token).await {
        Ok(claims) => claims,
        Err(error) => {
            context.throttle.failed(&keys, now);
            audit(&context, "", &origin.0, &format!("a sign-out of the provider was refused: {error}"))
                .await?;
            return Err(refused());
        }
    };
    let ended = context.db.run(move |store| {
        let ended = store.end_provider_sessions(claims.subject.as_deref(), claims.session.as_deref())?;
        let outcome = format!("{} sessions ended", ended.len());
        let member = claims
            .subject
            .as_deref()
            .map_or(Ok(None), |s| store.directory_member(DirectoryKind::Openid, s))?;
        let name = member.map(|m| m.name).unwrap_or_default();
        let entry = NewEntry {
            member: &name,
            address: &origin.0,
            action: "sign-out",
            object: "by the provider",
            outcome: &outcome,
            via: "",
        };
        store.audit(entry, now)?;
        Ok(ended)
    });
    ended.await?.into_iter().for_each(|credential| context.leases.end(credential));
    Ok(StatusCode::OK)
}

/// Where a browser goes after it has signed out here, to sign out at the provider too.
#[utoipa::path(get, path = "/api/v1/openid/end", tag = "sessions", operation_id = "openid_end", responses(
    (status = 200, body = ProviderLogout),
    (status = "4XX", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn end(
    State(context): State<Arc<AccessContext>>,
    who: Identity,
) -> Result<Json<ProviderLogout>, ApiError> {
    let token = context.db.run(move |store| store.id_token(who.credential)).await?;
    let address = match token {
        // Signing out here must not fail because the provider does not answer.
        Some(token) => context.directories.openid_end(&token).await.unwrap_or_default(),
        None => None,
    };
    Ok(Json(ProviderLogout { address }))
}
