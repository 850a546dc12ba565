//! The settings of directories, for members who may change members.

use std::sync::Arc;

use axum::Json;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use gubernum_api::Problem;
use gubernum_api::directories::{Directory, DirectorySettings, DirectoryTest, SetDirectory};
use gubernum_core::directory::{
    DirectoryKind, GroupGrant, LONGEST_GROUP, MOST_MAPPINGS, MOST_RECHECK_SECONDS,
};
use gubernum_core::rights::Grant;
use gubernum_store::directories::DirectoryRecord;

use crate::access::directory::{Kept, SetUp};
use crate::access::http::members::check_grants;
use crate::access::{AccessContext, Identity, RightsChanged};
use crate::web::extract::Body;
use crate::web::problem::ApiError;

/// The longest secret, in bytes.
const LONGEST_SECRET: usize = 1000;

fn kind_of(word: &str) -> Result<DirectoryKind, ApiError> {
    word.parse().map_err(|_| ApiError::not_found("unknown kind of directory; use openid or ldap"))
}

fn shown(context: &AccessContext, set_up: &SetUp) -> Directory {
    Directory {
        settings: set_up.kept.settings.clone(),
        mapping: set_up.kept.mapping.clone(),
        recheck_seconds: set_up.kept.recheck_seconds,
        has_secret: set_up.secret.is_some(),
        failure: context.directories.failure(set_up.kept.settings.kind()),
    }
}

