//! Files of containers, streamed. The routes of volumes are in `volumes`, the roots of both in `root`, archives of images
//! in `images::http::archives`.

use std::sync::Arc;

use axum::Json;
use axum::body::Body;
use axum::extract::{Path, State};
use axum::http::{HeaderMap, StatusCode, header};
use axum::response::Response;
use futures_util::StreamExt;
use gubernum_api::Problem;
use gubernum_api::files::{Folder, Received};
use gubernum_core::text::shown;
use gubernum_engine::EngineError;
use serde::Deserialize;
use utoipa::IntoParams;

use crate::access::Identity;
use crate::files::FileError;
use crate::files::FilesContext;
use crate::files::http::root::{FileRoot, host_folder, is_behind};
use crate::files::http::upload as beside;
use crate::files::http::upload::PartialFile;
use crate::files::single_file::unwrapped;
use crate::files::streams as files;
use crate::files::streams::{NewFile, from_byte, pieces, split, wrapped};
use crate::files::unpacking;
use crate::files::unpacking::Trouble;
use crate::fleet::View;
use crate::web::bodies::{TAR, stream_of, streamed};
use crate::web::extract::Params;
use crate::web::problem::ApiError;

/// Which path, and of a file from which byte on.
#[derive(Debug, Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
#[into_params(parameter_in = Query)]
pub(crate) struct PathEntry {
    /// The path.
    path: String,
    /// For a file: begin at this byte, to resume an interrupted download.
    from: Option<u64>,
}

/// How a file is written.
#[derive(Debug, Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
#[into_params(parameter_in = Query)]
pub(crate) struct WriteTo {
    /// The path.
    path: String,
    /// Permissions in octal; defaults to those of the existing file, or 644.
    mode: Option<String>,
    /// Owner UID; defaults to that of the existing file, or 0.
    user: Option<u64>,
    /// Group GID; defaults to the owner's number.
    group: Option<u64>,
    /// Expected modification time: if the file has another one, somebody changed it meanwhile and nothing is written.
    #[param(value_type = Option<String>)]
    unless_changed_since: Option<jiff::Timestamp>,
    /// A key for this upload, 8 to 32 lowercase letters and digits: an interrupted upload can be resumed with the
    /// same key for an hour.
    upload: Option<String>,
    /// Resume at this byte; `Content-Length` is then that of the rest.
    from: Option<u64>,
}

/// Which upload.
#[derive(Debug, Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
#[into_params(parameter_in = Query)]
pub(crate) struct UploadParams {
    /// The path.
    path: String,
    /// Key of the upload.
    upload: String,
}

fn checked_key(key: &str) -> Result<(), ApiError> {
    let fine =
        (8..=32).contains(&key.len()) && key.bytes().all(|b| b.is_ascii_lowercase() || b.is_ascii_digit());
    if fine {
        return Ok(());
    }
    Err(ApiError::invalid("?upload", "an upload's key has 8 to 32 lowercase letters and digits"))
}

/// Engines differ in what they do when the folder is not there; here it is an error with all of them.
pub(crate) async fn need_folder(root: &FileRoot, path: &str) -> Result<(), ApiError> {
    if path == "/" {
        return Ok(());
    }
    let stat = root.engine.stat(&root.id, path).await?;
    if stat.folder || stat.link.is_some() {
        return Ok(());
    }
    let text = format!("'{}' is a file, not a folder", shown(path, 200));
    Err(ApiError::new("not-a-folder", "Not a folder", 409, text))
}

/// The outcome of an upload: an archive's own trouble counts, whatever the engine made of it.
pub(crate) fn taken(outcome: Result<(), EngineError>, trouble: &Trouble) -> Result<(), ApiError> {
    if trouble.lock().is_some() && outcome.is_ok() {
        let text = trouble.lock().clone().unwrap_or_default();
        return Err(ApiError::new("archive", "Archive rejected", 422, text));
    }
    outcome.map_err(|e| told(e, trouble))
}

/// What an archive's own trouble was, or else the engine's words.
fn told(error: EngineError, trouble: &Trouble) -> ApiError {
    match trouble.lock().clone() {
        Some(text) => ApiError::new("archive", "Archive rejected", 422, text),
        None => error.into(),
    }
}

