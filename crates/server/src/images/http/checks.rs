//! Checks for newer images: their results, and starting one.

use std::sync::Arc;

use axum::Json;
use axum::extract::State;
use gubernum_api::Problem;
use gubernum_api::images::ImageCheck;

use crate::access::Identity;
use crate::images::update_checks::checks;
use crate::images::{ImagesContext, digest_checks, update_checks};
use crate::web::problem::ApiError;

/// Newer images, and the containers that run older ones.
#[utoipa::path(get, path = "/api/v1/image-checks", tag = "registries", responses(
    (status = 200, body = Vec<ImageCheck>),
    (status = "4XX", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn image_checks(
    State(context): State<Arc<ImagesContext>>,
    _who: Identity,
) -> Result<Json<Vec<ImageCheck>>, ApiError> {
    Ok(Json(checks(&context).await?))
}

/// Checks all registries for newer images now.
#[utoipa::path(post, path = "/api/v1/image-checks", tag = "registries", responses(
    (status = 200, body = Vec<ImageCheck>),
    (status = "4XX", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn check_images(
    State(context): State<Arc<ImagesContext>>,
    who: Identity,
) -> Result<Json<Vec<ImageCheck>>, ApiError> {
    context.audit.record(&who, "check-images", "registries", "begun").await?;
    update_checks::look(&context, true).await?;
    digest_checks::look(&context, true).await?;
    Ok(Json(checks(&context).await?))
}
