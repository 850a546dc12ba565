//! Changes that wait for a second member's approval.

use std::sync::Arc;

use axum::Json;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use gubernum_api::Problem;
use gubernum_api::guard::{Approval, DecideApproval};
use gubernum_core::guard::GuardedChange;
use gubernum_store::approvals::ApprovalRecord;
use gubernum_store::credentials::Kind;
use jiff::SignedDuration;

use crate::access::{AccessContext, Identity};
use crate::web::authorize::refused;
use crate::web::extract::Body;
use crate::web::problem::ApiError;

/// How long those that were decided are shown.
const SHOWN: SignedDuration = SignedDuration::from_hours(7 * 24);

fn danger(record: &ApprovalRecord) -> Option<GuardedChange> {
    record.danger.parse().ok()
}

/// Whether somebody may see what others ask for: whoever may do it too, everywhere.
fn may_too(who: &Identity, record: &ApprovalRecord) -> bool {
    danger(record).is_some_and(|danger| who.access.on_fleet().has(danger.right()))
}

/// Whether somebody may decide: a second member who may do it too and is there.
pub(super) fn may_decide(who: &Identity, record: &ApprovalRecord) -> bool {
    let is_anothers = !record.member.eq_ignore_ascii_case(&who.member);
    who.kind == Kind::Session && is_anothers && record.decided.is_none() && may_too(who, record)
}

fn shown(record: ApprovalRecord, who: &Identity) -> Option<Approval> {
    let yours_to_decide = may_decide(who, &record);
    Some(Approval {
        danger: danger(&record)?,
        id: record.id,
        member: record.member,
        object: record.object,
        detail: record.detail,
        created: record.created,
        expires: record.expires,
        decided: record.decided,
        decided_by: Some(record.decided_by).filter(|member| !member.is_empty()),
        approved: record.approved,
        used: record.used,
        yours_to_decide,
    })
}

fn missing() -> ApiError {
    ApiError::not_found("this approval is no longer open: it was decided, withdrawn, or expired")
}

/// Changes that wait for a second member's approval, and those decided in the last week: one's own, and those that
/// one may decide.
#[utoipa::path(get, path = "/api/v1/approvals", tag = "members", operation_id = "list_approvals", responses(
    (status = 200, body = Vec<Approval>),
    (status = "4XX", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn list(
    State(context): State<Arc<AccessContext>>,
    who: Identity,
) -> Result<Json<Vec<Approval>>, ApiError> {
    let now = context.clock.now();
    let all = context.db.run(move |store| store.approvals(now, now - SHOWN)).await?;
    let is_shown = |r: &ApprovalRecord| r.member.eq_ignore_ascii_case(&who.member) || may_too(&who, r);
    Ok(Json(all.into_iter().filter(is_shown).filter_map(|record| shown(record, &who)).collect()))
}

/// Approves or refuses a change that another member asked for.
#[utoipa::path(post, path = "/api/v1/approvals/{id}", tag = "members", operation_id = "decide_approval",
    params(("id" = u64, Path)), request_body = DecideApproval, responses(
    (status = 204),
    (status = "4XX", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn decide(
    State(context): State<Arc<AccessContext>>,
    who: Identity,
    Path(id): Path<String>,
    Body(wish): Body<DecideApproval>,
) -> Result<StatusCode, ApiError> {
    let (id, now) = (id.parse::<u64>().map_err(|_| missing())?, context.clock.now());
    let record = context.db.run(move |store| store.waiting_approval(id, now)).await?;
    let is_own = |r: &ApprovalRecord| r.member.eq_ignore_ascii_case(&who.member);
    let record = record.filter(|r| is_own(r) || may_too(&who, r)).ok_or_else(missing)?;
    if is_own(&record) {
        let text = "you requested this yourself; a second member has to decide";
        return Err(ApiError::new("not-allowed", "Not allowed", 403, text));
    }
    if who.kind != Kind::Session {
        let text = "approvals are decided by signed-in members; a token cannot";
        return Err(ApiError::new("not-a-session", "Not a session", 409, text));
    }
    if !may_decide(&who, &record) {
        let right = danger(&record).map(GuardedChange::right).ok_or_else(missing)?;
        return Err(refused(right, "the whole fleet"));
    }
    let decided = context.db.run(move |store| {
        let decided = store.decide_approval(id, &who.member, wish.approve, now)?;
        if decided {
            let word = if wish.approve { "approved" } else { "refused" };
            let outcome = format!("{word} approval {id} of {}", record.member);
            store.audit(who.entry("decide-approval", &record.object, &outcome), now)?;
        }
        Ok(decided)
    });
    if decided.await? { Ok(StatusCode::NO_CONTENT) } else { Err(missing()) }
}

/// Withdraws one's own request for approval.
#[utoipa::path(delete, path = "/api/v1/approvals/{id}", tag = "members", operation_id = "withdraw_approval",
    params(("id" = u64, Path)), responses(
    (status = 204),
    (status = "4XX", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn withdraw(
    State(context): State<Arc<AccessContext>>,
    who: Identity,
    Path(id): Path<String>,
) -> Result<StatusCode, ApiError> {
    let (id, now) = (id.parse::<u64>().map_err(|_| missing())?, context.clock.now());
    let withdrawn = context.db.run(move |store| {
        let withdrawn = store.withdraw_approval(id, &who.member)?;
        if withdrawn {
            let outcome = format!("withdrew approval {id}");
            store.audit(who.entry("withdraw-approval", "service", &outcome), now)?;
        }
        Ok(withdrawn)
    });
    if withdrawn.await? { Ok(StatusCode::NO_CONTENT) } else { Err(missing()) }
}
