//! The HTTP interface: routes, and what stands before and behind every one of them.
//!
//! Handlers are grouped by what they are about; [`extract`] reads requests, [`problem`] is every error,
//! [`guard`] refuses what other sites try and sets the headers that browsers need.

pub(crate) mod authenticate;
pub(crate) mod beside;
mod builds;
mod commands;
mod console;
mod containers;
mod definitions;
mod details;
pub(crate) mod extract;
mod file_changes;
mod files;
mod fleet;
pub(crate) mod guard;
mod health;
mod hosts;
mod image_archives;
mod inventory;
mod keeping;
mod logs;
mod many_logs;
pub(crate) mod openapi;
mod operations;
pub mod problem;
pub mod proxies;
mod refusals;
mod registries;
mod sessions;
pub(crate) mod spots;
mod terminals;
mod tidy;
mod timeline;
mod tokens;
mod usage;
mod volume_files;

use axum::Router;
use axum::extract::DefaultBodyLimit;
use axum::middleware::from_fn_with_state;
use axum::routing::get;
use tower_http::compression::CompressionLayer;
use tower_http::compression::predicate::{DefaultPredicate, NotForContentType, Predicate};
use tower_http::trace::TraceLayer;
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

use crate::app::App;
pub(crate) use containers::{engine as engine_of, find_text as find_container};
use problem::ApiError;

/// The described part of the interface.
pub(crate) fn described() -> OpenApiRouter<App> {
    OpenApiRouter::with_openapi(openapi::base())
        .routes(routes!(health::healthz))
        .routes(routes!(health::readyz))
        .routes(routes!(sessions::service))
        .routes(routes!(sessions::claim))
        .routes(routes!(sessions::list, sessions::sign_in))
        .routes(routes!(sessions::current, sessions::sign_out))
        .routes(routes!(sessions::end))
        .routes(routes!(sessions::ticket))
        .routes(routes!(tokens::list, tokens::make))
        .routes(routes!(tokens::revoke))
        .routes(routes!(hosts::list, hosts::add))
        .routes(routes!(hosts::test))
        .routes(routes!(hosts::remove, hosts::set))
        .routes(routes!(fleet::snapshot))
        .routes(routes!(fleet::attention))
        .routes(routes!(fleet::figures))
        .routes(routes!(fleet::audit))
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
        .routes(routes!(usage::now))
        .routes(routes!(usage::history))
        .routes(routes!(timeline::list))
        .routes(routes!(keeping::list, keeping::add))
        .routes(routes!(keeping::remove))
        .routes(routes!(many_logs::read_many))
        .routes(routes!(logs::read))
        .routes(routes!(operations::list, operations::submit))
        .routes(routes!(operations::preview))
        .routes(routes!(operations::show))
        .routes(routes!(operations::cancel))
        .routes(routes!(operations::retry))
        .routes(routes!(definitions::show))
        .routes(routes!(definitions::earlier))
        .routes(routes!(definitions::translate))
        .routes(routes!(definitions::variables))
        .routes(routes!(registries::list, registries::set))
        .routes(routes!(registries::test))
        .routes(routes!(registries::remove))
        .routes(routes!(registries::tags))
        .routes(routes!(registries::search))
        .routes(routes!(tidy::leftovers))
        .routes(routes!(tidy::keep))
        .routes(routes!(tidy::preferences, tidy::set_preferences))
        .routes(routes!(tidy::image_checks, tidy::check_images))
        .routes(routes!(builds::build))
        .routes(routes!(file_changes::change))
        .routes(routes!(files::folder))
        .routes(routes!(files::read, files::write))
        .routes(routes!(files::fetch, files::unpack))
        .routes(routes!(files::received))
        .routes(routes!(volume_files::received))
        .routes(routes!(volume_files::folder))
        .routes(routes!(volume_files::read, volume_files::write))
        .routes(routes!(volume_files::fetch, volume_files::unpack))
        .routes(routes!(volume_files::change))
        .routes(routes!(volume_files::data, volume_files::restore))
        .routes(routes!(image_archives::export_image, image_archives::import_images))
        .routes(routes!(terminals::shells))
        .routes(routes!(terminals::list, terminals::open))
        .routes(routes!(terminals::hold, terminals::close))
        .routes(routes!(commands::run))
        .routes(routes!(commands::run_fresh))
        .routes(routes!(crate::live::connect))
}

/// The description of the interface (OpenAPI 3.1) as JSON text.
pub fn description() -> String {
    openapi::text(&described().split_for_parts().1)
}

/// Everything the service answers.
pub(crate) fn router(app: App) -> Router {
    let (api, description) = described().split_for_parts();
    let description = openapi::text(&description);
    let compress = CompressionLayer::new().gzip(true).compress_when(
        DefaultPredicate::new()
            .and(NotForContentType::const_new(logs::NDJSON))
            .and(NotForContentType::const_new("application/gzip"))
            .and(NotForContentType::const_new("application/x-tar"))
            .and(NotForContentType::const_new("application/octet-stream"))
            .and(NotForContentType::const_new("text/plain")),
    );
    api.layer(from_fn_with_state(app.clone(), authenticate::authenticate))
        .route("/openapi.json", get(async move || ([("content-type", "application/json")], description)))
        .route(
            "/api/{*rest}",
            axum::routing::any(async || {
                ApiError::not_found("there is nothing at this address of the API; see /openapi.json")
            }),
        )
        .fallback(console::serve)
        .method_not_allowed_fallback(async || {
            ApiError::new(
                "method",
                "Method not allowed",
                405,
                "this address does not take that method; see /openapi.json",
            )
        })
        .layer(DefaultBodyLimit::max(extract::BODY_LIMIT))
        .layer(axum::middleware::from_fn(refusals::as_problems))
        .layer(compress)
        .layer(from_fn_with_state(app.clone(), guard::refuse_other_sites))
        .layer(from_fn_with_state(app.clone(), guard::refuse_unknown_names))
        .layer(from_fn_with_state(app.clone(), proxies::find_client))
        .layer(from_fn_with_state(app.clone(), guard::headers))
        .layer(TraceLayer::new_for_http())
        .with_state(app)
}
