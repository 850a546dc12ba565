//! Invitations: links to become a member, or to choose a new password.

use std::sync::Arc;

use axum::Json;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use axum::response::Response;
use gubernum_api::Problem;
use gubernum_api::members::{
    AcceptInvitation, CheckInvitation, CreatedInvitation, Invitation, NewInvitation, Welcome,
};
use gubernum_api::views::Me;
use gubernum_store::invitations;
use jiff::SignedDuration;

use crate::access::http::credentials::{LONGEST_SECRET, Origin, slow_down};
use crate::access::http::members::{check_grants, found, in_words, outranks};
use crate::access::http::sessions::{check_name, code_needed, crowded, no_hash, open};
use crate::access::passwords::{self, SignInLane};
use crate::access::throttle::{Key, network_of};
use crate::access::{AccessContext, Identity, fresh_secret, hash_secret};
use crate::web::extract::Body;
use crate::web::problem::ApiError;

/// Hours for which a link is good: when nothing is said, and at most.
const USUAL_HOURS: u32 = 72;
pub(crate) const MOST_HOURS: u32 = 24 * 30;

fn shown(link: invitations::Invitation) -> Invitation {
    Invitation {
        id: link.id.unsigned_abs(),
        name: link.name,
        grants: link.grants,
        is_reset: link.member.is_some(),
        giver: link.giver,
        created: link.created,
        expires: link.expires,
    }
}

/// What a new link is for.
struct NewLink {
    name: String,
    grants: Vec<gubernum_core::rights::Grant>,
    member: Option<i64>,
    hours: u32,
}

async fn make(context: &AccessContext, who: Identity, wish: NewLink) -> Result<CreatedInvitation, ApiError> {
    let secret =
        fresh_secret("gbi_").map_err(|e| ApiError::new("internal", "Internal error", 500, e.to_string()))?;
    let now = context.clock.now();
    let expires = now + SignedDuration::from_hours(i64::from(wish.hours));
    let NewLink { name, grants, member, .. } = wish;
    let hash = hash_secret(&secret);
    let (kept_name, kept, giver) = (name.clone(), grants.clone(), who.member.clone());
    let id = context.db.run(move |store| {
        let new = invitations::NewInvitation {
            hash: &hash,
            name: &kept_name,
            grants: &kept,
            member,
            giver: &who.member,
            expires,
        };
        let id = store.add_invitation(&new, now)?;
        let (action, outcome) = match member {
            Some(_) => ("reset-member", "a link for a new password".to_owned()),
            None => ("invite-member", in_words(&kept)),
        };
        store.audit(who.entry(action, &kept_name, &outcome), now)?;
        Ok(id)
    });
    let id = id.await.map_err(|e| ApiError::from(e).at("/name"))?.unsigned_abs();
    let path = format!("/welcome#{secret}");
    let is_reset = member.is_some();
    let invitation = Invitation { id, name, grants, is_reset, giver, created: now, expires };
    Ok(CreatedInvitation { invitation, secret, path })
}

