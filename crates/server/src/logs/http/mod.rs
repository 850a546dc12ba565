//! Logs and log retention rules, over HTTP.

pub(crate) mod container;
mod errors;
mod merged;
pub(crate) mod rules;

use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

use crate::web::Contexts;

/// The routes of this capability.
pub(crate) fn routes() -> OpenApiRouter<Contexts> {
    OpenApiRouter::new()
        .routes(routes!(rules::list, rules::add))
        .routes(routes!(rules::remove))
        .routes(routes!(merged::read_merged))
        .routes(routes!(container::read))
}