/// The entries of a folder.
pub(crate) async fn folder_in(
    context: &FilesContext,
    root: &FileRoot,
    wish: &PathEntry,
) -> Result<Json<Folder>, ApiError> {
    let (full, own) = root.path(context, &wish.path).await?;
    root.stat(&full, &own).await?;
    let found = files::list(&root.engine, &root.id, root.runs, &full).await?;
    Ok(Json(Folder { path: own, ..found }))
}

/// One file as it is.
pub(crate) async fn read_in(
    context: &FilesContext,
    who: &Identity,
    root: FileRoot,
    wish: &PathEntry,
) -> Result<Response, ApiError> {
    let (full, own) = root.path(context, &wish.path).await?;
    let name = split(&own)?.1;
    let stat = root.stat(&full, &own).await?;
    let (size, stream) = unwrapped(root.engine.read_archive(&root.id, &full).await?).await?;
    let from = wish.from.unwrap_or(0).min(size);
    context.audit.record(who, "read-file", root.object.clone(), own).await?;
    let held = root.held();
    let stream = from_byte(stream, from).map(move |piece| {
        let _held = &held;
        piece
    });
    let mut response = streamed("application/octet-stream", &name, stream);
    let headers = response.headers_mut();
    headers.insert(header::CONTENT_LENGTH, header::HeaderValue::from(size - from));
    // When it was written, to be sent back with a changed text.
    if let Ok(value) = header::HeaderValue::from_str(&stat.written) {
        headers.insert("x-written", value);
    }
    Ok(response)
}

/// Writes one file. One that is refused is written to the audit log too.
pub(crate) async fn write_in(
    context: &Arc<FilesContext>,
    who: &Identity,
    root: &FileRoot,
    wish: &WriteTo,
    headers: &HeaderMap,
    body: Body,
) -> Result<StatusCode, ApiError> {
    let outcome = write_checked(context, who, root, wish, headers, body).await;
    if let Err(error) = &outcome {
        let words = format!("{}: refused: {}", shown(&wish.path, 200), error.problem.detail);
        context.audit.record(who, "write-file", root.object.clone(), shown(&words, 400)).await?;
    }
    outcome
}

