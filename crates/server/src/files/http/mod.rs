//! Files of containers and volumes over HTTP.

mod changes;
pub(crate) mod containers;
mod errors;
pub(crate) mod root;
pub(crate) mod upload;
mod volumes;

use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

use crate::web::Contexts;

/// The routes of this capability.
pub(crate) fn routes() -> OpenApiRouter<Contexts> {
    OpenApiRouter::new()
        .routes(routes!(changes::change))
        .routes(routes!(containers::folder))
        .routes(routes!(containers::read, containers::write))
        .routes(routes!(containers::fetch, containers::unpack))
        .routes(routes!(containers::received))
        .routes(routes!(volumes::received))
        .routes(routes!(volumes::folder))
        .routes(routes!(volumes::read, volumes::write))
        .routes(routes!(volumes::fetch, volumes::unpack))
        .routes(routes!(volumes::change))
        .routes(routes!(volumes::data, volumes::restore))
}
