//! The description of the interface (OpenAPI 3.1), put together from the handlers themselves.

use gubernum_api::{FromClient, FromServer, Problem};
use utoipa::openapi::security::{HttpAuthScheme, HttpBuilder, SecurityScheme};
use utoipa::{Modify, OpenApi};

#[derive(OpenApi)]
#[openapi(
    info(
        title = "Gubernum",
        description = "Every change is `POST /api/v1/operations`; watching is `GET /api/v1/live`. Times are RFC 3339 in UTC, \
                       sizes in bytes, durations in seconds. Errors are problem details (RFC 9457)."
    ),
    components(schemas(Problem, FromClient, FromServer)),
    modifiers(&Token),
    security(("token" = []))
)]
struct Base;

struct Token;

impl Modify for Token {
    fn modify(&self, openapi: &mut utoipa::openapi::OpenApi) {
        let scheme =
            HttpBuilder::new().scheme(HttpAuthScheme::Bearer).description(Some("An API token")).build();
        openapi
            .components
            .get_or_insert_with(Default::default)
            .add_security_scheme("token", SecurityScheme::Http(scheme));
    }
}

/// The description without the paths, which the router adds.
pub(crate) fn base() -> utoipa::openapi::OpenApi {
    Base::openapi()
}
