//! Snoozes: reasons hidden from the attention list for all members, by members who may change the object.

use std::sync::Arc;

use axum::Json;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use gubernum_api::Problem;
use gubernum_api::team::{NewSnooze, NotedObject, Snooze};
use gubernum_core::rights::Right;
use gubernum_core::snooze::{LONGEST_REASON, MOST_HOURS};
use jiff::SignedDuration;

use crate::access::Identity;
use crate::fleet::View;
use crate::team::{Team, TeamContext};
use crate::web::authorize::refused;
use crate::web::extract::Body;
use crate::web::problem::ApiError;

/// The longest code of a reason.
const LONGEST_CODE: usize = 60;

/// Active snoozes on what one sees.
#[utoipa::path(get, path = "/api/v1/snoozes", tag = "team", operation_id = "list_snoozes", responses(
    (status = 200, body = Vec<Snooze>),
    (status = "4XX", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn list(State(context): State<Arc<TeamContext>>, view: View) -> Json<Vec<Snooze>> {
    Json(context.team.snoozed(&view))
}

/// Snoozes an attention item for a while, for all members.
#[utoipa::path(post, path = "/api/v1/snoozes", tag = "team", operation_id = "snooze", request_body = NewSnooze, responses(
    (status = 201, body = Snooze),
    (status = "4XX", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn snooze(
    State(context): State<Arc<TeamContext>>,
    who: Identity,
    view: View,
    Body(wish): Body<NewSnooze>,
) -> Result<(StatusCode, Json<Snooze>), ApiError> {
    let reason = wish.reason.trim().to_owned();
    if reason.is_empty() || reason.chars().count() > LONGEST_REASON {
        let text = format!("enter a reason of 1 to {LONGEST_REASON} characters; it is shown to the team");
        return Err(ApiError::invalid("/reason", text));
    }
    if !(1..=MOST_HOURS).contains(&wish.hours) {
        return Err(ApiError::invalid("/hours", format!("a snooze lasts 1 to {MOST_HOURS} hours")));
    }
    if wish.code.is_empty() || wish.code.len() > LONGEST_CODE {
        return Err(ApiError::invalid("/code", "name the reason by its code, as the attention list has it"));
    }
    may(&view, &wish.on)?;
    let now = context.clock.now();
    let until = now + SignedDuration::from_hours(i64::from(wish.hours));
    let snooze = Snooze {
        id: 0,
        on: wish.on,
        code: wish.code,
        reason,
        member: who.member.clone(),
        created: now,
        until,
    };
    let kept = snooze.clone();
    let id = context
        .db
        .run(move |store| {
            let id = store.add_snooze(&kept.on, &kept.code, &kept.reason, &kept.member, (now, until))?;
            let outcome = format!("{} until {until}: {}", kept.code, kept.reason);
            store.audit(who.entry("snooze", &kept.on.to_string(), &outcome), now)?;
            Ok(id)
        })
        .await?;
    context.team.read().await?;
    Ok((StatusCode::CREATED, Json(Snooze { id, ..snooze })))
}

/// Ends a snooze before its time.
#[utoipa::path(delete, path = "/api/v1/snoozes/{id}", tag = "team", operation_id = "lift_snooze", params(("id" = u64, Path)), responses(
    (status = 204),
    (status = "4XX", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn lift(
    State(context): State<Arc<TeamContext>>,
    who: Identity,
    view: View,
    Path(id): Path<String>,
) -> Result<StatusCode, ApiError> {
    let missing = || ApiError::not_found("no snooze has this number; it may have ended");
    let id: u64 = id.parse().map_err(|_| missing())?;
    let snooze = context.team.snoozed(&view).into_iter().find(|s| s.id == id).ok_or_else(missing)?;
    may(&view, &snooze.on)?;
    let now = context.clock.now();
    let ended = context
        .db
        .run(move |store| {
            let ended = store.end_snooze(id)?;
            if ended {
                let outcome = format!("{} was snoozed by {}: {}", snooze.code, snooze.member, snooze.reason);
                store.audit(who.entry("lift-snooze", &snooze.on.to_string(), &outcome), now)?;
            }
            Ok(ended)
        })
        .await?;
    context.team.read().await?;
    if ended { Ok(StatusCode::NO_CONTENT) } else { Err(missing()) }
}

/// Whoever may operate a thing sets its reasons aside; the service's own are for those who look after all of the fleet.
fn may(view: &View, on: &NotedObject) -> Result<(), ApiError> {
    if !Team::sees(view, on) {
        return Err(ApiError::not_found("no such object").at("/on"));
    }
    if view.rights_on_object(on).has(Right::StartStop) {
        return Ok(());
    }
    Err(refused(Right::StartStop, &on.to_string()).at("/on"))
}
