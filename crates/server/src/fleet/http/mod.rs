//! The fleet over HTTP: snapshot, attention list, figures, hosts, containers and what they hold.

pub(crate) mod containers;
mod details;
mod errors;
pub(crate) mod hosts;
pub(crate) mod inventory;
pub(crate) mod snapshot;

use std::sync::Arc;

use axum::extract::{FromRef, FromRequestParts};
use axum::http::request::Parts;
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

use crate::access::{AccessContext, Identity};
use crate::fleet::{FleetContext, View};
use crate::web::{ApiError, Contexts};

/// The caller sees the fleet through their access.
impl<S: Send + Sync> FromRequestParts<S> for View
where
    Arc<AccessContext>: FromRef<S>,
    Arc<FleetContext>: FromRef<S>,
{
    type Rejection = ApiError;

    async fn from_request_parts(parts: &mut Parts, state: &S) -> Result<Self, ApiError> {
        let who = Identity::from_request_parts(parts, state).await?;
        Ok(Self::new(Arc::<FleetContext>::from_ref(state).hub.clone(), who.access))
    }
}

/// The routes of this capability.
pub(crate) fn routes() -> OpenApiRouter<Contexts> {
    OpenApiRouter::new()
        .routes(routes!(hosts::list, hosts::add))
        .routes(routes!(hosts::test))
        .routes(routes!(hosts::remove, hosts::set))
        .routes(routes!(snapshot::snapshot))
        .routes(routes!(snapshot::attention))
        .routes(routes!(snapshot::figures))
        .routes(routes!(containers::list))
        .routes(routes!(containers::show))
        .routes(routes!(containers::reveal))
        .routes(routes!(details::processes))
        .routes(routes!(details::changes))
        .routes(routes!(inventory::images))
        .routes(routes!(inventory::image))
        .routes(routes!(inventory::volumes))
        .routes(routes!(inventory::networks))
        .routes(routes!(inventory::stacks))
        .routes(routes!(inventory::ports))
}
