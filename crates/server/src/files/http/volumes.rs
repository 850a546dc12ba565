//! Files of volumes, and their data as a whole. What is done with a file is in `files`.

use std::sync::Arc;

use axum::Json;
use axum::body::Body;
use axum::extract::{Path, State};
use axum::http::{HeaderMap, StatusCode};
use axum::response::Response;
use futures_util::StreamExt;
use gubernum_api::Problem;
use gubernum_api::files::{FileChange, Folder, Received};
use gubernum_engine::hostfs::PLACE;

use crate::access::Identity;
use crate::files::FilesContext;
use crate::files::http::changes::change_in;
use crate::files::http::containers::{
    PathEntry, UploadParams, WriteTo, fetch_in, folder_in, read_in, received_in, taken, unpack_in, write_in,
};
use crate::files::http::root::FileRoot;
use crate::files::pieces;
use crate::files::unpacking;
use crate::web::bodies::{TAR, stream_of, streamed};
use crate::web::extract::{Body as JsonBody, Params};
use crate::web::problem::ApiError;

/// The entries of a folder of a volume.
#[utoipa::path(get, path = "/api/v1/volumes/{host}/{volume}/folder", tag = "files", params(PathEntry,
    ("host" = String, Path), ("volume" = String, Path)), responses(
    (status = 200, body = Folder),
    (status = "default", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn folder(
    State(context): State<Arc<FilesContext>>,
    _who: Identity,
    Path((host, name)): Path<(String, String)>,
    Params(wish): Params<PathEntry>,
) -> Result<Json<Folder>, ApiError> {
    folder_in(&context, &FileRoot::volume(&context, &host, &name, false).await?, &wish).await
}

/// Downloads a file of a volume.
#[utoipa::path(get, path = "/api/v1/volumes/{host}/{volume}/file", tag = "files", params(PathEntry,
    ("host" = String, Path), ("volume" = String, Path)), responses(
    (status = 200, description = "The content of the file.", content_type = "application/octet-stream"),
    (status = "default", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn read(
    State(context): State<Arc<FilesContext>>,
    who: Identity,
    Path((host, name)): Path<(String, String)>,
    Params(wish): Params<PathEntry>,
) -> Result<Response, ApiError> {
    read_in(&context, &who, FileRoot::volume(&context, &host, &name, false).await?, &wish).await
}

/// How many bytes have come of an interrupted upload; it is resumed from there. 0 means from the beginning.
#[utoipa::path(get, path = "/api/v1/volumes/{host}/{volume}/file-upload", tag = "files", params(UploadParams,
    ("host" = String, Path), ("volume" = String, Path)), responses(
    (status = 200, body = Received),
    (status = "default", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn received(
    State(context): State<Arc<FilesContext>>,
    _who: Identity,
    Path((host, name)): Path<(String, String)>,
    Params(wish): Params<UploadParams>,
) -> Result<Json<Received>, ApiError> {
    received_in(&context, &FileRoot::volume(&context, &host, &name, true).await?, &wish).await
}

/// Uploads a file to a volume. `Content-Length` is required.
#[utoipa::path(put, path = "/api/v1/volumes/{host}/{volume}/file", tag = "files", params(WriteTo,
    ("host" = String, Path), ("volume" = String, Path)), request_body(content_type = "application/octet-stream"), responses(
    (status = 204),
    (status = "default", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn write(
    State(context): State<Arc<FilesContext>>,
    who: Identity,
    Path((host, name)): Path<(String, String)>,
    Params(wish): Params<WriteTo>,
    headers: HeaderMap,
    body: Body,
) -> Result<StatusCode, ApiError> {
    write_in(&context, &who, &FileRoot::volume(&context, &host, &name, true).await?, &wish, &headers, body)
        .await
}

/// Downloads a path of a volume, with everything below it, as a tar archive.
#[utoipa::path(get, path = "/api/v1/volumes/{host}/{volume}/archive", tag = "files", params(PathEntry,
    ("host" = String, Path), ("volume" = String, Path)), responses(
    (status = 200, description = "A tar archive.", content_type = "application/x-tar"),
    (status = "default", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn fetch(
    State(context): State<Arc<FilesContext>>,
    who: Identity,
    Path((host, name)): Path<(String, String)>,
    Params(wish): Params<PathEntry>,
) -> Result<Response, ApiError> {
    fetch_in(&context, &who, FileRoot::volume(&context, &host, &name, false).await?, &wish).await
}

/// Unpacks a tar archive into a folder of a volume. Entries that lead outside of it are refused.
#[utoipa::path(put, path = "/api/v1/volumes/{host}/{volume}/archive", tag = "files", params(PathEntry,
    ("host" = String, Path), ("volume" = String, Path)), request_body(content_type = "application/x-tar"), responses(
    (status = 204),
    (status = "default", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn unpack(
    State(context): State<Arc<FilesContext>>,
    who: Identity,
    Path((host, name)): Path<(String, String)>,
    Params(wish): Params<PathEntry>,
    body: Body,
) -> Result<StatusCode, ApiError> {
    unpack_in(&context, &who, &FileRoot::volume(&context, &host, &name, true).await?, &wish, body).await
}

/// Creates a folder, renames, deletes, or sets permissions and owner in a volume that a running container mounts. Audited.
#[utoipa::path(post, path = "/api/v1/volumes/{host}/{volume}/file-changes", tag = "files",
    params(("host" = String, Path), ("volume" = String, Path)), request_body = FileChange, responses(
    (status = 204),
    (status = "default", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn change(
    State(context): State<Arc<FilesContext>>,
    who: Identity,
    Path((host, name)): Path<(String, String)>,
    JsonBody(wish): JsonBody<FileChange>,
) -> Result<StatusCode, ApiError> {
    change_in(&context, &who, &FileRoot::volume(&context, &host, &name, true).await?, &wish).await
}

/// Downloads the data of a volume as a tar archive.
#[utoipa::path(get, path = "/api/v1/volumes/{host}/{volume}/data", tag = "files", params(
    ("host" = String, Path), ("volume" = String, Path)), responses(
    (status = 200, description = "A tar archive.", content_type = "application/x-tar"),
    (status = "default", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn data(
    State(context): State<Arc<FilesContext>>,
    who: Identity,
    Path((host, volume)): Path<(String, String)>,
) -> Result<Response, ApiError> {
    let root = FileRoot::helped(&context, &host, &volume, true).await?;
    // What is in it, not the place where it is mounted.
    let body = root.engine.read_archive(&root.id, &format!("{PLACE}/.")).await?;
    context.audit.record(&who, "read-volume", root.object.clone(), "begun".to_owned()).await?;
    let held = root.held();
    let stream = pieces(body).map(move |piece| {
        let _held = &held;
        piece
    });
    Ok(streamed(TAR, &format!("{volume}.tar"), stream))
}

/// Unpacks a tar archive into a volume; existing files of the same names are overwritten, the rest stays.
#[utoipa::path(put, path = "/api/v1/volumes/{host}/{volume}/data", tag = "files", params(
    ("host" = String, Path), ("volume" = String, Path)), request_body(content_type = "application/x-tar"), responses(
    (status = 204),
    (status = "default", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn restore(
    State(context): State<Arc<FilesContext>>,
    who: Identity,
    Path((host, volume)): Path<(String, String)>,
    body: Body,
) -> Result<StatusCode, ApiError> {
    let root = FileRoot::helped(&context, &host, &volume, false).await?;
    let (outcome, trouble) =
        unpacking::unpack(&root.engine, &root.id, PLACE, Vec::new(), stream_of(body)).await;
    taken(outcome, &trouble)?;
    context.audit.record(&who, "write-volume", root.object.clone(), "succeeded".to_owned()).await?;
    Ok(StatusCode::NO_CONTENT)
}
