//! Images, volumes, networks, stacks and ports over all hosts.

use std::sync::Arc;

use axum::Json;
use axum::extract::{Path, State};
use gubernum_api::views::{ImageDetail, ImageStep};
use gubernum_api::{ImageRow, NetworkRow, PortRow, Problem, StackRow, VolumeRow};
use gubernum_core::fleet::Fleet;
use gubernum_core::inventory;
use serde::Deserialize;
use serde_json::Value;
use utoipa::IntoParams;

use crate::fleet::FleetContext;
use crate::fleet::View;
use crate::fleet::http::containers::masked_environment;
use crate::web::extract::Params;
use crate::web::problem::ApiError;
use crate::web::query::known_host;

/// Narrows a list down.
#[derive(Debug, Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
#[into_params(parameter_in = Query)]
pub(crate) struct OnHost {
    /// Only on this host.
    host: Option<String>,
    /// Only unused ones.
    unused: Option<bool>,
}

/// Works a list out on a thread that may take its time: a large fleet has many images.
async fn list<T: Send + 'static>(view: &View, of: fn(&Fleet) -> Vec<T>) -> Vec<T> {
    let view = view.clone();
    tokio::task::spawn_blocking(move || of(&view.snapshot())).await.unwrap_or_default()
}

/// All images, largest first. An image on several hosts is one row.
#[utoipa::path(get, path = "/api/v1/images", tag = "assets", params(OnHost), responses(
    (status = 200, body = Vec<ImageRow>),
    (status = "4XX", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn images(
    view: View,
    Params(wish): Params<OnHost>,
) -> Result<Json<Vec<ImageRow>>, ApiError> {
    known_host(&view, wish.host.as_deref())?;
    let mut rows = list(&view, inventory::images).await;
    if let Some(host) = &wish.host {
        rows.iter_mut().for_each(|r| r.copies.retain(|c| c.host == *host));
    }
    if wish.unused == Some(true) {
        rows.iter_mut().for_each(|r| r.copies.retain(|c| c.used_by.is_empty()));
    }
    rows.retain(|r| !r.copies.is_empty());
    Ok(Json(rows))
}

/// All volumes by host and name.
#[utoipa::path(get, path = "/api/v1/volumes", tag = "assets", params(OnHost), responses(
    (status = 200, body = Vec<VolumeRow>),
    (status = "4XX", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn volumes(
    view: View,
    Params(wish): Params<OnHost>,
) -> Result<Json<Vec<VolumeRow>>, ApiError> {
    known_host(&view, wish.host.as_deref())?;
    let mut rows = list(&view, inventory::volumes).await;
    rows.retain(|r| {
        wish.host.as_deref().is_none_or(|h| h == r.host)
            && (wish.unused != Some(true) || r.used_by.is_empty())
    });
    Ok(Json(rows))
}

/// All networks by host and name.
#[utoipa::path(get, path = "/api/v1/networks", tag = "assets", params(OnHost), responses(
    (status = 200, body = Vec<NetworkRow>),
    (status = "4XX", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn networks(
    view: View,
    Params(wish): Params<OnHost>,
) -> Result<Json<Vec<NetworkRow>>, ApiError> {
    known_host(&view, wish.host.as_deref())?;
    let mut rows = list(&view, inventory::networks).await;
    rows.retain(|r| {
        let unused = r.members.is_empty() && !r.built_in;
        wish.host.as_deref().is_none_or(|h| h == r.host) && (wish.unused != Some(true) || unused)
    });
    Ok(Json(rows))
}

/// All stacks, from the labels of their containers, whoever started them.
#[utoipa::path(get, path = "/api/v1/stacks", tag = "assets", responses(
    (status = 200, body = Vec<StackRow>),
    (status = "4XX", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn stacks(view: View) -> Json<Vec<StackRow>> {
    Json(list(&view, inventory::stacks).await)
}

/// Narrows the list of ports down.
#[derive(Debug, Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
#[into_params(parameter_in = Query)]
pub(crate) struct PortParams {
    /// Only on this host.
    host: Option<String>,
    /// Only this host port.
    port: Option<u16>,
}

/// Published ports, by host and port.
#[utoipa::path(get, path = "/api/v1/ports", tag = "assets", params(PortParams), responses(
    (status = 200, body = Vec<PortRow>),
    (status = "4XX", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn ports(
    view: View,
    Params(wish): Params<PortParams>,
) -> Result<Json<Vec<PortRow>>, ApiError> {
    known_host(&view, wish.host.as_deref())?;
    let mut rows = list(&view, inventory::ports).await;
    rows.retain(|r| {
        wish.host.as_deref().is_none_or(|h| h == r.host) && wish.port.is_none_or(|p| p == r.port)
    });
    Ok(Json(rows))
}

/// One image in full, by tag, ID or ID prefix.
#[utoipa::path(get, path = "/api/v1/images/{image}", tag = "assets", params(("image" = String, Path)), responses(
    (status = 200, body = ImageDetail),
    (status = "default", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn image(
    State(context): State<Arc<FleetContext>>,
    view: View,
    Path(wanted): Path<String>,
) -> Result<Json<ImageDetail>, ApiError> {
    let rows = list(&view, inventory::images).await;
    let row = find_image(rows, &wanted)?;
    // Any host that is reachable can tell: the image is the same on all of them.
    let reachable = row.copies.iter().find_map(|c| context.links.engine(&c.host).ok());
    let engine = match (reachable, row.copies.first()) {
        (Some(engine), _) => engine,
        (None, Some(copy)) => context.links.engine(&copy.host)?,
        (None, None) => return Err(ApiError::not_found("no host has this image")),
    };
    let (raw, steps) = tokio::try_join!(engine.inspect_image(&row.id), engine.image_steps(&row.id))?;
    let mut raw = raw;
    let environment = masked_environment(&mut raw);
    let texts = |pointer: &str| -> Vec<String> {
        let list = raw.pointer(pointer).and_then(Value::as_array);
        list.into_iter().flatten().filter_map(Value::as_str).map(str::to_owned).collect()
    };
    let text = |pointer: &str| raw.pointer(pointer).and_then(Value::as_str).unwrap_or_default().to_owned();
    let ports = raw.pointer("/Config/ExposedPorts").and_then(Value::as_object);
    Ok(Json(ImageDetail {
        command: [texts("/Config/Entrypoint"), texts("/Config/Cmd")].concat(),
        user: text("/Config/User"),
        working_folder: text("/Config/WorkingDir"),
        ports: ports.map(|p| p.keys().cloned().collect()).unwrap_or_default(),
        steps: steps
            .into_iter()
            .map(|s| ImageStep { command: s.command, created: s.created, size: s.size, comment: s.comment })
            .collect(),
        environment,
        image: row,
        raw,
    }))
}

fn find_image(rows: Vec<ImageRow>, wanted: &str) -> Result<ImageRow, ApiError> {
    let bare = gubernum_core::assets::bare_id(wanted);
    let by_tag =
        |r: &ImageRow| r.tags.iter().any(|t| t == wanted || t.strip_suffix(":latest") == Some(wanted));
    let by_end = |r: &ImageRow| r.tags.iter().any(|t| t.ends_with(&format!("/{wanted}")));
    let by_id = |r: &ImageRow| bare.len() >= 4 && r.id.starts_with(bare);
    for fits in [&by_tag as &dyn Fn(&ImageRow) -> bool, &by_id, &by_end] {
        let found: Vec<&ImageRow> = rows.iter().filter(|r| fits(r)).collect();
        match found.as_slice() {
            [] => {}
            [one] => return Ok((*one).clone()),
            many => {
                let mut error = ApiError::new(
                    "ambiguous",
                    "Ambiguous image",
                    409,
                    format!(
                        "'{}' matches {} images; use an ID",
                        gubernum_core::text::shown(wanted, 80),
                        many.len()
                    ),
                );
                error.problem.candidates =
                    many.iter().take(10).map(|r| r.id[..12.min(r.id.len())].to_owned()).collect();
                return Err(error);
            }
        }
    }
    let text = format!("no host has an image '{}'", gubernum_core::text::shown(wanted, 120));
    Err(ApiError::not_found(text))
}