/// Open invitations, without their secrets.
#[utoipa::path(get, path = "/api/v1/invitations", tag = "members", operation_id = "list_invitations", responses(
    (status = 200, body = Vec<Invitation>),
    (status = "4XX", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn list(
    State(context): State<Arc<AccessContext>>,
    _who: Identity,
) -> Result<Json<Vec<Invitation>>, ApiError> {
    let now = context.clock.now();
    let all = context.db.run(move |store| store.invitations(now)).await?;
    Ok(Json(all.into_iter().map(shown).collect()))
}

/// Invites a member with a one-time link; its secret is only shown now.
#[utoipa::path(post, path = "/api/v1/invitations", tag = "members", operation_id = "invite", request_body = NewInvitation, responses(
    (status = 201, body = CreatedInvitation),
    (status = "4XX", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn invite(
    State(context): State<Arc<AccessContext>>,
    who: Identity,
    Body(wish): Body<NewInvitation>,
) -> Result<(StatusCode, Json<CreatedInvitation>), ApiError> {
    let name = check_name(&wish.name).map_err(|e| e.at("/name"))?;
    let hours = wish.hours.unwrap_or(USUAL_HOURS);
    if !(1..=MOST_HOURS).contains(&hours) {
        return Err(ApiError::invalid(
            "/hours",
            format!("an invitation is valid for 1 to {MOST_HOURS} hours"),
        ));
    }
    let roles = context.db.run(gubernum_store::Store::roles).await?;
    check_grants(&wish.grants, &roles, &who.access)?;
    let made = make(&context, who, NewLink { name, grants: wish.grants, member: None, hours }).await?;
    Ok((StatusCode::CREATED, Json(made)))
}

/// Creates a link to choose a new password. The old one works until the link is used.
#[utoipa::path(post, path = "/api/v1/members/{id}/reset", tag = "members", operation_id = "reset_member",
    params(("id" = u64, Path)), responses(
    (status = 201, body = CreatedInvitation),
    (status = "4XX", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn reset(
    State(context): State<Arc<AccessContext>>,
    who: Identity,
    Path(id): Path<String>,
) -> Result<(StatusCode, Json<CreatedInvitation>), ApiError> {
    let id = id.parse().map_err(|_| ApiError::not_found("no member has this number"))?;
    let (member, roles) = found(&context, id).await?;
    outranks(&member, &roles, &who)?;
    if member.deactivated.is_some() {
        let text = format!("{} may not sign in; reactivate the member first", member.name);
        return Err(ApiError::new("deactivated", "The member is deactivated", 409, text));
    }
    if let Some(kind) = member.directory {
        let text = format!(
            "{} signs in through the directory {}; the password is changed there",
            member.name,
            kind.word()
        );
        return Err(ApiError::new("in-directory", "Member of a directory", 409, text));
    }
    let wish = NewLink { name: member.name, grants: Vec::new(), member: Some(id), hours: USUAL_HOURS };
    Ok((StatusCode::CREATED, Json(make(&context, who, wish).await?)))
}

/// Revokes an invitation.
#[utoipa::path(delete, path = "/api/v1/invitations/{id}", tag = "members", operation_id = "withdraw_invitation",
    params(("id" = u64, Path)), responses(
    (status = 204),
    (status = "4XX", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn withdraw(
    State(context): State<Arc<AccessContext>>,
    who: Identity,
    Path(id): Path<String>,
) -> Result<StatusCode, ApiError> {
    let missing = || ApiError::not_found("no invitation has this number");
    let number: i64 = id.parse().map_err(|_| missing())?;
    let now = context.clock.now();
    let done = context.db.run(move |store| {
        let done = store.withdraw_invitation(number)?;
        if done {
            store
                .audit(who.entry("withdraw-invitation", &format!("invitation {number}"), "succeeded"), now)?;
        }
        Ok(done)
    });
    if done.await? { Ok(StatusCode::NO_CONTENT) } else { Err(missing()) }
}

fn not_good() -> ApiError {
    let text = "this link is not valid: it was used, expired or revoked; ask for a new one";
    ApiError::new("invitation-refused", "Invitation not valid", 403, text)
}

/// The link of a secret. Wrong ones are counted as wrong passwords are, so that nobody tries them through.
async fn good(
    context: &AccessContext,
    secret: &str,
    address: &str,
) -> Result<invitations::Invitation, ApiError> {
    let (now, keys) = (context.clock.now(), [Key::new(format!("invitation from {}", network_of(address)))]);
    if let Some(seconds) = context.throttle.wait(&keys, now) {
        return Err(slow_down(seconds));
    }
    let hash = hash_secret(secret.get(..LONGEST_SECRET).unwrap_or(secret));
    let found = context.db.run(move |store| store.invitation(&hash, now)).await?;
    found.ok_or_else(|| {
        context.throttle.failed(&keys, now);
        not_good()
    })
}

/// Whom an invitation is for; the link is enough to ask.
#[utoipa::path(post, path = "/api/v1/invitations/show", tag = "members", operation_id = "show_invitation", security(()),
    request_body = CheckInvitation, responses(
    (status = 200, body = Welcome),
    (status = "4XX", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn show(
    State(context): State<Arc<AccessContext>>,
    origin: Origin,
    Body(wish): Body<CheckInvitation>,
) -> Result<Json<Welcome>, ApiError> {
    let link = good(&context, &wish.secret, &origin.0).await?;
    Ok(Json(Welcome {
        name: link.name,
        is_reset: link.member.is_some(),
        giver: link.giver,
        expires: link.expires,
    }))
}

/// Accepts an invitation: creates the member, or sets the new password, and signs in.
#[utoipa::path(post, path = "/api/v1/invitations/accept", tag = "members", operation_id = "accept_invitation", security(()),
    request_body = AcceptInvitation, responses(
    (status = 201, body = Me),
    (status = "4XX", body = Problem, content_type = "application/problem+json"),
    (status = 503, body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn accept(
    State(context): State<Arc<AccessContext>>,
    origin: Origin,
    Body(wish): Body<AcceptInvitation>,
) -> Result<Response, ApiError> {
    let link = good(&context, &wish.secret, &origin.0).await?;
    passwords::check_strength(&wish.password, &link.name).map_err(|e| ApiError::invalid("/password", e))?;
    let hashed =
        passwords::hash(wish.password, SignInLane::Known).await.map_err(crowded)?.ok_or_else(no_hash)?;
    let (hash, now) = (hash_secret(&wish.secret), context.clock.now());
    let address = origin.0.clone();
    let accepted = context.db.run(move |store| {
        let accepted = store.accept_invitation(&hash, &hashed, now)?;
        if let Some((name, _)) = &accepted {
            let entry = gubernum_store::audit::NewEntry {
                member: name,
                address: &address,
                action: if link.member.is_some() { "choose-password" } else { "accept-invitation" },
                object: "service",
                outcome: "succeeded",
                via: "",
            };
            store.audit(entry, now)?;
        }
        Ok(accepted)
    });
    let (name, ended) = accepted.await?.ok_or_else(not_good)?;
    ended.into_iter().for_each(|credential| context.leases.end(credential));
    let of = name.clone();
    let has_factor = context.db.run(move |store| match store.member(&of)? {
        Some(member) => store.second_factor(member.id),
        None => Ok(None),
    });
    if has_factor.await?.is_some() {
        // The password is chosen; a link is no second factor.
        return Err(code_needed());
    }
    open(&context, &name, &origin.0, StatusCode::CREATED, now, None).await
}
