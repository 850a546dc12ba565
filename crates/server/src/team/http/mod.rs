//! The team over HTTP.

mod freezes;

use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

use crate::web::Contexts;

/// The routes of this capability.
pub(crate) fn routes() -> OpenApiRouter<Contexts> {
    OpenApiRouter::new().routes(routes!(freezes::list, freezes::freeze)).routes(routes!(freezes::lift))
}
