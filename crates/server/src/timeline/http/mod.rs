//! The timeline over HTTP.

mod timeline;

use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

use crate::app::App;

/// The routes of this capability.
pub(crate) fn routes() -> OpenApiRouter<App> {
    OpenApiRouter::new().routes(routes!(timeline::list))
}
