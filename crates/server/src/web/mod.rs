//! The router, and the layers around every route of every capability.
//!
//! [`extract`] reads requests, [`problem`] is every error, [`guard`] refuses what other sites try and sets the headers that
//! browsers need. The routes themselves are in the `http` module of each capability.

pub(crate) mod authenticate;
pub(crate) mod authorize;
pub(crate) mod bodies;
mod bounds;
pub(crate) mod conditional;
mod console;
mod context;
pub(crate) mod descriptors;
pub(crate) mod extract;
pub(crate) mod guard;
mod health;
pub(crate) mod openapi;
pub mod problem;
pub mod proxies;
pub(crate) mod query;
mod refusals;
pub mod tls;
pub(crate) mod write_timeout;

use std::sync::{Arc, LazyLock};

use axum::Router;
use axum::extract::DefaultBodyLimit;
use axum::middleware::from_fn_with_state;
use axum::routing::get;
use bytes::Bytes;
use tower_http::compression::CompressionLayer;
use tower_http::compression::predicate::{DefaultPredicate, NotForContentType, Predicate};
use tower_http::trace::TraceLayer;
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

use crate::{
    access, exec, files, fleet, images, jobs, live, logs, metrics, operations, sources, stacks, team,
    timeline, usage,
};
pub(crate) use context::{Contexts, WebContext, start};
pub(crate) use guard::Names;

/// The media type of JSON lines.
pub(crate) const NDJSON: &str = "application/x-ndjson";

pub(crate) use problem::ApiError;
pub use proxies::Subnet;

/// The described part of the interface.
pub(crate) fn described() -> OpenApiRouter<Contexts> {
    OpenApiRouter::with_openapi(openapi::base())
        .routes(routes!(health::healthz))
        .routes(routes!(health::readyz))
        .merge(access::http::routes())
        .merge(fleet::http::routes())
        .merge(usage::http::routes())
        .merge(timeline::http::routes())
        .merge(logs::http::routes())
        .merge(operations::http::routes())
        .merge(stacks::http::routes())
        .merge(sources::http::routes())
        .merge(jobs::http::routes())
        .merge(images::http::routes())
        .merge(files::http::routes())
        .merge(exec::http::routes())
        .merge(team::http::routes())
        .merge(metrics::http::routes())
        .merge(live::http::routes())
}

/// The description of the interface (OpenAPI 3.1) as JSON text.
pub fn description() -> String {
    openapi::text(&described().split_for_parts().1)
}

/// Everything the service answers.
///
/// # Errors
/// When a call is in no table of rights.
pub(crate) fn router(contexts: Contexts) -> Result<Router, authorize::Unguarded> {
    let (api, description) = described().split_for_parts();
    let gate = authorize::Gate::new(&description, &contexts)?;
    // Written when somebody asks for it: the service answers the sooner.
    let description = Arc::new(LazyLock::new(move || Bytes::from(openapi::text(&description))));
    let compress = CompressionLayer::new().gzip(true).compress_when(
        DefaultPredicate::new()
            .and(NotForContentType::const_new(NDJSON))
            .and(NotForContentType::const_new("application/gzip"))
            .and(NotForContentType::const_new("application/x-tar"))
            .and(NotForContentType::const_new("application/octet-stream"))
            .and(NotForContentType::const_new("text/plain")),
    );
    let router = api
        .layer(from_fn_with_state(gate, authorize::authorize))
        .layer(from_fn_with_state(contexts.access.clone(), authenticate::authenticate))
        .route(
            "/openapi.json",
            get(async move || {
                ([("content-type", "application/json")], LazyLock::force(&description).clone())
            }),
        )
        .route(
            "/api/{*rest}",
            axum::routing::any(async || ApiError::not_found("unknown API address; see /openapi.json")),
        )
        .fallback(console::serve)
        .method_not_allowed_fallback(async || {
            ApiError::new("method", "Method not allowed", 405, "method not allowed here; see /openapi.json")
        })
        .layer(DefaultBodyLimit::max(extract::BODY_LIMIT))
        .layer(axum::middleware::from_fn(refusals::as_problems))
        .layer(compress)
        .layer(from_fn_with_state(contexts.web.clone(), guard::refuse_other_sites))
        .layer(from_fn_with_state(contexts.web.clone(), guard::refuse_unknown_names))
        .layer(from_fn_with_state(contexts.web.clone(), proxies::find_client))
        .layer(from_fn_with_state(contexts.web.clone(), guard::headers))
        .layer(TraceLayer::new_for_http())
        .with_state(contexts);
    Ok(router)
}
