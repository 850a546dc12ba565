//! Containers of the fleet.

use std::sync::Arc;

use axum::Json;
use axum::extract::{Path, State};
use axum::http::{HeaderMap, header};
use axum::response::Response;
use bytes::Bytes;
use gubernum_api::requests::Reveal;
use gubernum_api::views::{ContainerDetail, Variable};
use gubernum_api::{Container, Problem, State as ContainerState};
use gubernum_core::mask::{MASK, Masker, looks_secret};
use gubernum_core::reference::Reference;
use serde::Deserialize;
use serde_json::Value;
use utoipa::IntoParams;

use crate::access::Identity;
use crate::access::hash_secret;
use crate::fleet::FleetContext;
use crate::fleet::View;
use crate::web::conditional::unless_known;
use crate::web::extract::{Body, Params};
use crate::web::problem::ApiError;
use crate::web::query::known_host;

/// Which containers are wanted.
#[derive(Debug, Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
#[into_params(parameter_in = Query)]
pub(crate) struct Wanted {
    /// Only on this host.
    host: Option<String>,
    /// Only in this state.
    state: Option<ContainerState>,
    /// Only of this stack.
    stack: Option<String>,
    /// Only matches of this reference, e.g. `*/frost-*`.
    reference: Option<String>,
}

/// All containers, or those that match. The answer has an `ETag`; with `If-None-Match` the service answers 304 when
/// nothing has changed.
#[utoipa::path(get, path = "/api/v1/containers", tag = "containers", params(Wanted), responses(
    (status = 200, body = Vec<Container>, headers(("ETag" = String, description = "Revision of the fleet"))),
    (status = 304, description = "Unchanged since the answer whose tag was shown"),
    (status = "4XX", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn list(
    view: View,
    Params(wanted): Params<Wanted>,
    headers: HeaderMap,
) -> Result<Response, ApiError> {
    let reference = wanted.reference.as_deref().map(str::parse::<Reference>).transpose();
    let reference = reference.map_err(|e| ApiError::from(e).at("?reference"))?;
    known_host(&view, wanted.host.as_deref())?;
    let everything =
        wanted.host.is_none() && wanted.state.is_none() && wanted.stack.is_none() && reference.is_none();
    let body = || {
        if everything {
            return view.listing();
        }
        Bytes::from(view.containers_json(|c| {
            wanted.host.as_deref().is_none_or(|h| h == c.host)
                && wanted.state.is_none_or(|s| s == c.state)
                && wanted.stack.as_deref().is_none_or(|s| c.stack.as_deref() == Some(s))
                && reference.as_ref().is_none_or(|r| r.matches_name(c))
        }))
    };
    let kind = [(header::CONTENT_TYPE, "application/json")];
    match view.tag() {
        Some(tag) => Ok(unless_known(&headers, &tag, || (kind, body()))),
        None => {
            // A tag of the fleet's state would tell when something changes that is not seen.
            let json = body();
            let hash = hash_secret(&String::from_utf8_lossy(&json));
            let tag: String = hash.iter().take(12).map(|b| format!("{b:02x}")).collect();
            Ok(unless_known(&headers, &tag, || (kind, json)))
        }
    }
}

/// One container in full, as the engine has it now. The name may also be the beginning of its id, and
/// the host `-` when the name is the only one in the fleet.
#[utoipa::path(get, path = "/api/v1/containers/{host}/{container}", tag = "containers",
    params(("host" = String, Path), ("container" = String, Path)), responses(
    (status = 200, body = ContainerDetail),
    (status = "default", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn show(
    State(context): State<Arc<FleetContext>>,
    view: View,
    Path((host, name)): Path<(String, String)>,
) -> Result<Json<ContainerDetail>, ApiError> {
    let container = view.find_on(&host, &name)?;
    let mut raw = context.links.engine(&container.host)?.inspect(&container.id).await?.raw;
    let environment = masked_environment(&mut raw);
    Ok(Json(ContainerDetail { container, environment, raw }))
}

/// Masks what looks like a secret in the raw record, and gives the variables apart.
pub(crate) fn masked_environment(raw: &mut Value) -> Vec<Variable> {
    let mut variables = Vec::new();
    let mut masker = Masker::default();
    if let Some(list) = raw.pointer("/Config/Env").and_then(Value::as_array) {
        masker.learn(list.iter().filter_map(Value::as_str).filter_map(|entry| entry.split_once('=')));
    }
    masker.record(raw);
    let Some(list) = raw.pointer_mut("/Config/Env").and_then(Value::as_array_mut) else { return variables };
    for entry in list {
        let text = entry.as_str().unwrap_or_default();
        let (name, value) = text.split_once('=').unwrap_or((text, ""));
        let masked = value.contains(MASK) || looks_secret(name, value);
        let shown = if masked { MASK } else { value };
        variables.push(Variable { name: name.to_owned(), value: shown.to_owned(), masked });
        if masked {
            *entry = Value::String(format!("{name}={MASK}"));
        }
    }
    variables
}

/// Reveals a masked environment variable. Audited.
#[utoipa::path(post, path = "/api/v1/containers/{host}/{container}/reveal", tag = "containers",
    params(("host" = String, Path), ("container" = String, Path)), request_body = Reveal, responses(
    (status = 200, body = Variable),
    (status = "default", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn reveal(
    State(context): State<Arc<FleetContext>>,
    who: Identity,
    view: View,
    Path((host, name)): Path<(String, String)>,
    Body(wish): Body<Reveal>,
) -> Result<Json<Variable>, ApiError> {
    let container = view.find_on(&host, &name)?;
    let raw = context.links.engine(&container.host)?.inspect(&container.id).await?.raw;
    let list = raw.pointer("/Config/Env").and_then(Value::as_array);
    let value = list.into_iter().flatten().filter_map(Value::as_str).find_map(|entry| {
        let (name, value) = entry.split_once('=')?;
        (name == wish.variable).then(|| value.to_owned())
    });
    let Some(value) = value else {
        return Err(ApiError::not_found("the container has no variable of this name").at("/variable"));
    };
    let object = format!("{} {}", container.reference(), wish.variable);
    context.audit.record(&who, "show-secret", object, "succeeded").await?;
    Ok(Json(Variable { name: wish.variable, value, masked: false }))
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    #[test]
    fn secrets_are_masked_in_the_raw_record_too() {
        let mut raw = json!({"Config": {"Env": ["TZ=UTC", "DB_PASSWORD=pears", "EMPTY"]}});
        let variables = masked_environment(&mut raw);
        assert_eq!(variables.iter().filter(|v| v.masked).count(), 1);
        assert!(!raw.to_string().contains("pears"));
        assert_eq!(raw["Config"]["Env"][0], "TZ=UTC");
    }
}
