//! Members for those who manage them. Nobody grants more than they have, and nobody changes a member who has more
//! rights.

use std::sync::Arc;

use axum::Json;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use gubernum_api::Problem;
use gubernum_api::members::{Member, MemberDetail, OwnRights, SetMember};
use gubernum_core::plan::Kind;
use gubernum_core::rights::table::of_kind;
use gubernum_core::rights::{Access, Grant, Granted, Right, Role, effective};
use gubernum_store::Store;
use gubernum_store::members::{MOST_GRANTS, MemberChange, MemberRecord};

use crate::access::http::approvals::may_decide;
use crate::access::{AccessContext, CallerState, Identity, RightsChanged, demands_second_factor, held};
use crate::web::extract::Body;
use crate::web::problem::ApiError;

/// A record as it is shown.
pub(super) fn shown(record: MemberRecord) -> Member {
    Member {
        id: record.id.unsigned_abs(),
        name: record.name,
        display_name: record.display_name,
        created: record.created,
        deactivated: record.deactivated,
        last_seen: record.last_seen,
        second_factor: record.second_factor,
        grants: record.grants,
        directory: record.directory,
        directory_grants: record.directory_grants,
    }
}

/// Grants in words, for the audit log.
pub(super) fn in_words(grants: &[Grant]) -> String {
    if grants.is_empty() {
        return "nothing".to_owned();
    }
    grants.iter().map(|g| format!("{} on {}", g.role, g.scope)).collect::<Vec<_>>().join(", ")
}

/// Grants as their holder sees them, each with where it comes from.
fn granted(member: &MemberRecord) -> Vec<Granted> {
    let own = |g: &Grant| Granted { role: g.role.clone(), scope: g.scope.clone(), from: "member".to_owned() };
    member.grants.iter().map(own).chain(member.directory_grants.iter().cloned()).collect()
}

fn missing() -> ApiError {
    ApiError::not_found("no member has this number")
}

fn number(id: &str) -> Result<i64, ApiError> {
    id.parse().map_err(|_| missing())
}

/// Refuses grants of roles that there are not, and of more than the giver has.
pub(super) fn check_grants(grants: &[Grant], roles: &[Role], giver: &Access) -> Result<(), ApiError> {
    if grants.len() > MOST_GRANTS {
        return Err(ApiError::invalid("/grants", format!("a member has at most {MOST_GRANTS} grants")));
    }
    for (n, grant) in grants.iter().enumerate() {
        if !roles.iter().any(|role| role.name == grant.role) {
            let names: Vec<&str> = roles.iter().map(|role| role.name.as_str()).collect();
            let text = format!(
                "unknown role '{}'; use one of: {}",
                gubernum_core::text::shown(&grant.role, 60),
                names.join(", ")
            );
            return Err(ApiError::invalid(format!("/grants/{n}/role"), text));
        }
        if !Access::of(held(std::slice::from_ref(grant), roles)).is_within(giver) {
            let text = format!(
                "'{}' on {} is more than you have; you can only grant rights that you have",
                grant.role, grant.scope
            );
            return Err(ApiError::new("not-allowed", "Not allowed", 403, text).at(format!("/grants/{n}")));
        }
    }
    Ok(())
}

/// Refuses to change whoever may more than the one who asks.
pub(super) fn outranks(member: &MemberRecord, roles: &[Role], who: &Identity) -> Result<(), ApiError> {
    if Access::of(held(&member.all_grants(), roles)).is_within(&who.access) {
        return Ok(());
    }
    let text = format!(
        "{} has more rights than you; only a member with at least those can change this",
        member.name
    );
    Err(ApiError::new("not-allowed", "Not allowed", 403, text))
}

/// A member that there is, with the roles that there are.
pub(super) async fn found(context: &AccessContext, id: i64) -> Result<(MemberRecord, Vec<Role>), ApiError> {
    let found = context.db.run(move |store| Ok((store.member_record(id)?, store.roles()?))).await?;
    let (member, roles) = found;
    Ok((member.ok_or_else(missing)?, roles))
}

