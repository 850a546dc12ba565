//! Stepping up: confirming one's identity for a while. Also viewing everything as a role.

use std::sync::Arc;

use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use gubernum_api::Problem;
use gubernum_api::guard::{StepUp, SteppedUp, ViewAs};
use gubernum_core::directory::DirectoryKind;
use gubernum_store::credentials::Kind;
use jiff::SignedDuration;

use crate::access::http::credentials::slow_down;
use crate::access::http::second_factor::knows_password;
use crate::access::second_factor::use_code;
use crate::access::throttle::Key;
use crate::access::{AccessContext, Identity, RightsChanged};
use crate::web::extract::Body;
use crate::web::problem::ApiError;

/// Minutes for which it holds when nobody says.
const USUAL_MINUTES: u32 = 15;
/// The most of them.
const MOST_MINUTES: u32 = 60;

fn only_sessions(who: &Identity, what: &str) -> Result<(), ApiError> {
    if who.kind == Kind::Session {
        return Ok(());
    }
    let text = format!("{what} needs a signed-in member; a token cannot");
    Err(ApiError::new("not-a-session", "Not a session", 409, text))
}

/// Whether the password or the code that is shown is right; which of them is in its field otherwise.
async fn is_shown(context: &AccessContext, who: &Identity, wish: &StepUp) -> Result<bool, ApiError> {
    let now = context.clock.now();
    let member = who.member_id;
    if let Some(code) = wish.code.clone().filter(|code| !code.is_empty()) {
        let Some(secret) = context.db.run(move |store| store.second_factor(member)).await? else {
            return Err(ApiError::invalid("/code", "you have no second factor; give your password"));
        };
        return Ok(context.db.run(move |store| use_code(store, member, &secret, &code, now)).await?);
    }
    let Some(password) = wish.password.clone().filter(|password| !password.is_empty()) else {
        return Err(ApiError::invalid("/password", "give your password, or a code of your second factor"));
    };
    let directory = context.db.run(move |store| Ok(store.member_record(member)?.and_then(|m| m.directory)));
    if directory.await? == Some(DirectoryKind::Openid) {
        let text = "this service does not know your password; set up a second factor and use a code";
        return Err(ApiError::invalid("/password", text));
    }
    knows_password(context, who, password).await
}

/// Steps up with the password or a code: for some minutes all rights apply, and guarded changes are allowed.
#[utoipa::path(post, path = "/api/v1/step-up", tag = "sessions", operation_id = "step_up", request_body = StepUp, responses(
    (status = 200, body = SteppedUp),
    (status = "4XX", body = Problem, content_type = "application/problem+json"),
    (status = 503, body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn step_up(
    State(context): State<Arc<AccessContext>>,
    who: Identity,
    Body(wish): Body<StepUp>,
) -> Result<Json<SteppedUp>, ApiError> {
    only_sessions(&who, "stepping up")?;
    let minutes = wish.minutes.unwrap_or(USUAL_MINUTES);
    if !(1..=MOST_MINUTES).contains(&minutes) {
        return Err(ApiError::invalid("/minutes", format!("1 to {MOST_MINUTES} minutes")));
    }
    let now = context.clock.now();
    let key = [Key::new(format!("step-up of {}", who.member_id))];
    if let Some(seconds) = context.throttle.wait(&key, now) {
        return Err(slow_down(seconds));
    }
    // Counted before the slow check, so that many tries at once do not slip through together.
    context.throttle.failed(&key, now);
    let shown = is_shown(&context, &who, &wish).await;
    if shown.is_err() {
        context.throttle.took_back(&key[0]);
    }
    let (asked, until) = (who.clone(), now + SignedDuration::from_mins(minutes.into()));
    if !shown? {
        let asked = asked.clone();
        context.db.run(move |store| store.audit(asked.entry("step-up", "service", "refused"), now)).await?;
        return Err(if wish.code.is_some_and(|code| !code.is_empty()) {
            let text = "wrong or used code; wait for the next one";
            ApiError::invalid("/code", text)
        } else {
            ApiError::invalid("/password", "this is not your password")
        });
    }
    context.throttle.succeeded(&key[0]);
    context
        .db
        .run(move |store| {
            store.set_stepped(asked.credential, Some(until))?;
            let outcome = format!("for {minutes} min");
            store.audit(asked.entry("step-up", "service", &outcome), now)
        })
        .await?;
    context.steps.watch(&context, who.credential, who.member_id, until);
    context.rights.tell(RightsChanged::Of(who.member_id));
    Ok(Json(SteppedUp { until }))
}

/// Ends stepping up.
#[utoipa::path(delete, path = "/api/v1/step-up", tag = "sessions", operation_id = "step_down", responses(
    (status = 204),
    (status = "4XX", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn step_down(
    State(context): State<Arc<AccessContext>>,
    who: Identity,
) -> Result<StatusCode, ApiError> {
    only_sessions(&who, "stepping up")?;
    let (asked, now) = (who.clone(), context.clock.now());
    context
        .db
        .run(move |store| {
            store.set_stepped(asked.credential, None)?;
            store.audit(asked.entry("step-up", "service", "ended"), now)
        })
        .await?;
    context.rights.tell(RightsChanged::Of(who.member_id));
    Ok(StatusCode::NO_CONTENT)
}

/// Views everything as a role, in this session, until that is ended. Never shows more than one's own rights.
#[utoipa::path(put, path = "/api/v1/view-as", tag = "sessions", operation_id = "view_as", request_body = ViewAs, responses(
    (status = 204),
    (status = "4XX", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn view_as(
    State(context): State<Arc<AccessContext>>,
    who: Identity,
    Body(wish): Body<ViewAs>,
) -> Result<StatusCode, ApiError> {
    only_sessions(&who, "viewing as a role")?;
    let roles = context.db.run(gubernum_store::Store::roles).await?;
    if !roles.iter().any(|role| role.name == wish.role) {
        return Err(ApiError::invalid("/role", "no such role"));
    }
    look(&context, who, Some(wish.role)).await
}

/// Ends viewing as a role.
#[utoipa::path(delete, path = "/api/v1/view-as", tag = "sessions", operation_id = "view_as_oneself", responses(
    (status = 204),
    (status = "4XX", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn view_as_oneself(
    State(context): State<Arc<AccessContext>>,
    who: Identity,
) -> Result<StatusCode, ApiError> {
    only_sessions(&who, "viewing as a role")?;
    look(&context, who, None).await
}

async fn look(context: &AccessContext, who: Identity, role: Option<String>) -> Result<StatusCode, ApiError> {
    let (member, now) = (who.member_id, context.clock.now());
    context
        .db
        .run(move |store| {
            store.set_view_as(who.credential, role.as_deref())?;
            let outcome = role.as_deref().unwrap_or("oneself");
            store.audit(who.entry("view-as", "service", outcome), now)
        })
        .await?;
    context.rights.tell(RightsChanged::Of(member));
    Ok(StatusCode::NO_CONTENT)
}
