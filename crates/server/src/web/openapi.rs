//! The API description (OpenAPI 3.1), assembled from the handlers.

use std::collections::BTreeMap;

use gubernum_api::{FromClient, FromServer, Problem};
use serde_json::{Value, json};
use utoipa::openapi::security::{HttpAuthScheme, HttpBuilder, SecurityScheme};
use utoipa::{Modify, OpenApi};

use crate::logs::http::container::Format;

#[derive(OpenApi)]
#[openapi(
    info(
        title = "Gubernum",
        description = "Every change is 'POST /api/v1/operations'; watching is 'GET /api/v1/live'. Times are RFC 3339 in UTC, \
                       sizes in bytes, durations in seconds. Errors are problem details (RFC 9457)."
    ),
    components(schemas(Problem, FromClient, FromServer, Format)),
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

/// The description with the paths, as it is told: every operation with an id of its own, and every refusal written out.
///
/// In the handlers `4XX` and `default` stand for the usual refusals, of the service alone or of an engine or registry
/// too; readers of the description get them one by one.
pub(crate) fn text(description: &utoipa::openapi::OpenApi) -> String {
    let mut all = serde_json::to_value(description).unwrap_or_default();
    let mut times: BTreeMap<String, usize> = BTreeMap::new();
    for_each_operation(&mut all, |_, operation| {
        *times.entry(id_of(operation)).or_default() += 1;
    });
    let unknown = crate::web::bounds::write(&mut all);
    if !unknown.is_empty() {
        tracing::error!(?unknown, "bounds without a place in the description");
    }
    for_each_operation(&mut all, |path, operation| {
        let id = id_of(operation);
        let is_shared = times.get(&id).is_some_and(|n| *n > 1);
        operation["operationId"] = Value::String(own_id(path, &id, is_shared));
        write_out(path, operation);
    });
    serde_json::to_string_pretty(&all).unwrap_or_default()
}

/// The id that an operation has in the description: with its place where others are called so too.
pub(super) fn own_id(path: &str, id: &str, is_shared: bool) -> String {
    if !is_shared {
        return id.to_owned();
    }
    let parts = path.split('/').filter(|p| !p.is_empty() && !p.starts_with('{') && *p != id);
    let place: Vec<&str> = parts.skip(2).collect();
    format!("{id}_{}", place.join("_").replace('-', "_"))
}

fn id_of(operation: &Value) -> String {
    operation["operationId"].as_str().unwrap_or_default().to_owned()
}

fn for_each_operation(all: &mut Value, mut act: impl FnMut(&str, &mut Value)) {
    let paths = all["paths"].as_object_mut().into_iter().flatten();
    for (path, item) in paths {
        for (_, operation) in item.as_object_mut().into_iter().flatten() {
            if operation.get("responses").is_some() {
                act(path, operation);
            }
        }
    }
}

/// What each refusal means.
fn meaning(status: u16) -> &'static str {
    match status {
        400 => "Malformed request",
        401 => "Not signed in",
        403 => "Not allowed",
        404 => "Not found",
        405 => "This address does not take that method",
        408 => "Timed out while reading the body",
        409 => "Conflict with the current state",
        413 => "The body is too large",
        415 => "Unsupported content type",
        421 => "Unknown host name",
        422 => "Invalid request",
        429 => "Too many requests",
        500 => "Internal error",
        502 => "The engine or the registry failed",
        503 => "Temporarily unavailable",
        _ => "Refused",
    }
}

fn write_out(path: &str, operation: &mut Value) {
    let has_body = operation.get("requestBody").is_some();
    let Some(responses) = operation["responses"].as_object_mut() else { return };
    let beyond = responses.remove("default").is_some();
    let refusals = responses.remove("4XX").is_some() || beyond;
    if !refusals {
        return;
    }
    let mut statuses = vec![400, 401, 403, 404, 409, 421, 422, 429, 500, 503];
    if has_body {
        statuses.extend([408, 413, 415]);
    }
    if beyond {
        statuses.push(502);
    }
    if path.ends_with("/live") {
        statuses.push(426);
    }
    for status in statuses {
        responses.entry(status.to_string()).or_insert_with(|| {
            json!({
                "description": meaning(status),
                "content": {"application/problem+json": {"schema": {"$ref": "#/components/schemas/Problem"}}},
            })
        });
    }
}
