//! Resource usage, current and past, over HTTP.

pub(crate) mod ranking;
pub(crate) mod usage;

use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

use crate::web::Contexts;

/// The routes of this capability.
pub(crate) fn routes() -> OpenApiRouter<Contexts> {
    OpenApiRouter::new()
        .routes(routes!(usage::now))
        .routes(routes!(usage::history))
        .routes(routes!(ranking::ranking))
}
