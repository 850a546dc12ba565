//! Freezes: set by members who may deploy on all of a scope, lifted by their author or an admin.

use std::sync::Arc;

use axum::Json;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use gubernum_api::Problem;
use gubernum_api::team::NewFreeze;
use gubernum_core::freeze::{Freeze, LONGEST_REASON, MOST_HOURS};
use gubernum_core::rights::{Access, Held, Right, Rights};
use jiff::SignedDuration;

use crate::access::Identity;
use crate::fleet::View;
use crate::team::TeamContext;
use crate::web::authorize::refused;
use crate::web::extract::Body;
use crate::web::problem::ApiError;

/// Active freezes on what one sees.
#[utoipa::path(get, path = "/api/v1/freezes", tag = "team", operation_id = "list_freezes", responses(
    (status = 200, body = Vec<Freeze>),
    (status = "4XX", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn list(State(context): State<Arc<TeamContext>>, view: View) -> Json<Vec<Freeze>> {
    let (now, seen) = (context.clock.now(), view.snapshot());
    let all = context.freezes.all();
    let holding = all.iter().filter(|freeze| now < freeze.until);
    Json(holding.filter(|freeze| view.is_whole() || freeze.concerns(&seen)).cloned().collect())
}

/// Freezes part of the fleet: changes by others and by automation are refused for a while.
#[utoipa::path(post, path = "/api/v1/freezes", tag = "team", operation_id = "freeze", request_body = NewFreeze, responses(
    (status = 201, body = Freeze),
    (status = "4XX", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn freeze(
    State(context): State<Arc<TeamContext>>,
    who: Identity,
    view: View,
    Body(wish): Body<NewFreeze>,
) -> Result<(StatusCode, Json<Freeze>), ApiError> {
    let reason = wish.reason.trim().to_owned();
    if reason.is_empty() || reason.chars().count() > LONGEST_REASON {
        let text = format!(
            "enter a reason of 1 to {LONGEST_REASON} characters; it is shown to everyone whose change is refused"
        );
        return Err(ApiError::invalid("/reason", text));
    }
    if !(1..=MOST_HOURS).contains(&wish.hours) {
        return Err(ApiError::invalid("/hours", format!("a freeze lasts 1 to {MOST_HOURS} hours")));
    }
    if let gubernum_core::rights::Scope::Host(host) = &wish.scope {
        view.know_host(host).map_err(|e| ApiError::from(e).at("/scope"))?;
    }
    let rights: Rights = [Right::See, Right::Deploy].into_iter().collect();
    let needed = Access::of(vec![Held { scope: wish.scope.clone(), rights }]);
    if !needed.is_within(&who.access) {
        return Err(refused(Right::Deploy, &wish.scope.to_string()).at("/scope"));
    }
    let now = context.clock.now();
    let until = now + SignedDuration::from_hours(i64::from(wish.hours));
    let freeze = Freeze { id: 0, scope: wish.scope, reason, member: who.member.clone(), created: now, until };
    let kept = freeze.clone();
    let (id, all) = context
        .db
        .run(move |store| {
            let id = store.add_freeze(&kept.scope, &kept.reason, &kept.member, now, until)?;
            let outcome = format!("until {until}: {}", kept.reason);
            store.audit(who.entry("freeze", &kept.scope.to_string(), &outcome), now)?;
            Ok((id, store.freezes(now)?))
        })
        .await
        .map_err(|e| ApiError::from(e).at("/scope"))?;
    context.freezes.set(all);
    context.team.tell();
    Ok((StatusCode::CREATED, Json(Freeze { id, ..freeze })))
}

/// Lifts a freeze before its end.
#[utoipa::path(delete, path = "/api/v1/freezes/{id}", tag = "team", operation_id = "lift_freeze", params(("id" = u64, Path)), responses(
    (status = 204),
    (status = "4XX", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn lift(
    State(context): State<Arc<TeamContext>>,
    who: Identity,
    view: View,
    Path(id): Path<String>,
) -> Result<StatusCode, ApiError> {
    let missing = || ApiError::not_found("no freeze has this number; it may have ended");
    let id: u64 = id.parse().map_err(|_| missing())?;
    let seen = view.snapshot();
    let all = context.freezes.all();
    let freeze = all.iter().find(|freeze| freeze.id == id);
    let freeze =
        freeze.filter(|freeze| view.is_whole() || freeze.concerns(&seen)).ok_or_else(missing)?.clone();
    if freeze.member != who.member && who.access.on_fleet() != Rights::all() {
        let text =
            format!("{} set this freeze; only {} or an admin can lift it", freeze.member, freeze.member);
        return Err(ApiError::new("not-allowed", "Not allowed", 403, text));
    }
    let now = context.clock.now();
    let (ended, all) = context
        .db
        .run(move |store| {
            let ended = store.end_freeze(id)?;
            if ended {
                let outcome = format!("was set by {}: {}", freeze.member, freeze.reason);
                store.audit(who.entry("lift-freeze", &freeze.scope.to_string(), &outcome), now)?;
            }
            Ok((ended, store.freezes(now)?))
        })
        .await?;
    context.freezes.set(all);
    context.team.tell();
    if ended { Ok(StatusCode::NO_CONTENT) } else { Err(missing()) }
}
