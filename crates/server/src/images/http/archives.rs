//! Images as archives that engines and OCI tools read: streamed both ways.

use std::sync::Arc;

use axum::Json;
use axum::body::Body;
use axum::extract::{Path, State};
use axum::response::Response;
use gubernum_api::Problem;
use gubernum_api::files::Imported;
use gubernum_core::text::shown;
use gubernum_engine::archives::Upload;
use serde::Deserialize;
use utoipa::IntoParams;

use crate::access::Identity;
use crate::files::pieces;
use crate::images::ImagesContext;
use crate::web::bodies::{TAR, stream_of, streamed};
use crate::web::extract::Params;
use crate::web::problem::ApiError;

/// Which image of a host.
#[derive(Debug, Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
#[into_params(parameter_in = Query)]
pub(crate) struct OfImage {
    /// Image and tag.
    image: String,
}

/// Exports an image with all its layers as an archive that engines and OCI tools read.
#[utoipa::path(get, path = "/api/v1/hosts/{name}/image-archive", tag = "files", params(OfImage, ("name" = String, Path)),
    responses(
    (status = 200, description = "An archive of the image.", content_type = "application/x-tar"),
    (status = "default", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn export_image(
    State(context): State<Arc<ImagesContext>>,
    who: Identity,
    Path(host): Path<String>,
    Params(wish): Params<OfImage>,
) -> Result<Response, ApiError> {
    let body = context.links.engine(&host)?.export_image(&wish.image).await?;
    context
        .audit
        .record(&who, "export-image", format!("{host}/{}", shown(&wish.image, 200)), "begun".to_owned())
        .await?;
    let name = wish.image.rsplit('/').next().unwrap_or("image").replace(':', "-");
    Ok(streamed(TAR, &format!("{name}.tar"), pieces(body)))
}

/// Imports the images of an archive.
#[utoipa::path(post, path = "/api/v1/hosts/{name}/image-archive", tag = "files", params(("name" = String, Path)),
    request_body(content_type = "application/x-tar"), responses(
    (status = 200, body = Imported),
    (status = "default", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn import_images(
    State(context): State<Arc<ImagesContext>>,
    who: Identity,
    Path(host): Path<String>,
    body: Body,
) -> Result<Json<Imported>, ApiError> {
    let upload: Upload = Box::pin(stream_of(body));
    let said = context.links.engine(&host)?.import_images(upload).await.map_err(|e| match e.status() {
        Some(_) => {
            let text = format!("'{host}' could not import it: {e}; use an archive as written by 'export'");
            ApiError::new("archive", "Archive rejected", 422, text)
        }
        None => e.into(),
    })?;
    context.audit.record(&who, "import-images", host, shown(&said, 400)).await?;
    Ok(Json(Imported { said }))
}
