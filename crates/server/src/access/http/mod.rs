//! Claiming, signing in and out, sessions, tokens, members, roles and invitations over HTTP.

mod approvals;
pub(crate) mod credentials;
mod directories;
mod errors;
pub(crate) mod invitations;
pub(crate) mod members;
mod openid;
mod profile;
mod roles;
mod second_factor;
pub(crate) mod sessions;
mod step_up;
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
        .routes(routes!(profile::show, profile::set))
        .routes(routes!(step_up::step_up, step_up::step_down))
        .routes(routes!(step_up::view_as, step_up::view_as_oneself))
        .routes(routes!(approvals::list))
        .routes(routes!(approvals::decide, approvals::withdraw))
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
        .routes(routes!(openid::begin))
        .routes(routes!(openid::callback))
        .routes(routes!(openid::finish))
        .routes(routes!(openid::logout))
        .routes(routes!(openid::end))
        .routes(routes!(directories::list))
        .routes(routes!(directories::set, directories::remove))
        .routes(routes!(directories::test))
}
