//! Jobs over HTTP: their state, runs and output. A job is run by an operation of the kind `run`.

use std::sync::Arc;

use axum::Json;
use axum::extract::{Path, State};
use gubernum_api::Problem;
use gubernum_api::jobs::{JobRow, JobRun, JobRunOutput};
use gubernum_core::rights::Right;
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

use crate::access::Identity;
use crate::fleet::View;
use crate::jobs::JobsContext;
use crate::web::{ApiError, Contexts};

/// The routes of this capability.
pub(crate) fn routes() -> OpenApiRouter<Contexts> {
    OpenApiRouter::new().routes(routes!(list)).routes(routes!(runs)).routes(routes!(output))
}

/// All jobs of deployed stacks, with their next run and last outcome.
#[utoipa::path(get, path = "/api/v1/jobs", tag = "stacks", operation_id = "jobs", responses(
    (status = 200, body = Vec<JobRow>),
    (status = "default", body = Problem, content_type = "application/problem+json"),
))]
async fn list(State(context): State<Arc<JobsContext>>, view: View) -> Json<Vec<JobRow>> {
    let rows = context.scheduler.rows().into_iter();
    Json(rows.filter(|row| view.sees_stack(&row.host, &row.stack)).collect())
}

/// Recent runs of a job, newest first.
#[utoipa::path(get, path = "/api/v1/jobs/{host}/{stack}/{service}/runs", tag = "stacks", operation_id = "job_runs",
    params(("host" = String, Path), ("stack" = String, Path), ("service" = String, Path)), responses(
    (status = 200, body = Vec<JobRun>),
    (status = "default", body = Problem, content_type = "application/problem+json"),
))]
async fn runs(
    State(context): State<Arc<JobsContext>>,
    _who: Identity,
    Path((host, stack, service)): Path<(String, String, String)>,
) -> Result<Json<Vec<JobRun>>, ApiError> {
    let is_known = context.scheduler.knows(&host, &stack, &service);
    let (at, of, name) = (host.clone(), stack.clone(), service.clone());
    let runs = context.db.run(move |store| store.job_runs(&at, &of, &name)).await?;
    if runs.is_empty() && !is_known {
        let reference = gubernum_core::text::shown(&format!("{host}/{stack}/{service}"), 120);
        return Err(ApiError::not_found(format!("no job '{reference}'; see 'gubernum list jobs'")));
    }
    Ok(Json(runs))
}

/// A run of a job with its output.
#[utoipa::path(get, path = "/api/v1/job-runs/{id}", tag = "stacks", operation_id = "job_run",
    params(("id" = u64, Path)), responses(
    (status = 200, body = JobRunOutput),
    (status = "default", body = Problem, content_type = "application/problem+json"),
))]
async fn output(
    State(context): State<Arc<JobsContext>>,
    view: View,
    Path(id): Path<u64>,
) -> Result<Json<JobRunOutput>, ApiError> {
    match context.db.run(move |store| store.job_run(id)).await? {
        Some((run, output, cut)) if view.on_stack(&run.host, &run.stack).has(Right::ReadLogs) => {
            Ok(Json(JobRunOutput { run, output, cut }))
        }
        _ => Err(ApiError::not_found(format!("the run {id} is not kept"))),
    }
}