/// The answer to a change that was not made.
fn refused(change: MemberChange) -> Result<(), ApiError> {
    match change {
        MemberChange::Done => Ok(()),
        MemberChange::Missing => Err(missing()),
        MemberChange::LastAdmin => {
            let text = "this is the last admin of the fleet; grant admin to another member first";
            Err(ApiError::new("last-admin", "The last admin", 409, text))
        }
    }
}

/// All members by name.
#[utoipa::path(get, path = "/api/v1/members", tag = "members", operation_id = "list_members", responses(
    (status = 200, body = Vec<Member>),
    (status = "4XX", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn list(
    State(context): State<Arc<AccessContext>>,
    _who: Identity,
) -> Result<Json<Vec<Member>>, ApiError> {
    let all = context.db.run(Store::members).await?;
    Ok(Json(all.into_iter().map(shown).collect()))
}

/// One member with effective rights and sessions.
#[utoipa::path(get, path = "/api/v1/members/{id}", tag = "members", operation_id = "show_member",
    params(("id" = u64, Path)), responses(
    (status = 200, body = MemberDetail),
    (status = "4XX", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn show(
    State(context): State<Arc<AccessContext>>,
    who: Identity,
    Path(id): Path<String>,
) -> Result<Json<MemberDetail>, ApiError> {
    let id = number(&id)?;
    let (member, roles) = found(&context, id).await?;
    let now = context.clock.now();
    let open =
        context.db.run(move |store| Ok((store.sessions(id, who.credential, now)?, store.tokens(id, now)?)));
    let (sessions, tokens) = open.await?;
    let rights = effective(&granted(&member), &roles);
    Ok(Json(MemberDetail { member: shown(member), rights, sessions, tokens }))
}

/// Changes a member's grants, or deactivates it. Takes effect at once, also on open connections.
#[utoipa::path(patch, path = "/api/v1/members/{id}", tag = "members", operation_id = "set_member",
    params(("id" = u64, Path)), request_body = SetMember, responses(
    (status = 200, body = Member),
    (status = "4XX", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn set(
    State(context): State<Arc<AccessContext>>,
    who: Identity,
    Path(id): Path<String>,
    Body(wish): Body<SetMember>,
) -> Result<Json<Member>, ApiError> {
    let id = number(&id)?;
    let (member, roles) = found(&context, id).await?;
    outranks(&member, &roles, &who)?;
    let now = context.clock.now();
    if let Some(grants) = wish.grants {
        check_grants(&grants, &roles, &who.access)?;
        let before = Access::of(held(&member.grants, &roles));
        let grows = before.is_within(&Access::of(held(&grants, &roles)));
        let (who, name) = (who.clone(), member.name.clone());
        let outcome = format!("{} → {}", in_words(&member.grants), in_words(&grants));
        let changed = context.db.run(move |store| {
            let changed = store.set_grants(id, &grants)?;
            if changed == MemberChange::Done {
                store.audit(who.entry("set-grants", &name, &outcome), now)?;
            }
            Ok((changed, store.credentials_of(id)?))
        });
        let (changed, credentials) = changed.await?;
        refused(changed)?;
        context.rights.tell(RightsChanged::Of(id));
        if !grows {
            // What is open may be more than is allowed now: it ends, and is opened again where it is.
            credentials.into_iter().for_each(|credential| context.leases.end(credential));
        }
    }
    if let Some(deactivated) = wish.deactivated.filter(|wanted| *wanted != member.deactivated.is_some()) {
        let (who, name) = (who.clone(), member.name.clone());
        let changed = context.db.run(move |store| {
            let credentials = store.credentials_of(id)?;
            let changed = store.set_deactivated(id, deactivated.then_some(now))?;
            if changed == MemberChange::Done {
                let action = if deactivated { "deactivate-member" } else { "reactivate-member" };
                store.audit(who.entry(action, &name, "succeeded"), now)?;
            }
            Ok((changed, credentials))
        });
        let (changed, credentials) = changed.await?;
        refused(changed)?;
        if deactivated {
            credentials.into_iter().for_each(|credential| context.leases.end(credential));
        }
    }
    match wish.second_factor {
        Some(true) => {
            let text = "only members themselves can set up a second factor; 'false' removes it";
            return Err(ApiError::invalid("/second_factor", text));
        }
        Some(false) => {
            let name = member.name.clone();
            let taken = context.db.run(move |store| {
                let taken = store.remove_second_factor(id)?;
                if taken {
                    store.audit(who.entry("remove-second-factor", &name, "succeeded"), now)?;
                }
                Ok(())
            });
            taken.await?;
            context.rights.tell(RightsChanged::Of(id));
        }
        None => {}
    }
    Ok(Json(shown(found(&context, id).await?.0)))
}

/// Removes a member, its sessions and tokens. Its audit entries stay.
#[utoipa::path(delete, path = "/api/v1/members/{id}", tag = "members", operation_id = "remove_member",
    params(("id" = u64, Path)), responses(
    (status = 204),
    (status = "4XX", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn remove(
    State(context): State<Arc<AccessContext>>,
    who: Identity,
    Path(id): Path<String>,
) -> Result<StatusCode, ApiError> {
    let id = number(&id)?;
    let (member, roles) = found(&context, id).await?;
    outranks(&member, &roles, &who)?;
    let now = context.clock.now();
    let removed = context.db.run(move |store| {
        let credentials = store.credentials_of(id)?;
        let removed = store.remove_member(id)?;
        if removed == MemberChange::Done {
            store.audit(who.entry("remove-member", &member.name, "succeeded"), now)?;
        }
        Ok((removed, credentials))
    });
    let (removed, credentials) = removed.await?;
    refused(removed)?;
    credentials.into_iter().for_each(|credential| context.leases.end(credential));
    Ok(StatusCode::NO_CONTENT)
}

/// Ends all sessions of a member.
#[utoipa::path(delete, path = "/api/v1/members/{id}/sessions", tag = "members", operation_id = "end_member_sessions",
    params(("id" = u64, Path)), responses(
    (status = 204),
    (status = "4XX", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn end_sessions(
    State(context): State<Arc<AccessContext>>,
    who: Identity,
    Path(id): Path<String>,
) -> Result<StatusCode, ApiError> {
    let id = number(&id)?;
    let (member, roles) = found(&context, id).await?;
    outranks(&member, &roles, &who)?;
    let now = context.clock.now();
    let ended = context.db.run(move |store| {
        let ended = store.end_sessions(id, None)?;
        let outcome = format!("{} ended", ended.len());
        store.audit(who.entry("end-sessions", &member.name, &outcome), now)?;
        Ok(ended)
    });
    ended.await?.into_iter().for_each(|credential| context.leases.end(credential));
    Ok(StatusCode::NO_CONTENT)
}

/// Whether a kind of change may be allowed on something.
fn may_somewhere(kind: Kind, access: &Access) -> bool {
    of_kind(kind).iter().all(|right| access.somewhere(*right))
}

/// One's effective rights, and which grants give them.
#[utoipa::path(get, path = "/api/v1/rights", tag = "members", operation_id = "own_rights", responses(
    (status = 200, body = OwnRights),
    (status = "4XX", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn own_rights(
    State(context): State<Arc<AccessContext>>,
    who: Identity,
) -> Result<Json<OwnRights>, ApiError> {
    let (member, roles) = found(&context, who.member_id).await?;
    let now = context.clock.now();
    let (preferences, waiting) =
        context.db.run(move |store| Ok((store.preferences()?, store.approvals(now, now)?))).await?;
    let for_all = preferences.second_factor_for_all;
    let to_approve = waiting.iter().filter(|record| may_decide(&who, record)).count();
    let demanded = for_all || demands_second_factor(&member.all_grants(), &roles);
    let needs_second_factor = !member.second_factor && demanded;
    Ok(Json(OwnRights {
        second_factor: member.second_factor,
        needs_second_factor,
        to_approve: u32::try_from(to_approve).unwrap_or(u32::MAX),
        stepped_until: match who.standing {
            CallerState::SteppedUp(until) => Some(until),
            _ => None,
        },
        works_as: member.works_as.clone(),
        view_as: who.view_as.clone(),
        rights: effective(&granted(&member), &roles),
        member: member.name,
        display_name: member.display_name,
        on_fleet: who.access.on_fleet().iter().collect(),
        changes: Kind::ALL.iter().copied().filter(|kind| may_somewhere(*kind, &who.access)).collect(),
        somewhere: Right::ALL.iter().copied().filter(|right| who.access.somewhere(*right)).collect(),
    }))
}
