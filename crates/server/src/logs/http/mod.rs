//! Logs and the rules by which lines are kept, over HTTP.

pub(crate) mod container;
mod errors;
mod merged;
pub(crate) mod rules;

use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

use crate::app::App;

/// The routes of this capability.
pub(crate) fn routes() -> OpenApiRouter<App> {
    OpenApiRouter::new()
        .routes(routes!(rules::list, rules::add))
        .routes(routes!(rules::remove))
        .routes(routes!(merged::read_many))
        .routes(routes!(container::read))
}
