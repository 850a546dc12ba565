//! Registries, builds and image archives over HTTP.

mod archives;
mod builds;
mod checks;
pub(crate) mod registries;

use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

use crate::images::CheckError;
use crate::web::ApiError;
use crate::web::Contexts;

/// The routes of this capability.
pub(crate) fn routes() -> OpenApiRouter<Contexts> {
    OpenApiRouter::new()
        .routes(routes!(registries::list, registries::set))
        .routes(routes!(registries::test))
        .routes(routes!(registries::remove))
        .routes(routes!(registries::tags))
        .routes(routes!(registries::search))
        .routes(routes!(checks::image_checks, checks::check_images))
        .routes(routes!(builds::build))
        .routes(routes!(archives::export_image, archives::import_images))
}

impl From<CheckError> for ApiError {
    fn from(error: CheckError) -> Self {
        match error {
            CheckError::Store(error) => error.into(),
            CheckError::Join(error) => Self::new("internal", "Internal error", 500, error.to_string()),
        }
    }
}
