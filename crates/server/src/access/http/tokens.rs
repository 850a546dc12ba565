//! The caller's own API tokens.

use std::net::IpAddr;
use std::sync::Arc;

use axum::Json;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use gubernum_api::Problem;
use gubernum_api::requests::NewToken;
use gubernum_api::views::{CreatedToken, Token};
use gubernum_core::rights::{Access, Bound, Held, Right};
use gubernum_store::credentials::{Kind, NewCredential};
use ipnet::IpNet;
use jiff::SignedDuration;

use crate::access::AccessContext;
use crate::access::Identity;
use crate::access::held;
use crate::access::http::members;
use crate::access::secrets;
use crate::web::extract::Body;
use crate::web::problem::ApiError;

pub(crate) const LONGEST_NAME: usize = 100;
pub(crate) const LONGEST_LIFE_DAYS: u32 = 3660;

/// One's own tokens, without their secrets.
#[utoipa::path(get, path = "/api/v1/tokens", tag = "tokens", responses(
    (status = 200, body = Vec<Token>),
    (status = "4XX", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn list(
    State(context): State<Arc<AccessContext>>,
    who: Identity,
) -> Result<Json<Vec<Token>>, ApiError> {
    let now = context.clock.now();
    Ok(Json(context.db.run(move |store| store.tokens(who.member_id, now)).await?))
}

/// Creates a token; its secret is only returned now.
#[utoipa::path(post, path = "/api/v1/tokens", tag = "tokens", request_body = NewToken, responses(
    (status = 201, body = CreatedToken),
    (status = "4XX", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn make(
    State(context): State<Arc<AccessContext>>,
    who: Identity,
    Body(wish): Body<NewToken>,
) -> Result<(StatusCode, Json<CreatedToken>), ApiError> {
    let name = wish.name.trim().to_owned();
    if name.is_empty() || name.chars().count() > LONGEST_NAME {
        return Err(ApiError::invalid(
            "/name",
            format!("say what the token is for, in 1 to {LONGEST_NAME} characters"),
        ));
    }
    let now = context.clock.now();
    let expires = match wish.expires_in_days {
        None => None,
        Some(days) if (1..=LONGEST_LIFE_DAYS).contains(&days) => {
            Some(now + SignedDuration::from_hours(24 * i64::from(days)))
        }
        Some(_) => {
            return Err(ApiError::invalid(
                "/expires_in_days",
                format!("a token lasts 1 to {LONGEST_LIFE_DAYS} days"),
            ));
        }
    };
    let bounds = wish.bounds;
    if let Some(bounds) = &bounds {
        check_bounds(bounds)?;
    }
    let (member, roles) = members::found(&context, who.member_id).await?;
    let own = Access::of(held(&member.all_grants(), &roles));
    let wanted = match &bounds {
        Some(bounds) => own.within(bounds.iter().map(Held::from).collect()),
        None => own,
    };
    if !wanted.is_within(&who.access) {
        let text = "the new token would have more rights than this one; give it 'bounds' within this token's";
        return Err(ApiError::new("not-allowed", "Not allowed", 403, text).at("/bounds"));
    }
    let secret = secrets::fresh("gbt_")
        .map_err(|e| ApiError::new("internal", "Internal error", 500, e.to_string()))?;
    let hash = secrets::hash(&secret);
    let networks = check_networks(&wish.networks)?;
    let (member, kept, kept_bounds) = (who.member.clone(), name.clone(), bounds.clone());
    let kept_networks = networks.clone();
    let id = context
        .db
        .run(move |store| {
            let new = NewCredential {
                kind: Kind::Token,
                hash: &hash,
                member_id: who.member_id,
                name: &kept,
                address: &who.address,
                expires,
                bounds: kept_bounds.as_deref(),
                networks: &kept_networks,
                provider: None,
            };
            let id = store.add_credential(&new, now)?;
            store.audit(who.entry("create-token", &kept, "succeeded"), now)?;
            Ok(id)
        })
        .await?;
    let token = Token {
        id: id.unsigned_abs(),
        name,
        member,
        created: now,
        expires,
        last_used: None,
        bounds,
        networks,
    };
    Ok((StatusCode::CREATED, Json(CreatedToken { token, secret })))
}

/// The most parts of the fleet that a token is cut down to.
pub(crate) const MOST_BOUNDS: usize = 50;

/// The most networks that a token is good from.
pub(crate) const MOST_NETWORKS: usize = 50;

/// Addresses and networks, each as a network.
fn check_networks(networks: &[String]) -> Result<Vec<String>, ApiError> {
    if networks.len() > MOST_NETWORKS {
        return Err(ApiError::invalid(
            "/networks",
            format!("at most {MOST_NETWORKS} addresses and networks"),
        ));
    }
    let read = |(n, text): (usize, &String)| {
        let network = text.parse::<IpNet>().or_else(|_| text.parse::<IpAddr>().map(IpNet::from));
        let wrong = |_| {
            let text = format!(
                "'{}' is not an address or network; use for example 192.0.2.7 or 192.0.2.0/24",
                gubernum_core::text::shown(text, 60)
            );
            ApiError::invalid(format!("/networks/{n}"), text)
        };
        network.map(|network| network.trunc().to_string()).map_err(wrong)
    };
    networks.iter().enumerate().map(read).collect()
}

fn check_bounds(bounds: &[Bound]) -> Result<(), ApiError> {
    if bounds.is_empty() || bounds.len() > MOST_BOUNDS {
        let text = format!("give 1 to {MOST_BOUNDS} scopes, or leave 'bounds' out");
        return Err(ApiError::invalid("/bounds", text));
    }
    for (n, bound) in bounds.iter().enumerate() {
        if !bound.rights.contains(&Right::See) {
            let text = "the token needs the right 'see'; add it";
            return Err(ApiError::invalid(format!("/bounds/{n}/rights"), text));
        }
    }
    Ok(())
}

/// Revokes a token.
#[utoipa::path(delete, path = "/api/v1/tokens/{id}", tag = "tokens", params(("id" = u64, Path)), responses(
    (status = 204),
    (status = "4XX", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn revoke(
    State(context): State<Arc<AccessContext>>,
    who: Identity,
    Path(id): Path<String>,
) -> Result<StatusCode, ApiError> {
    let missing = || ApiError::not_found("you have no token with this number");
    let number: i64 = id.parse().map_err(|_| missing())?;
    let now = context.clock.now();
    let done = context.db.run(move |store| {
        let name = store.token_name(who.member_id, number)?;
        let done = store.revoke(who.member_id, number, Kind::Token)?;
        if done {
            let object = format!("{} (token {number})", name.unwrap_or_default());
            store.audit(who.entry("revoke-token", &object, "succeeded"), now)?;
        }
        Ok(done)
    });
    if !done.await? {
        return Err(missing());
    }
    context.leases.end(number);
    Ok(StatusCode::NO_CONTENT)
}
