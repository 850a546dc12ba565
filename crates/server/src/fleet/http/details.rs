//! Processes and changed files of a container.

use std::sync::Arc;

use axum::Json;
use axum::extract::{Path, State};
use gubernum_api::Problem;
use gubernum_api::views::{ChangedFile, Processes};

use crate::fleet::FleetContext;
use crate::fleet::View;
use crate::web::problem::ApiError;

/// The most changed files that are reported.
const MOST_FILES: usize = 20_000;

/// The processes of a running container.
#[utoipa::path(get, path = "/api/v1/containers/{host}/{container}/processes", tag = "containers",
    params(("host" = String, Path), ("container" = String, Path)), responses(
    (status = 200, body = Processes),
    (status = "default", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn processes(
    State(context): State<Arc<FleetContext>>,
    view: View,
    Path((host, name)): Path<(String, String)>,
) -> Result<Json<Processes>, ApiError> {
    let c = view.find_on(&host, &name)?;
    if !c.state.is_alive() {
        let text = format!("'{}' is not running, so it has no processes", c.reference());
        return Err(ApiError::new("not-running", "Not running", 409, text));
    }
    let (titles, mut processes) = context.links.engine(&c.host)?.processes(&c.id).await?;
    for text in processes.iter_mut().flatten() {
        *text = gubernum_core::text::shown(&gubernum_core::mask::text(text), 2000);
    }
    Ok(Json(Processes { titles, processes }))
}

/// The files in which a container differs from its image.
#[utoipa::path(get, path = "/api/v1/containers/{host}/{container}/changes", tag = "containers",
    params(("host" = String, Path), ("container" = String, Path)), responses(
    (status = 200, body = Vec<ChangedFile>),
    (status = "default", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn changes(
    State(context): State<Arc<FleetContext>>,
    view: View,
    Path((host, name)): Path<(String, String)>,
) -> Result<Json<Vec<ChangedFile>>, ApiError> {
    let c = view.find_on(&host, &name)?;
    let mut files = context.links.engine(&c.host)?.changed_files(&c.id).await?;
    files.sort();
    let word = |kind| match kind {
        1 => "added",
        2 => "deleted",
        _ => "changed",
    };
    Ok(Json(
        files
            .into_iter()
            .take(MOST_FILES)
            .map(|(path, kind)| ChangedFile { path, change: word(kind).to_owned() })
            .collect(),
    ))
}
