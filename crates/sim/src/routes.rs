//! The engine's HTTP interface: paths to transitions and answers, with the faults in between.

use std::sync::Arc;

use axum::Router;
use axum::body::{Body, Bytes};
use axum::extract::{DefaultBodyLimit, Path, Query, Request, State};
use axum::http::{StatusCode, header};
use axum::middleware::{Next, from_fn_with_state};
use axum::response::{IntoResponse, Response};
use axum::routing::{delete, get, post};
use futures_util::StreamExt;
use http_body_util::BodyExt;
use serde::Deserialize;
use serde_json::{Value, json};

use crate::answers;
use crate::faults::Fault;
use crate::host::Shared;
use crate::life::Refusal;
use crate::spec::ContainerSpec;
use crate::streams;

pub(crate) fn router(shared: Arc<Shared>) -> Router {
    let api = Router::new()
        .route("/_ping", get(async || "OK"))
        .route("/version", get(async || axum::Json(answers::version())))
        .route("/info", get(info))
        .route("/events", get(events))
        .route("/containers/json", get(list))
        .route("/containers/create", post(create))
        .route("/containers/{id}/json", get(inspect))
        .route("/containers/{id}/start", post(start))
        .route("/containers/{id}/stop", post(stop))
        .route("/containers/{id}/restart", post(restart))
        .route("/containers/{id}/kill", post(kill))
        .route("/containers/{id}/rename", post(rename))
        .route("/containers/{id}/logs", get(logs))
        .route("/containers/{id}", delete(remove));
    Router::new()
        .merge(api.clone())
        .nest("/v1.41", api.clone())
        .nest("/v1.40", api)
        .layer(DefaultBodyLimit::max(1024 * 1024))
        .layer(from_fn_with_state(shared.clone(), misbehave))
        .with_state(shared)
}

async fn misbehave(State(shared): State<Arc<Shared>>, request: Request, next: Next) -> Response {
    let fault = *shared.fault.read();
    match fault {
        Fault::None | Fault::Refusing => next.run(request).await,
        Fault::Slow(pause) => {
            tokio::time::sleep(pause).await;
            next.run(request).await
        }
        Fault::Hung => std::future::pending().await,
        Fault::Nonsense => "<html><body>It works!</body></html>".into_response(),
        Fault::Failing => refuse((500, "disk I/O error on the engine's own store".to_owned())),
        Fault::CutShort => {
            let (parts, body) = next.run(request).await.into_parts();
            let whole = body.collect().await.map(|b| b.to_bytes()).unwrap_or_default();
            let half = whole.slice(..whole.len() / 2);
            let parts_of_body = [Ok(half), Err(std::io::Error::other("cut short on demand"))];
            let mut response =
                Response::from_parts(parts, Body::from_stream(futures_util::stream::iter(parts_of_body)));
            response.headers_mut().remove(header::CONTENT_LENGTH);
            response
        }
    }
}

type Engine = State<Arc<Shared>>;
type Id = Path<String>;

fn refuse((status, message): Refusal) -> Response {
    let status = StatusCode::from_u16(status).unwrap_or(StatusCode::INTERNAL_SERVER_ERROR);
    (status, axum::Json(json!({ "message": message }))).into_response()
}

fn find(shared: &Shared, reference: &str) -> Result<String, Refusal> {
    shared.engine.find(reference).ok_or_else(|| crate::life::missing(reference))
}

fn changed(result: Result<bool, Refusal>) -> Response {
    match result {
        Ok(true) => StatusCode::NO_CONTENT.into_response(),
        Ok(false) => StatusCode::NOT_MODIFIED.into_response(),
        Err(refusal) => refuse(refusal),
    }
}

async fn info(State(shared): Engine) -> Response {
    let count = shared.engine.state.lock().containers.len();
    axum::Json(answers::info(&shared.engine.name, count)).into_response()
}

#[derive(Deserialize)]
struct EventParams {
    since: Option<String>,
}

async fn events(State(shared): Engine, Query(params): Query<EventParams>) -> Response {
    let cut = shared.cut.read().clone();
    let stream = streams::events(&shared.engine, params.since.as_deref()).into_data_stream();
    Body::from_stream(stream.take_until(cut.cancelled_owned())).into_response()
}

