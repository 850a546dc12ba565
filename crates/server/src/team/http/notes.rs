//! Notes on objects, and the team's current state. Whoever sees an object may write on it; the author changes a note,
//! the author or an admin removes it.

use std::sync::Arc;

use axum::Json;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use gubernum_api::Problem;
use gubernum_api::team::{ChangeNote, NewNote, Note, NotedObject, SeenMentions, TeamState};
use gubernum_core::note::{LONGEST_NOTE, mentioned};
use gubernum_core::rights::Rights;
use serde::Deserialize;

use crate::access::Identity;
use crate::fleet::View;
use crate::team::{Team, TeamContext};
use crate::web::extract::{Body, Params};
use crate::web::problem::ApiError;

/// The most mentions that are marked as seen at once.
const MOST_SEEN: usize = 1000;

/// Which notes.
#[derive(Debug, Default, Deserialize, utoipa::IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub(crate) struct NoteParams {
    /// Only on this object, such as `container:packhouse/orchard-web`.
    on: Option<String>,
}

fn object(text: &str) -> Result<NotedObject, ApiError> {
    text.parse().map_err(|e: gubernum_core::note::ObjectError| ApiError::invalid("?on", e.to_string()))
}

fn check_text(text: &str) -> Result<String, ApiError> {
    let text = text.trim();
    let is_odd = |c: char| c.is_control() && !matches!(c, '\n' | '\t');
    if text.is_empty() || text.chars().count() > LONGEST_NOTE || text.chars().any(is_odd) {
        let words = format!(
            "a note has 1 to {LONGEST_NOTE} characters and no control characters but new lines and tabs"
        );
        return Err(ApiError::invalid("/text", words));
    }
    Ok(text.to_owned())
}

