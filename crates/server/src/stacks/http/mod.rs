//! Definitions and the revisions of stacks, over HTTP.

mod definitions;
mod revisions;

use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

use crate::web::Contexts;

/// The routes of this capability.
pub(crate) fn routes() -> OpenApiRouter<Contexts> {
    OpenApiRouter::new()
        .routes(routes!(definitions::show))
        .routes(routes!(definitions::clone))
        .routes(routes!(definitions::earlier))
        .routes(routes!(definitions::translate))
        .routes(routes!(definitions::variables))
        .routes(routes!(revisions::list))
        .routes(routes!(revisions::definition))
        .routes(routes!(revisions::difference))
        .routes(routes!(revisions::check))
        .routes(routes!(revisions::drifts))
        .routes(routes!(revisions::drift))
        .routes(routes!(revisions::text))
        .routes(routes!(revisions::adopt))
}
