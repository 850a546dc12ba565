//! Leftovers, protected objects, and preferences of the service.

use std::sync::Arc;

use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use gubernum_api::Problem;
use gubernum_api::images::{KeepNote, Preferences, SetKeepNote};
use gubernum_core::assets::AssetKind;
use gubernum_core::fleet::Fleet;
use gubernum_core::guard::weakened;
use gubernum_core::plan::ObjectKind;
use gubernum_core::plan::request::TidyPiece;
use gubernum_core::rights::{Access, Right};
use gubernum_core::tidy::{Suggestion, suggestions};
use gubernum_store::Store;
use gubernum_store::preferences::MOST_NOTES;
use serde::Deserialize;
use utoipa::IntoParams;

use crate::access::{Dangerous, Identity};
use crate::fleet::View;
use crate::operations::OperationsContext;
use crate::web::authorize::refused;
use crate::web::extract::{Body, Params};
use crate::web::problem::ApiError;
use crate::web::query::known_host;

/// Narrows the list down.
#[derive(Debug, Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
#[into_params(parameter_in = Query)]
pub(crate) struct TidyParams {
    /// Only of this host.
    host: Option<String>,
}

/// Unused objects: why, since when, size, last user, and whether each is safe to remove. The suggestions are the
/// `pieces` of a `tidy` operation.
#[utoipa::path(get, path = "/api/v1/leftovers", tag = "tidy", params(TidyParams), responses(
    (status = 200, body = Vec<Suggestion>),
    (status = "4XX", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn leftovers(
    State(context): State<Arc<OperationsContext>>,
    view: View,
    Params(wish): Params<TidyParams>,
) -> Result<Json<Vec<Suggestion>>, ApiError> {
    known_host(&view, wish.host.as_deref())?;
    // Whoever looks wants sizes that are true; a host that was measured just now is not measured again.
    context.links.each(|link| link.measure.notify_one());
    context.backing.ask_soon();
    let rules = context.runner.tidy_rules().await?;
    let (looked, now) = (view.clone(), context.clock.now());
    // What is unused is reported by the whole fleet: what somebody sees may be used by what they do not see.
    let found = tokio::task::spawn_blocking(move || {
        let fleet = looked.judge(|fleet, _| fleet.clone());
        let mut found = suggestions(&fleet, &rules, now);
        found.retain(|s| may_tidy(&fleet, looked.access(), &s.piece));
        found
    });
    let found = found.await;
    let mut found = found.map_err(|e| ApiError::new("internal", "Internal error", 500, e.to_string()))?;
    if let Some(host) = &wish.host {
        found.retain(|s| s.piece.host == *host);
    }
    Ok(Json(found))
}

/// Whether a piece may be tidied away: by the right on itself, or on its host.
fn may_tidy(fleet: &Fleet, access: &Access, piece: &TidyPiece) -> bool {
    let kind = match piece.object {
        ObjectKind::Volume => Some(AssetKind::Volume),
        ObjectKind::Network => Some(AssetKind::Network),
        ObjectKind::Container | ObjectKind::Image | ObjectKind::Cache => None,
    };
    let container = fleet.container(&piece.host, &piece.id).filter(|_| piece.object == ObjectKind::Container);
    let rights = match (kind, container) {
        (Some(kind), _) => fleet.rights_on_asset(access, &piece.host, kind, &piece.id),
        (None, Some(container)) => fleet.rights_on(access, container),
        (None, None) => fleet.rights_on_host(access, &piece.host),
    };
    rights.has(Right::Tidy)
}

/// The longest id or name of a thing that is noted.
const LONGEST_ID: usize = 300;

/// Protects an object from tidying, or ends the protection.
#[utoipa::path(put, path = "/api/v1/leftovers/keep", tag = "tidy", request_body = SetKeepNote, responses(
    (status = 204),
    (status = "4XX", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn keep(
    State(context): State<Arc<OperationsContext>>,
    who: Identity,
    view: View,
    Body(wish): Body<SetKeepNote>,
) -> Result<StatusCode, ApiError> {
    if wish.text.chars().count() > LONGEST_NOTE {
        return Err(ApiError::invalid("/text", "the note is longer than 200 characters"));
    }
    view.know_host(&wish.piece.host).map_err(|e| ApiError::from(e).at("/piece/host"))?;
    if wish.piece.id.is_empty() || wish.piece.id.len() > LONGEST_ID {
        return Err(ApiError::invalid("/piece/id", "an id or a name has 1 to 300 characters"));
    }
    if !view.judge(|fleet, access| may_tidy(fleet, access, &wish.piece)) {
        let on = format!("{}/{}", wish.piece.host, wish.piece.id);
        return Err(refused(Right::Tidy, &on).at("/piece/id"));
    }
    let now = context.clock.now();
    let noted = context
        .db
        .run(move |store| {
            let object = format!("{} {} {}", wish.piece.host, wish.piece.object.word(), wish.piece.id);
            let action = if wish.keep { "keep" } else { "let-go" };
            if wish.keep {
                let note = KeepNote { piece: wish.piece, text: wish.text, member: who.member.clone() };
                if !store.keep(&note, now)? {
                    return Ok(false);
                }
            } else {
                store.let_go(&wish.piece)?;
            }
            store.audit(who.entry(action, &object, "succeeded"), now)?;
            Ok(true)
        })
        .await?;
    if !noted {
        let text = format!("the limit of {MOST_NOTES} protected objects is reached; remove some first");
        return Err(ApiError::new("too-many", "Too many notes", 409, text));
    }
    Ok(StatusCode::NO_CONTENT)
}

/// Service settings.
#[utoipa::path(get, path = "/api/v1/preferences", tag = "service", responses(
    (status = 200, body = Preferences),
    (status = "4XX", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn preferences(
    State(context): State<Arc<OperationsContext>>,
    _who: Identity,
) -> Result<Json<Preferences>, ApiError> {
    Ok(Json(context.db.run(Store::preferences).await?))
}

/// The most revisions that are kept of a container.
pub(crate) const MOST_KEPT: u32 = 100;
/// A year.
pub(crate) const MOST_HOURS: u32 = 24 * 365;
/// The longest time between two checks for newer images.
pub(crate) const MOST_CHECK_HOURS: u32 = 24 * 30;
/// The longest that a session lasts, in hours.
pub(crate) const MOST_SESSION_HOURS: u32 = 24 * 90;
/// The longest note that something is kept with.
pub(crate) const LONGEST_NOTE: usize = 200;

/// Replaces the service settings; what is left out is set to its default.
#[utoipa::path(put, path = "/api/v1/preferences", tag = "service", request_body = Preferences, responses(
    (status = 200, body = Preferences),
    (status = "4XX", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn set_preferences(
    State(context): State<Arc<OperationsContext>>,
    who: Identity,
    Body(new): Body<Preferences>,
) -> Result<Json<Preferences>, ApiError> {
    if new.kept_earlier > MOST_KEPT {
        return Err(ApiError::invalid("/kept_earlier", "at most 100 earlier revisions are kept"));
    }
    for (field, hours) in [
        ("/tidy_after_hours", new.tidy_after_hours),
        ("/safe_after_hours", new.safe_after_hours),
        ("/cache_safe_after_hours", new.cache_safe_after_hours),
    ] {
        if hours > MOST_HOURS {
            return Err(ApiError::invalid(field, "at most a year, 8760 hours"));
        }
    }
    if new.image_check_hours > MOST_CHECK_HOURS {
        return Err(ApiError::invalid("/image_check_hours", "at most 30 days, 720 hours; 0 for never"));
    }
    if !(1..=MOST_SESSION_HOURS).contains(&new.session_hours) {
        return Err(ApiError::invalid("/session_hours", "from 1 hour to 90 days, 2160 hours"));
    }
    let before = context.db.run(gubernum_store::Store::preferences).await?;
    let weakened = weakened(&before, &new);
    if let Some(danger) = weakened.iter().copied().max_by_key(|danger| danger.guard(&before)) {
        // Whoever could take the guard away would not be held back by it.
        let detail = format!("settings: {}", changed(&before, &new));
        let change = Dangerous { danger, object: "service".to_owned(), exactly: detail.clone(), detail };
        let _passed = context.guards.pass_as(danger.guard(&before), &who.asker(), change).await?;
    }
    let now = context.clock.now();
    let all = new;
    context
        .db
        .run(move |store| {
            let before = store.preferences()?;
            store.set_preferences(&new)?;
            store.audit(who.entry("set-preferences", "service", &changed(&before, &new)), now)
        })
        .await?;
    Ok(Json(all))
}

/// The settings that differ: `tidy_after_hours: 24 → 168`.
fn changed(before: &Preferences, after: &Preferences) -> String {
    let fields = |p: &Preferences| serde_json::to_value(p).unwrap_or_default();
    let (before, after) = (fields(before), fields(after));
    let all = after.as_object().into_iter().flatten();
    let words: Vec<String> = all
        .filter(|(name, value)| before[name.as_str()] != **value)
        .map(|(name, value)| format!("{name}: {} → {value}", before[name.as_str()]))
        .collect();
    if words.is_empty() { "no change".to_owned() } else { words.join(", ") }
}
