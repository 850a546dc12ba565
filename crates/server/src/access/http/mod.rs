//! Claiming, signing in and out, sessions, tokens, members, roles and invitations over HTTP.

pub(crate) mod credentials;
mod errors;
pub(crate) mod invitations;
pub(crate) mod members;
mod roles;
mod second_factor;
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
        .routes(routes!(sessions::change_password))
        .routes(routes!(second_factor::begin, second_factor::confirm, second_factor::remove))
        .routes(routes!(members::list))
        .routes(routes!(members::show, members::set, members::remove))
        .routes(routes!(members::end_sessions))
        .routes(routes!(members::own_rights))
        .routes(routes!(roles::list, roles::set))
        .routes(routes!(roles::remove))
        .routes(routes!(invitations::list, invitations::invite))
        .routes(routes!(invitations::reset))
        .routes(routes!(invitations::withdraw))
        .routes(routes!(invitations::show))
        .routes(routes!(invitations::accept))
        .routes(routes!(tokens::list, tokens::make))
        .routes(routes!(tokens::revoke))
}