async fn write_checked(
    context: &Arc<FilesContext>,
    who: &Identity,
    root: &FileRoot,
    wish: &WriteTo,
    headers: &HeaderMap,
    body: Body,
) -> Result<StatusCode, ApiError> {
    let (full, own) = root.path(context, &wish.path).await?;
    split(&own)?;
    let size = headers.get(header::CONTENT_LENGTH).and_then(|v| v.to_str().ok()?.parse::<u64>().ok());
    let size =
        size.ok_or_else(|| ApiError::new("length", "Length required", 411, "Content-Length is required"))?;
    let mode = match wish.mode.as_deref().map(|m| u32::from_str_radix(m, 8)) {
        None => None,
        Some(Ok(mode)) if mode <= 0o7777 => Some(mode),
        Some(_) => return Err(ApiError::invalid("?mode", "permissions are octal digits, such as 644")),
    };
    if let Some(seen) = wish.unless_changed_since {
        unchanged(root, &full, &own, seen).await?;
    }
    let (folder, name) = split(&full)?;
    need_folder(root, &folder).await?;
    // What is not said stays as it is.
    let was = root.engine.stat(&root.id, &full).await.ok().filter(|s| !s.folder && s.link.is_none());
    let mode = mode.or(was.as_ref().map(|s| s.mode & 0o7777)).unwrap_or(0o644);
    let owner = match wish.user {
        None if was.is_some() && root.runs => beside::owner(root, &full).await,
        _ => None,
    };
    let (user, group) = owner.unwrap_or_else(|| {
        let user = wish.user.unwrap_or(0);
        (user, user)
    });
    let from = wish.from.unwrap_or(0);
    if let Some(key) = &wish.upload {
        checked_key(key)?;
    } else if from > 0 {
        return Err(ApiError::invalid("?from", "'from' requires 'upload'"));
    }
    let mut place = PartialFile::find(context, root, &folder, &name, wish.upload.as_deref()).await;
    let called = match &mut place {
        Some(place) => {
            place.take_turn().await?;
            place.name(from).await?
        }
        None if from > 0 => {
            let text = "uploads into this container cannot be resumed; send the file from the beginning";
            return Err(ApiError::new("elsewhere", "Wrong resume offset", 409, text));
        }
        None => name,
    };
    let file = NewFile { name: called, size, mode, user, group: wish.group.unwrap_or(group) };
    let upload = wrapped(&file, context.clock.now(), stream_of(body));
    let written = root.engine.write_archive(&root.id, &folder, upload).await;
    let whole = from.saturating_add(size);
    match (written, place) {
        (Ok(()), None) => {}
        (Ok(()), Some(place)) => {
            if from > 0
                && let Err(error) = place.join(root, &file, whole).await
            {
                place.give_up(true).await;
                return Err(error);
            }
            place.take_over(root, &full).await?;
        }
        (Err(error), place) => {
            let error = beside::not_written(error, &own, place.is_some());
            if let Some(place) = place {
                // A disk that is full needs the room back at once.
                place.give_up(error.problem.status == 507).await;
            }
            return Err(error);
        }
    }
    context.audit.record(who, "write-file", root.object.clone(), format!("{own}, {whole} bytes")).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// How much has come of an interrupted upload.
pub(crate) async fn received_in(
    context: &Arc<FilesContext>,
    root: &FileRoot,
    wish: &UploadParams,
) -> Result<Json<Received>, ApiError> {
    checked_key(&wish.upload)?;
    let (full, _) = root.path(context, &wish.path).await?;
    let (folder, name) = split(&full)?;
    let received = match PartialFile::find(context, root, &folder, &name, Some(&wish.upload)).await {
        None => 0,
        Some(mut place) => {
            place.take_turn().await?;
            place.received().await?
        }
    };
    Ok(Json(Received { received }))
}

async fn unchanged(root: &FileRoot, full: &str, own: &str, seen: jiff::Timestamp) -> Result<(), ApiError> {
    let now = root.stat(full, own).await?.written.parse::<jiff::Timestamp>().ok();
    // Archives tell whole seconds.
    if now.is_some_and(|now| now.as_second() == seen.as_second()) {
        return Ok(());
    }
    let text =
        format!("'{}' was changed by somebody else meanwhile; reload it before you save", shown(own, 200));
    Err(ApiError::new("changed-meanwhile", "Changed meanwhile", 409, text))
}

/// A path with everything below it as a tar archive.
pub(crate) async fn fetch_in(
    context: &FilesContext,
    who: &Identity,
    root: FileRoot,
    wish: &PathEntry,
) -> Result<Response, ApiError> {
    let (full, own) = root.path(context, &wish.path).await?;
    root.stat(&full, &own).await?;
    // An archive of what is above a folder of the host would hold that folder.
    if let Some(mount) = root.closed(context).await?.iter().find(|m| is_behind(&m.target, &full)) {
        return Err(host_folder(mount));
    }
    let body = root.engine.read_archive(&root.id, &full).await?;
    context.audit.record(who, "read-folder", root.object.clone(), own.clone()).await?;
    let whole = |_: FileError| root.object.rsplit('/').next().unwrap_or("files").to_owned();
    let file = split(&own).map_or_else(whole, |(_, name)| name);
    let held = root.held();
    let stream = pieces(body).map(move |piece| {
        let _held = &held;
        piece
    });
    Ok(streamed(TAR, &format!("{file}.tar"), stream))
}

/// Unpacks a tar archive into a folder.
pub(crate) async fn unpack_in(
    context: &FilesContext,
    who: &Identity,
    root: &FileRoot,
    wish: &PathEntry,
    body: Body,
) -> Result<StatusCode, ApiError> {
    let (full, own) = root.path(context, &wish.path).await?;
    need_folder(root, &full).await?;
    let closed = root.closed(context).await?.into_iter().map(|m| m.target).collect();
    let (outcome, trouble) = unpacking::unpack(&root.engine, &root.id, &full, closed, stream_of(body)).await;
    let outcome = taken(outcome, &trouble);
    let words = outcome
        .as_ref()
        .err()
        .map_or_else(|| own.clone(), |e| format!("{own}: refused: {}", e.problem.detail));
    context.audit.record(who, "write-folder", root.object.clone(), shown(&words, 400)).await?;
    outcome.map(|()| StatusCode::NO_CONTENT)
}

/// Lists a folder of a container, running or not.
#[utoipa::path(get, path = "/api/v1/containers/{host}/{container}/folder", tag = "files", params(PathEntry,
    ("host" = String, Path), ("container" = String, Path)), responses(
    (status = 200, body = Folder),
    (status = "default", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn folder(
    State(context): State<Arc<FilesContext>>,
    view: View,
    Path((host, name)): Path<(String, String)>,
    Params(wish): Params<PathEntry>,
) -> Result<Json<Folder>, ApiError> {
    folder_in(&context, &FileRoot::container(&context, &view, &host, &name)?, &wish).await
}

/// Downloads a file of a container.
#[utoipa::path(get, path = "/api/v1/containers/{host}/{container}/file", tag = "files", params(PathEntry,
    ("host" = String, Path), ("container" = String, Path)), responses(
    (status = 200, description = "The content of the file.", content_type = "application/octet-stream"),
    (status = "default", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn read(
    State(context): State<Arc<FilesContext>>,
    who: Identity,
    view: View,
    Path((host, name)): Path<(String, String)>,
    Params(wish): Params<PathEntry>,
) -> Result<Response, ApiError> {
    read_in(&context, &who, FileRoot::container(&context, &view, &host, &name)?, &wish).await
}

/// How many bytes have come of an interrupted upload; it is resumed from there. 0 means from the beginning.
#[utoipa::path(get, path = "/api/v1/containers/{host}/{container}/file-upload", tag = "files", params(UploadParams,
    ("host" = String, Path), ("container" = String, Path)), responses(
    (status = 200, body = Received),
    (status = "default", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn received(
    State(context): State<Arc<FilesContext>>,
    view: View,
    Path((host, name)): Path<(String, String)>,
    Params(wish): Params<UploadParams>,
) -> Result<Json<Received>, ApiError> {
    received_in(&context, &FileRoot::container(&context, &view, &host, &name)?, &wish).await
}

/// Uploads a file to a container. `Content-Length` is required.
#[utoipa::path(put, path = "/api/v1/containers/{host}/{container}/file", tag = "files", params(WriteTo,
    ("host" = String, Path), ("container" = String, Path)), request_body(content_type = "application/octet-stream"), responses(
    (status = 204),
    (status = "default", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn write(
    State(context): State<Arc<FilesContext>>,
    who: Identity,
    view: View,
    Path((host, name)): Path<(String, String)>,
    Params(wish): Params<WriteTo>,
    headers: HeaderMap,
    body: Body,
) -> Result<StatusCode, ApiError> {
    write_in(&context, &who, &FileRoot::container(&context, &view, &host, &name)?, &wish, &headers, body)
        .await
}

/// Downloads a path of a container, with everything below it, as a tar archive.
#[utoipa::path(get, path = "/api/v1/containers/{host}/{container}/archive", tag = "files", params(PathEntry,
    ("host" = String, Path), ("container" = String, Path)), responses(
    (status = 200, description = "A tar archive.", content_type = "application/x-tar"),
    (status = "default", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn fetch(
    State(context): State<Arc<FilesContext>>,
    who: Identity,
    view: View,
    Path((host, name)): Path<(String, String)>,
    Params(wish): Params<PathEntry>,
) -> Result<Response, ApiError> {
    fetch_in(&context, &who, FileRoot::container(&context, &view, &host, &name)?, &wish).await
}

/// Unpacks a tar archive into a folder of a container. Entries that lead outside of it are refused.
#[utoipa::path(put, path = "/api/v1/containers/{host}/{container}/archive", tag = "files", params(PathEntry,
    ("host" = String, Path), ("container" = String, Path)), request_body(content_type = "application/x-tar"), responses(
    (status = 204),
    (status = "default", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn unpack(
    State(context): State<Arc<FilesContext>>,
    who: Identity,
    view: View,
    Path((host, name)): Path<(String, String)>,
    Params(wish): Params<PathEntry>,
    body: Body,
) -> Result<StatusCode, ApiError> {
    unpack_in(&context, &who, &FileRoot::container(&context, &view, &host, &name)?, &wish, body).await
}