#[derive(Deserialize)]
struct ListParams {
    #[serde(default)]
    all: String,
}

async fn list(State(shared): Engine, Query(params): Query<ListParams>) -> Response {
    let all = streams::truth(&params.all);
    let state = shared.engine.state.lock();
    let shown: Vec<Value> =
        state.containers.values().filter(|c| all || c.status.alive()).map(answers::summary).collect();
    axum::Json(shown).into_response()
}

#[derive(Deserialize)]
struct NameParams {
    #[serde(default)]
    name: String,
}

async fn create(State(shared): Engine, Query(params): Query<NameParams>, body: Bytes) -> Response {
    let spec = match ContainerSpec::from_api(&params.name, &body) {
        Ok(spec) => spec,
        Err(message) => return refuse((400, message)),
    };
    match shared.engine.create(spec) {
        Ok(id) => (StatusCode::CREATED, axum::Json(json!({"Id": id, "Warnings": []}))).into_response(),
        Err(other) => {
            let text = format!(
                "Conflict. The container name \"/{}\" is already in use by container \"{other}\".",
                params.name
            );
            refuse((409, text))
        }
    }
}

async fn inspect(State(shared): Engine, Path(id): Id) -> Response {
    let found = find(&shared, &id).and_then(|id| {
        let state = shared.engine.state.lock();
        state.containers.get(&id).map(answers::inspect).ok_or_else(|| crate::life::missing(&id))
    });
    match found {
        Ok(value) => axum::Json(value).into_response(),
        Err(refusal) => refuse(refusal),
    }
}

#[derive(Deserialize)]
struct ChangeParams {
    t: Option<u32>,
    signal: Option<String>,
    #[serde(default)]
    force: String,
}

async fn start(State(shared): Engine, Path(id): Id) -> Response {
    changed(find(&shared, &id).and_then(|id| shared.engine.start(&id)))
}

async fn stop(State(shared): Engine, Path(id): Id, Query(params): Query<ChangeParams>) -> Response {
    match find(&shared, &id) {
        Ok(id) => changed(shared.engine.stop(&id, params.t).await),
        Err(refusal) => refuse(refusal),
    }
}

async fn restart(State(shared): Engine, Path(id): Id, Query(params): Query<ChangeParams>) -> Response {
    match find(&shared, &id) {
        Ok(id) => changed(shared.engine.restart(&id, params.t).await.map(|()| true)),
        Err(refusal) => refuse(refusal),
    }
}

async fn kill(State(shared): Engine, Path(id): Id, Query(params): Query<ChangeParams>) -> Response {
    let signal = params.signal.unwrap_or_else(|| "SIGKILL".to_owned());
    changed(find(&shared, &id).and_then(|id| shared.engine.kill(&id, &signal)).map(|()| true))
}

async fn rename(State(shared): Engine, Path(id): Id, Query(params): Query<NameParams>) -> Response {
    changed(find(&shared, &id).and_then(|id| shared.engine.rename(&id, &params.name)).map(|()| true))
}

async fn remove(State(shared): Engine, Path(id): Id, Query(params): Query<ChangeParams>) -> Response {
    let force = streams::truth(&params.force);
    changed(find(&shared, &id).and_then(|id| shared.engine.remove(&id, force)).map(|()| true))
}

async fn logs(State(shared): Engine, Path(id): Id, Query(params): Query<streams::LogParams>) -> Response {
    if !streams::truth(&params.stdout) && !streams::truth(&params.stderr) {
        return refuse((400, "Bad parameters: you must choose at least one stream".to_owned()));
    }
    let cut = shared.cut.read().clone();
    let body = find(&shared, &id).and_then(|id| {
        streams::logs(&shared.engine, &id, &params, cut.clone()).ok_or_else(|| crate::life::missing(&id))
    });
    match body {
        Ok(body) => {
            Body::from_stream(body.into_data_stream().take_until(cut.cancelled_owned())).into_response()
        }
        Err(refusal) => refuse(refusal),
    }
}
