//! The team over HTTP.

mod freezes;
mod notes;
mod snoozes;

use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

use crate::web::Contexts;

/// The routes of this capability.
pub(crate) fn routes() -> OpenApiRouter<Contexts> {
    OpenApiRouter::new()
        .routes(routes!(freezes::list, freezes::freeze))
        .routes(routes!(freezes::lift))
        .routes(routes!(snoozes::list, snoozes::snooze))
        .routes(routes!(snoozes::lift))
        .routes(routes!(notes::list, notes::write))
        .routes(routes!(notes::change, notes::remove))
        .routes(routes!(notes::seen))
        .routes(routes!(notes::team))
}
