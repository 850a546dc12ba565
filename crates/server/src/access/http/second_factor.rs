//! Sets up and removes one's own second factor.

use std::sync::Arc;

use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use gubernum_api::Problem;
use gubernum_api::members::{BeginSecondFactor, NewSecondFactor, RecoveryCodes, SecondFactorCode};
use gubernum_core::directory::DirectoryKind;
use gubernum_store::credentials::Kind;
use tokio::time::Instant;

use crate::access::http::credentials::slow_down;
use crate::access::http::sessions::crowded;
use crate::access::passwords::{self, SignInLane};
use crate::access::second_factor::{codes, recovery_codes, step_of, use_code};
use crate::access::throttle::Key;
use crate::access::{AccessContext, Identity, RightsChanged};
use crate::web::extract::Body;
use crate::web::problem::ApiError;

fn only_sessions(who: &Identity) -> Result<(), ApiError> {
    if who.kind == Kind::Session {
        return Ok(());
    }
    let text = "a second factor is set up after signing in with a password; a token cannot";
    Err(ApiError::new("not-a-session", "Not a session", 409, text))
}

fn random(error: impl std::fmt::Display) -> ApiError {
    ApiError::new("internal", "Internal error", 500, error.to_string())
}

fn wrong_code() -> ApiError {
    ApiError::invalid("/code", "wrong or used code; wait for the next one")
}

fn key(who: &Identity) -> [Key; 1] {
    [Key::new(format!("second factor of {}", who.member_id))]
}

/// Starts setting up a second factor: returns the secret for an authenticator. It is active after the first code.
#[utoipa::path(post, path = "/api/v1/second-factor", tag = "sessions", operation_id = "begin_second_factor",
    request_body = BeginSecondFactor, responses(
    (status = 201, body = NewSecondFactor),
    (status = "4XX", body = Problem, content_type = "application/problem+json"),
    (status = 503, body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn begin(
    State(context): State<Arc<AccessContext>>,
    who: Identity,
    Body(wish): Body<BeginSecondFactor>,
) -> Result<(StatusCode, Json<NewSecondFactor>), ApiError> {
    only_sessions(&who)?;
    let now = context.clock.now();
    if let Some(seconds) = context.throttle.wait(&key(&who), now) {
        return Err(slow_down(seconds));
    }
    if !knows_password(&context, &who, wish.password).await? {
        context.throttle.failed(&key(&who), now);
        return Err(ApiError::invalid("/password", "this is not your password"));
    }
    let secret = context.begun_factors.begin(who.member_id, Instant::now()).map_err(random)?;
    let made = codes(&secret, &who.member).ok_or_else(|| random("codes cannot be generated"))?;
    let address = made.to_url().map_err(random)?;
    Ok((StatusCode::CREATED, Json(NewSecondFactor { secret: made.secret().to_base32(), address })))
}

/// Whether somebody knows their password: here, or in the LDAP directory that they come from. Whoever comes from a provider of OpenID
/// Connect has none that could be asked; that they are signed in has to do.
pub(super) async fn knows_password(
    context: &AccessContext,
    who: &Identity,
    password: String,
) -> Result<bool, ApiError> {
    if password.chars().count() > passwords::LONGEST {
        return Ok(false);
    }
    let name = who.member.clone();
    let member = context.db.run(move |store| store.member(&name)).await?;
    match member.as_ref().and_then(|member| member.directory) {
        Some(DirectoryKind::Openid) => Ok(true),
        Some(DirectoryKind::Ldap) => {
            let id = who.member_id;
            let known =
                context.db.run(move |store| store.directory_of(id)).await?.map(|(_, member)| member.subject);
            let person =
                context.directories.ldap_sign_in(&who.member, &password).await.unwrap_or_else(|error| {
                    tracing::warn!("the password could not be checked in the directory: {error}");
                    None
                });
            Ok(person.is_some_and(|person| Some(person.subject) == known))
        }
        None => {
            let known = member.map(|m| m.password_hash).filter(|hash| !hash.is_empty());
            passwords::verify(password, known, SignInLane::Known).await.map_err(crowded)
        }
    }
}

/// Confirms the second factor with its first code. Returns recovery codes and ends all other sessions.
#[utoipa::path(put, path = "/api/v1/second-factor", tag = "sessions", operation_id = "confirm_second_factor",
    request_body = SecondFactorCode, responses(
    (status = 200, body = RecoveryCodes),
    (status = "4XX", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn confirm(
    State(context): State<Arc<AccessContext>>,
    who: Identity,
    Body(wish): Body<SecondFactorCode>,
) -> Result<Json<RecoveryCodes>, ApiError> {
    only_sessions(&who)?;
    let now = context.clock.now();
    if let Some(seconds) = context.throttle.wait(&key(&who), now) {
        return Err(slow_down(seconds));
    }
    let Some(secret) = context.begun_factors.secret(who.member_id, Instant::now()) else {
        let text = "setting up the second factor expired after ten minutes; start again";
        return Err(ApiError::new("not-begun", "Not begun", 409, text));
    };
    let Some(step) = step_of(&secret, &wish.code, now) else {
        context.throttle.failed(&key(&who), now);
        return Err(wrong_code());
    };
    let (codes, hashes) = recovery_codes().map_err(random)?;
    let member = who.member_id;
    let ended = context.db.run(move |store| {
        store.set_second_factor(member, &secret, &hashes)?;
        store.use_step(member, step)?;
        store.audit(who.entry("set-second-factor", "service", "succeeded"), now)?;
        store.end_sessions(member, Some(who.credential))
    });
    ended.await?.into_iter().for_each(|credential| context.leases.end(credential));
    context.begun_factors.done(member);
    context.rights.tell(RightsChanged::Of(member));
    Ok(Json(RecoveryCodes { codes }))
}

/// Removes one's own second factor, with a code or a recovery code.
#[utoipa::path(delete, path = "/api/v1/second-factor", tag = "sessions", operation_id = "remove_second_factor",
    request_body = SecondFactorCode, responses(
    (status = 204),
    (status = "4XX", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn remove(
    State(context): State<Arc<AccessContext>>,
    who: Identity,
    Body(wish): Body<SecondFactorCode>,
) -> Result<StatusCode, ApiError> {
    only_sessions(&who)?;
    let now = context.clock.now();
    if let Some(seconds) = context.throttle.wait(&key(&who), now) {
        return Err(slow_down(seconds));
    }
    let member = who.member_id;
    let Some(secret) = context.db.run(move |store| store.second_factor(member)).await? else {
        return Err(ApiError::not_found("you have no second factor"));
    };
    let asked = who.clone();
    let removed = context.db.run(move |store| {
        let good = use_code(store, member, &secret, &wish.code, now)?;
        if good {
            store.remove_second_factor(member)?;
            store.audit(asked.entry("remove-second-factor", "service", "succeeded"), now)?;
        }
        Ok(good)
    });
    if !removed.await? {
        context.throttle.failed(&key(&who), now);
        return Err(wrong_code());
    }
    context.rights.tell(RightsChanged::Of(member));
    Ok(StatusCode::NO_CONTENT)
}