/// Configured directories, without their secrets.
#[utoipa::path(get, path = "/api/v1/directories", tag = "members", operation_id = "list_directories", responses(
    (status = 200, body = Vec<Directory>),
    (status = "4XX", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn list(State(context): State<Arc<AccessContext>>, _who: Identity) -> Json<Vec<Directory>> {
    let all = context.directories.all();
    Json(all.iter().map(|set_up| shown(&context, set_up)).collect())
}

/// Checks settings, and puts the secret beside them that was given or kept.
fn checked(context: &AccessContext, kind: DirectoryKind, wish: SetDirectory) -> Result<SetUp, ApiError> {
    let checked = match &wish.settings {
        DirectorySettings::Openid(settings) => settings.check(),
        DirectorySettings::Ldap(settings) => settings.check(),
    };
    let word = wish.settings.kind().word();
    checked.map_err(|e| ApiError::invalid(format!("/settings/{word}/{}", e.field), e.to_string()))?;
    if wish.settings.kind() != kind {
        return Err(ApiError::invalid(
            "/settings",
            format!("these are settings of {word}, not of {}", kind.word()),
        ));
    }
    if wish.recheck_seconds > MOST_RECHECK_SECONDS {
        let text = format!("refresh groups after 0 to {MOST_RECHECK_SECONDS} s");
        return Err(ApiError::invalid("/recheck_seconds", text));
    }
    if wish.mapping.len() > MOST_MAPPINGS {
        return Err(ApiError::invalid("/mapping", format!("at most {MOST_MAPPINGS} mappings")));
    }
    for (n, line) in wish.mapping.iter().enumerate() {
        if line.group.trim().is_empty() || line.group.chars().count() > LONGEST_GROUP {
            let text = format!("a group's name has 1 to {LONGEST_GROUP} characters");
            return Err(ApiError::invalid(format!("/mapping/{n}/group"), text));
        }
    }
    if wish.secret.as_ref().is_some_and(|secret| secret.len() > LONGEST_SECRET) {
        return Err(ApiError::invalid("/secret", format!("a secret has at most {LONGEST_SECRET} bytes")));
    }
    let kept = context.directories.get(kind);
    // A secret is not sent to another place than the one that it was given for.
    let place = |settings: &DirectorySettings| match settings {
        DirectorySettings::Openid(s) => (s.issuer.clone(), s.client_id.clone()),
        DirectorySettings::Ldap(s) => (s.address.clone(), s.bind_name.clone()),
    };
    let before = kept.filter(|kept| place(&kept.kept.settings) == place(&wish.settings));
    let secret = match wish.secret {
        Some(secret) => Some(secret).filter(|secret| !secret.is_empty()),
        None => before.and_then(|kept| kept.secret),
    };
    let kept = Kept { settings: wish.settings, mapping: wish.mapping, recheck_seconds: wish.recheck_seconds };
    Ok(SetUp { kept, secret })
}

fn words(mapping: &[GroupGrant]) -> String {
    let each = mapping.iter().map(|line| format!("{}: {} on {}", line.group, line.role, line.scope));
    each.collect::<Vec<_>>().join(", ")
}

/// Configures a directory; replaces the one of its kind.
#[utoipa::path(put, path = "/api/v1/directories/{kind}", tag = "members", operation_id = "set_directory",
    params(("kind" = DirectoryKind, Path)), request_body = SetDirectory, responses(
    (status = 200, body = Directory),
    (status = "4XX", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn set(
    State(context): State<Arc<AccessContext>>,
    who: Identity,
    Path(kind): Path<String>,
    Body(wish): Body<SetDirectory>,
) -> Result<Json<Directory>, ApiError> {
    let kind = kind_of(&kind)?;
    let set_up = checked(&context, kind, wish)?;
    let roles = context.db.run(gubernum_store::Store::roles).await?;
    let grants: Vec<Grant> = set_up.kept.mapping.iter().map(GroupGrant::grant).collect();
    for (n, grant) in grants.iter().enumerate() {
        check_grants(std::slice::from_ref(grant), &roles, &who.access).map_err(|e| {
            let place =
                e.problem.field.as_deref().unwrap_or_default().replace("/grants/0", &format!("/mapping/{n}"));
            e.at(place)
        })?;
    }
    let before = context.directories.get(kind).map(|known| words(&known.kept.mapping)).unwrap_or_default();
    let settings = serde_json::to_string(&set_up.kept)
        .map_err(|e| ApiError::new("internal", "Internal error", 500, e.to_string()))?;
    let record = DirectoryRecord { kind, settings, secret: set_up.secret.clone() };
    let now = context.clock.now();
    let outcome = format!("{before} → {}", words(&set_up.kept.mapping));
    let kept = context.db.run(move |store| {
        store.set_directory(&record)?;
        store.audit(who.entry("set-directory", kind.word(), &outcome), now)?;
        store.directories()
    });
    context.directories.set(kept.await?);
    // What groups grant may be another now: it is asked for at the next request of each.
    context.db.run(move |store| store.forget_checks(kind)).await?;
    context.rights.tell(RightsChanged::Everybodys);
    Ok(Json(shown(&context, &set_up)))
}

/// Removes a directory. Its members stay, without its grants, and can no longer sign in.
#[utoipa::path(delete, path = "/api/v1/directories/{kind}", tag = "members", operation_id = "remove_directory",
    params(("kind" = DirectoryKind, Path)), responses(
    (status = 204),
    (status = "4XX", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn remove(
    State(context): State<Arc<AccessContext>>,
    who: Identity,
    Path(kind): Path<String>,
) -> Result<StatusCode, ApiError> {
    let kind = kind_of(&kind)?;
    let now = context.clock.now();
    let removed = context.db.run(move |store| {
        let ended = store.remove_directory(kind)?;
        if ended.is_some() {
            store.audit(who.entry("remove-directory", kind.word(), "succeeded"), now)?;
        }
        Ok((ended, store.directories()?))
    });
    let (ended, left) = removed.await?;
    let ended = ended.ok_or_else(|| ApiError::not_found("no directory of this kind is configured"))?;
    context.directories.set(left);
    ended.into_iter().for_each(|credential| context.leases.end(credential));
    Ok(StatusCode::NO_CONTENT)
}

/// Tests a directory without saving it.
#[utoipa::path(post, path = "/api/v1/directories/{kind}/test", tag = "members", operation_id = "test_directory",
    params(("kind" = DirectoryKind, Path)), request_body = SetDirectory, responses(
    (status = 200, body = DirectoryTest),
    (status = "4XX", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn test(
    State(context): State<Arc<AccessContext>>,
    _who: Identity,
    Path(kind): Path<String>,
    Body(wish): Body<SetDirectory>,
) -> Result<Json<DirectoryTest>, ApiError> {
    let set_up = checked(&context, kind_of(&kind)?, wish)?;
    let (steps, failure) = context.directories.test(&set_up).await;
    Ok(Json(DirectoryTest { steps, failure: failure.map(|e| e.to_string()) }))
}
