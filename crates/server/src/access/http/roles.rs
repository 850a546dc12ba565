//! Roles: the built-in ones, and those that a team adds.

use std::sync::Arc;

use axum::Json;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use gubernum_api::Problem;
use gubernum_api::members::{NewRole, Role};
use gubernum_core::rights::{Access, Held, Right, Rights, check_role};
use gubernum_store::Store;
use gubernum_store::roles::RoleRemoval;

use crate::access::{AccessContext, Identity, RightsChanged};
use crate::web::extract::Body;
use crate::web::problem::ApiError;

/// All roles, built-in ones first.
#[utoipa::path(get, path = "/api/v1/roles", tag = "members", operation_id = "list_roles", responses(
    (status = 200, body = Vec<Role>),
    (status = "4XX", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn list(
    State(context): State<Arc<AccessContext>>,
    _who: Identity,
) -> Result<Json<Vec<Role>>, ApiError> {
    Ok(Json(context.db.run(Store::roles).await?))
}

/// Nobody gives more than they have, nor removes by a role what they could not give.
fn within(rights: Rights, who: &Identity) -> Result<(), ApiError> {
    if Access::of(vec![Held::on_fleet(rights)]).is_within(&who.access) {
        return Ok(());
    }
    let lacking: Vec<&str> =
        rights.iter().filter(|r| !who.access.on_fleet().has(*r)).map(Right::word).collect();
    let text = format!(
        "the role has rights that you do not have on the whole fleet ({}); you can only give rights that you have",
        lacking.join(", ")
    );
    Err(ApiError::new("not-allowed", "Not allowed", 403, text).at("/rights"))
}

fn in_words(rights: &[Right]) -> String {
    rights.iter().map(|right| right.word()).collect::<Vec<_>>().join(" ")
}

/// Adds a role, or changes it for all its members at once.
#[utoipa::path(put, path = "/api/v1/roles", tag = "members", operation_id = "set_role", request_body = NewRole, responses(
    (status = 200, body = Role),
    (status = "4XX", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn set(
    State(context): State<Arc<AccessContext>>,
    who: Identity,
    Body(wish): Body<NewRole>,
) -> Result<Json<Role>, ApiError> {
    use gubernum_core::rights::RoleError;
    check_role(&wish.name, &wish.rights).map_err(|e| {
        let field = match e {
            RoleError::Name | RoleError::BuiltIn(_) => "/name",
            RoleError::Nothing | RoleError::Blind => "/rights",
        };
        ApiError::invalid(field, e.to_string())
    })?;
    let rights: Rights = wish.rights.iter().copied().collect();
    within(rights, &who)?;
    let known = context.db.run(Store::roles).await?;
    let before = known.into_iter().find(|role| role.name == wish.name);
    if let Some(before) = &before {
        within(before.rights(), &who)?;
    }
    let rights: Vec<Right> = rights.iter().collect();
    let role =
        Role { name: wish.name, rights: rights.clone(), second_factor: wish.second_factor, built_in: false };
    let (kept, now) = (role.clone(), context.clock.now());
    let outcome = match &before {
        Some(before) => format!("{} → {}", in_words(&before.rights), in_words(&rights)),
        None => in_words(&rights),
    };
    let holders = context.db.run(move |store| {
        store.set_role(&kept.name, &kept.rights, kept.second_factor)?;
        store.audit(who.entry("set-role", &kept.name, &outcome), now)?;
        store.credentials_with_role(&kept.name)
    });
    let holders = holders.await.map_err(|e| ApiError::from(e).at("/name"))?;
    let shrinks = before.is_some_and(|before| !before.rights().is_within(rights.iter().copied().collect()));
    if shrinks {
        holders.into_iter().for_each(|credential| context.leases.end(credential));
    }
    context.rights.tell(RightsChanged::Everybodys);
    Ok(Json(role))
}

/// Removes an unused role.
#[utoipa::path(delete, path = "/api/v1/roles/{name}", tag = "members", operation_id = "remove_role",
    params(("name" = String, Path)), responses(
    (status = 204),
    (status = "4XX", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn remove(
    State(context): State<Arc<AccessContext>>,
    who: Identity,
    Path(name): Path<String>,
) -> Result<StatusCode, ApiError> {
    let (wanted, now) = (name.clone(), context.clock.now());
    let removed = context.db.run(move |store| {
        let removed = store.remove_role(&wanted)?;
        if removed == RoleRemoval::Done {
            store.audit(who.entry("remove-role", &wanted, "succeeded"), now)?;
        }
        Ok(removed)
    });
    let shown = gubernum_core::text::shown(&name, 60);
    match removed.await? {
        RoleRemoval::Done => Ok(StatusCode::NO_CONTENT),
        RoleRemoval::Missing => Err(ApiError::not_found(format!("no custom role '{shown}'"))),
        RoleRemoval::InUse(count) => {
            let text = format!("{count} members have the role '{shown}'; give them another role first");
            Err(ApiError::new("in-use", "The role is in use", 409, text))
        }
    }
}