/// Notes on what one sees, newest first.
#[utoipa::path(get, path = "/api/v1/notes", tag = "team", operation_id = "list_notes", params(NoteParams), responses(
    (status = 200, body = Vec<Note>),
    (status = "4XX", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn list(
    State(context): State<Arc<TeamContext>>,
    who: Identity,
    view: View,
    Params(wanted): Params<NoteParams>,
) -> Result<Json<Vec<Note>>, ApiError> {
    let on = wanted.on.as_deref().map(object).transpose()?;
    Ok(Json(context.team.notes(&view, &who.member, on.as_ref()).await?))
}

/// Writes a note on an object.
#[utoipa::path(post, path = "/api/v1/notes", tag = "team", operation_id = "write_note", request_body = NewNote, responses(
    (status = 201, body = Note),
    (status = "4XX", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn write(
    State(context): State<Arc<TeamContext>>,
    who: Identity,
    view: View,
    Body(wish): Body<NewNote>,
) -> Result<(StatusCode, Json<Note>), ApiError> {
    let text = check_text(&wish.text)?;
    if !Team::sees(&view, &wish.on) {
        return Err(ApiError::not_found(format!("there is no {}", wish.on)).at("/on"));
    }
    let now = context.clock.now();
    let names = context.db.run(gubernum_store::Store::member_names).await?;
    let mut note = Note {
        id: 0,
        on: wish.on,
        mentions: mentioned(&text, names.iter().map(String::as_str)),
        text,
        pinned: wish.pinned,
        author: who.member.clone(),
        created: now,
        edited: None,
        is_new: false,
    };
    let kept = note.clone();
    let id = context.db.run(move |store| {
        let id = store.add_note(&kept)?;
        store.audit(
            who.entry("write-note", &kept.on.to_string(), if kept.pinned { "pinned" } else { "succeeded" }),
            now,
        )?;
        Ok(id)
    });
    note.id = id.await?;
    context.team.read().await?;
    Ok((StatusCode::CREATED, Json(note)))
}

fn missing() -> ApiError {
    ApiError::not_found("no note has this number; it may have been removed")
}

async fn found(context: &TeamContext, view: &View, id: &str) -> Result<Note, ApiError> {
    let id: u64 = id.parse().map_err(|_| missing())?;
    let note = context.db.run(move |store| store.note(id)).await?;
    note.filter(|note| Team::sees(view, &note.on)).ok_or_else(missing)
}

/// Changes a note's text (its author) or pins it (whoever sees it).
#[utoipa::path(patch, path = "/api/v1/notes/{id}", tag = "team", operation_id = "change_note", params(("id" = u64, Path)),
    request_body = ChangeNote, responses(
    (status = 200, body = Note),
    (status = "4XX", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn change(
    State(context): State<Arc<TeamContext>>,
    who: Identity,
    view: View,
    Path(id): Path<String>,
    Body(wish): Body<ChangeNote>,
) -> Result<Json<Note>, ApiError> {
    let mut note = found(&context, &view, &id).await?;
    if let Some(text) = &wish.text {
        if note.author != who.member {
            let text = format!("{} wrote this note; write one yourself", note.author);
            return Err(ApiError::new("not-allowed", "Not allowed", 403, text));
        }
        note.text = check_text(text)?;
        let names = context.db.run(gubernum_store::Store::member_names).await?;
        note.mentions = mentioned(&note.text, names.iter().map(String::as_str));
    }
    note.pinned = wish.pinned.unwrap_or(note.pinned);
    let (now, kept) = (context.clock.now(), note.clone());
    let changed = context.db.run(move |store| {
        let changed = store.change_note(&kept, now)?;
        if changed {
            let outcome = if kept.pinned { "pinned" } else { "not pinned" };
            store.audit(who.entry("change-note", &kept.on.to_string(), outcome), now)?;
        }
        store.note(kept.id)
    });
    let changed = changed.await?.ok_or_else(missing)?;
    context.team.read().await?;
    Ok(Json(changed))
}

/// Removes a note.
#[utoipa::path(delete, path = "/api/v1/notes/{id}", tag = "team", operation_id = "remove_note", params(("id" = u64, Path)), responses(
    (status = 204),
    (status = "4XX", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn remove(
    State(context): State<Arc<TeamContext>>,
    who: Identity,
    view: View,
    Path(id): Path<String>,
) -> Result<StatusCode, ApiError> {
    let note = found(&context, &view, &id).await?;
    if note.author != who.member && who.access.on_fleet() != Rights::all() {
        let text = format!("{} wrote this note; only {} or an admin can remove it", note.author, note.author);
        return Err(ApiError::new("not-allowed", "Not allowed", 403, text));
    }
    let now = context.clock.now();
    let removed = context.db.run(move |store| {
        let removed = store.remove_note(note.id)?;
        if removed {
            let outcome = format!("was written by {}", note.author);
            store.audit(who.entry("remove-note", &note.on.to_string(), &outcome), now)?;
        }
        Ok(removed)
    });
    let removed = removed.await?;
    context.team.read().await?;
    if removed { Ok(StatusCode::NO_CONTENT) } else { Err(missing()) }
}

/// Marks mentions of oneself as seen.
#[utoipa::path(post, path = "/api/v1/mentions/seen", tag = "team", operation_id = "seen_mentions", request_body = SeenMentions, responses(
    (status = 204),
    (status = "4XX", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn seen(
    State(context): State<Arc<TeamContext>>,
    who: Identity,
    Body(wish): Body<SeenMentions>,
) -> Result<StatusCode, ApiError> {
    if wish.notes.len() > MOST_SEEN {
        return Err(ApiError::invalid("/notes", format!("at most {MOST_SEEN} at once")));
    }
    context.db.run(move |store| store.seen_mentions(&who.member, &wish.notes)).await?;
    context.team.tell();
    Ok(StatusCode::NO_CONTENT)
}

/// The team now: who is signed in to the console and looks at what, what is queued, freezes and notes.
#[utoipa::path(get, path = "/api/v1/team", tag = "team", operation_id = "presence", responses(
    (status = 200, body = TeamState),
    (status = "4XX", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn team(
    State(context): State<Arc<TeamContext>>,
    who: Identity,
    view: View,
) -> Result<Json<TeamState>, ApiError> {
    let mentions = context.team.mentions(&who.member).await?;
    Ok(Json(context.team.seen_by(&view, &who.member, mentions)))
}
