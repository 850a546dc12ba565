//! Claiming, signing in and out, sessions and tokens over HTTP.

pub(crate) mod credentials;
mod errors;
pub(crate) mod sessions;
pub(crate) mod tokens;

use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

use crate::web::Contexts;

/// The routes of this capability.
pub(crate) fn routes() -> OpenApiRouter<Contexts> {
    OpenApiRouter::new()
        .routes(routes!(sessions::service))
        .routes(routes!(sessions::claim))
        .routes(routes!(sessions::list, sessions::sign_in))
        .routes(routes!(sessions::current, sessions::sign_out))
        .routes(routes!(sessions::end))
        .routes(routes!(sessions::ticket))
        .routes(routes!(tokens::list, tokens::make))
        .routes(routes!(tokens::revoke))
}
