//! Terminals and one-off commands over HTTP.

mod commands;
mod errors;
mod root;
mod terminals;

use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

use crate::web::Contexts;

/// The routes of this capability.
pub(crate) fn routes() -> OpenApiRouter<Contexts> {
    OpenApiRouter::new()
        .routes(routes!(terminals::shells))
        .routes(routes!(terminals::list, terminals::open))
        .routes(routes!(terminals::hold, terminals::close))
        .routes(routes!(commands::run))
        .routes(routes!(commands::run_fresh))
}
