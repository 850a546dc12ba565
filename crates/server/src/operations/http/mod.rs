//! Operations, leftovers, preferences and image checks over HTTP.

mod errors;
pub(crate) mod operations;
pub(crate) mod tidy;

use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

use crate::web::Contexts;

/// The routes of this capability.
pub(crate) fn routes() -> OpenApiRouter<Contexts> {
    OpenApiRouter::new()
        .routes(routes!(operations::list, operations::submit))
        .routes(routes!(operations::preview))
        .routes(routes!(operations::show))
        .routes(routes!(operations::containers))
        .routes(routes!(operations::cancel))
        .routes(routes!(operations::retry))
        .routes(routes!(tidy::leftovers))
        .routes(routes!(tidy::keep))
        .routes(routes!(tidy::preferences, tidy::set_preferences))
}
