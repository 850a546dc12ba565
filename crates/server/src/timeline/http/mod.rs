//! The timeline over HTTP.

pub(crate) mod audit;
mod records;
mod timeline;

use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

use crate::web::Contexts;

/// The routes of this capability.
pub(crate) fn routes() -> OpenApiRouter<Contexts> {
    OpenApiRouter::new()
        .routes(routes!(timeline::list))
        .routes(routes!(audit::audit))
        .routes(routes!(audit::export))
        .routes(routes!(records::show_syslog, records::set_syslog, records::remove_syslog))
        .routes(routes!(records::rotate_seal))
}
