//! The engine's HTTP API: paths to transitions and answers, with injected faults in between.

mod assets;

use std::sync::Arc;

use axum::Router;
use axum::body::{Body, Bytes};
use axum::extract::{DefaultBodyLimit, Path, Query, Request, State};
use axum::http::{HeaderMap, StatusCode, header};
use axum::middleware::{Next, from_fn_with_state};
use axum::response::{IntoResponse, Response};
use axum::routing::{delete, get, post};
use futures_util::StreamExt;
use http_body_util::BodyExt;
use serde::Deserialize;
use serde_json::{Value, json};

use crate::answers;
use crate::engine::SimContainer;
use crate::faults::Fault;
use crate::holdings;
use crate::host::Shared;
use crate::life::Refusal;
use crate::spec::ContainerSpec;
use crate::streams;
use assets::{
    answered, build, change_image, connect, create_image, disconnect, done, empty_cache, image, images,
    load_images, make_network, make_volume, network, remove_image, remove_network, remove_volume, volume,
};

pub(crate) fn router(shared: Arc<Shared>) -> Router {
    let api = Router::new()
        .route("/_ping", get(async || "OK"))
        .route("/version", get(version))
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
        .route("/containers/{id}/stats", get(stats))
        .route("/containers/{id}/top", get(top))
        .route("/containers/{id}/changes", get(changes))
        .route("/images/json", get(images))
        .route("/images/create", post(create_image))
        .route("/images/load", post(load_images))
        .route("/images/{*rest}", get(image).post(change_image).delete(remove_image))
        .route("/volumes", get(volumes))
        .route("/volumes/create", post(make_volume))
        .route("/volumes/{name}", get(volume).delete(remove_volume))
        .route("/networks", get(networks))
        .route("/networks/create", post(make_network))
        .route("/networks/{id}", get(network).delete(remove_network))
        .route("/networks/{id}/connect", post(connect))
        .route("/networks/{id}/disconnect", post(disconnect))
        .route("/build", post(build))
        .route("/build/prune", post(empty_cache))
        .route("/containers/{id}/exec", post(prepare_exec))
        .route("/containers/{id}/attach", post(attach))
        .route("/containers/{id}/resize", post(resize_own))
        .route("/exec/{id}/start", post(start_exec))
        .route("/exec/{id}/resize", post(resize_exec))
        .route("/exec/{id}/json", get(exec_state))
        .route("/containers/{id}/pause", post(pause))
        .route("/containers/{id}/unpause", post(unpause))
        .route("/containers/{id}/update", post(update))
        .route("/containers/{id}/archive", get(read_archive).head(stat_archive).put(write_archive))
        .route("/libpod/containers/{id}/healthcheck", get(async || StatusCode::OK))
        .route("/system/df", get(disk_use))
        .route("/libpod/containers/{id}/json", get(inspect))
        .route("/libpod/info", get(own_info))
        .route("/libpod/containers/stats", get(own_stats))
        .route("/libpod/containers/{id}/top", get(top))
        .route("/containers/{id}", delete(remove));
    Router::new()
        .merge(api.clone())
        .nest("/v1.41", api.clone())
        .nest("/v1.40", api)
        .layer(DefaultBodyLimit::max(64 * 1024 * 1024))
        .layer(from_fn_with_state(shared.clone(), misbehave))
        .with_state(shared)
}

async fn misbehave(State(shared): State<Arc<Shared>>, request: Request, next: Next) -> Response {
    let fault = *shared.fault.read();
    match fault {
        Fault::None | Fault::Refusing | Fault::HastyLogs => next.run(request).await,
        Fault::Slow(pause) => {
            tokio::time::sleep(pause).await;
            next.run(request).await
        }
        Fault::Hung => std::future::pending().await,
        Fault::Nonsense => "<html><body>It works!</body></html>".into_response(),
        Fault::Failing => refuse((500, "disk I/O error in the engine's store".to_owned())),
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

fn is_podman(shared: &Shared) -> bool {
    shared.engine.podman.load(std::sync::atomic::Ordering::Relaxed)
}

async fn version(State(shared): Engine) -> Response {
    axum::Json(answers::version(is_podman(&shared))).into_response()
}

async fn info(State(shared): Engine) -> Response {
    let state = shared.engine.state.lock();
    axum::Json(answers::info(&shared.engine.name, &state, is_podman(&shared))).into_response()
}

/// An answer about one container.
fn of_container(
    shared: &Shared,
    id: &str,
    answer: impl FnOnce(&SimContainer) -> Result<Value, Refusal>,
) -> Response {
    let found = find(shared, id).and_then(|id| {
        let state = shared.engine.state.lock();
        state.containers.get(&id).ok_or_else(|| crate::life::missing(&id)).and_then(answer)
    });
    match found {
        Ok(value) => axum::Json(value).into_response(),
        Err(refusal) => refuse(refusal),
    }
}

async fn stats(State(shared): Engine, Path(id): Id) -> Response {
    of_container(&shared, &id, |c| Ok(holdings::sample(&shared.engine, c)))
}

async fn top(State(shared): Engine, Path(id): Id) -> Response {
    of_container(&shared, &id, |c| {
        if !c.status.alive() {
            return Err((409, format!("Container {} is not running", c.id)));
        }
        Ok(holdings::processes(c))
    })
}

async fn changes(State(shared): Engine, Path(id): Id) -> Response {
    of_container(&shared, &id, |c| Ok(holdings::changes(c)))
}

async fn prepare_exec(State(shared): Engine, Path(id): Id, body: axum::Json<Value>) -> Response {
    answered(find(&shared, &id).and_then(|id| shared.engine.prepare_exec(&id, &body)))
}

async fn start_exec(State(shared): Engine, Path(id): Id, request: Request) -> Response {
    shared.engine.start_exec(&id, request).unwrap_or_else(refuse)
}

async fn attach(State(shared): Engine, Path(id): Id, request: Request) -> Response {
    find(&shared, &id)
        .and_then(|id| crate::attach::attach(&shared.engine, &id, request))
        .unwrap_or_else(refuse)
}

async fn resize_own(State(shared): Engine, Path(id): Id) -> Response {
    done(find(&shared, &id).and_then(|id| crate::attach::resizable(&shared.engine, &id)))
}

async fn exec_state(State(shared): Engine, Path(id): Id) -> Response {
    answered(shared.engine.exec_state(&id))
}

#[derive(Deserialize)]
struct SizeParams {
    #[serde(default)]
    w: u16,
    #[serde(default)]
    h: u16,
}

async fn resize_exec(State(shared): Engine, Path(id): Id, Query(params): Query<SizeParams>) -> Response {
    done(shared.engine.resize_exec(&id, params.w, params.h))
}

async fn pause(State(shared): Engine, Path(id): Id) -> Response {
    done(find(&shared, &id).and_then(|id| shared.engine.freeze(&id, true)))
}

async fn unpause(State(shared): Engine, Path(id): Id) -> Response {
    done(find(&shared, &id).and_then(|id| shared.engine.freeze(&id, false)))
}

async fn update(State(shared): Engine, Path(id): Id, body: axum::Json<Value>) -> Response {
    let outcome = find(&shared, &id).and_then(|id| shared.engine.update(&id, &body));
    answered(outcome.map(|()| json!({"Warnings": null})))
}

#[derive(Deserialize)]
struct PathParams {
    #[serde(default)]
    path: String,
}

/// The place of a path inside a container.
fn place(shared: &Shared, id: &str, path: &str) -> Result<String, Refusal> {
    let id = find(shared, id)?;
    let state = shared.engine.state.lock();
    let c = state.containers.get(&id).ok_or_else(|| crate::life::missing(&id))?;
    Ok(crate::files::place(c, path))
}

const STAT: &str = "x-docker-container-path-stat";

async fn stat_archive(State(shared): Engine, Path(id): Id, Query(params): Query<PathParams>) -> Response {
    let place = match place(&shared, &id, &params.path) {
        Ok(place) => place,
        Err(refusal) => return refuse(refusal),
    };
    match shared.engine.state.lock().holdings.files.stat(&params.path, &place) {
        Some(stat) => [(STAT, stat)].into_response(),
        None => refuse((404, format!("Could not find the file {} in container {id}", params.path))),
    }
}

async fn read_archive(State(shared): Engine, Path(id): Id, Query(params): Query<PathParams>) -> Response {
    let place = match place(&shared, &id, &params.path) {
        Ok(place) => place,
        Err(refusal) => return refuse(refusal),
    };
    let state = shared.engine.state.lock();
    let files = &state.holdings.files;
    match (files.stat(&params.path, &place), files.archive(&params.path, &place)) {
        (Some(stat), Ok(Some(archive))) => {
            ([(STAT, stat), ("content-type", "application/x-tar".to_owned())], archive).into_response()
        }
        (_, Err(error)) => refuse((500, error.to_string())),
        _ => refuse((404, format!("Could not find the file {} in container {id}", params.path))),
    }
}

async fn write_archive(
    State(shared): Engine,
    Path(id): Id,
    Query(params): Query<PathParams>,
    body: Bytes,
) -> Response {
    let outcome = place(&shared, &id, &params.path)
        .and_then(|place| shared.engine.state.lock().holdings.files.unpack(&place, &body));
    match outcome {
        Ok(()) => StatusCode::OK.into_response(),
        Err(refusal) => refuse(refusal),
    }
}

async fn volumes(State(shared): Engine) -> Response {
    axum::Json(holdings::volumes(&shared.engine.state.lock())).into_response()
}

async fn networks(State(shared): Engine) -> Response {
    axum::Json(holdings::networks(&shared.engine.state.lock())).into_response()
}

async fn disk_use(State(shared): Engine) -> Response {
    axum::Json(holdings::disk_use(&shared.engine.state.lock())).into_response()
}

async fn own_info(State(shared): Engine) -> Response {
    axum::Json(holdings::own_info(&shared.engine.state.lock())).into_response()
}

async fn own_stats(State(shared): Engine) -> Response {
    axum::Json(holdings::samples(&shared.engine, &shared.engine.state.lock())).into_response()
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
    let sent: Value = match serde_json::from_slice(&body) {
        Ok(sent) => sent,
        Err(error) => return refuse((400, format!("invalid JSON: {error}"))),
    };
    let name = sent["Image"].as_str().unwrap_or_default();
    let image = holdings::find_image(&shared.engine.state.lock(), name).map(|(_, image)| image.config());
    let Some(image) = image else { return refuse((404, format!("No such image: {name}"))) };
    let body = crate::files::with_image(sent, &image);
    let spec = match ContainerSpec::from_api(&params.name, &body) {
        Ok(spec) => spec,
        Err(message) => return refuse((400, message)),
    };
    for network in body["NetworkingConfig"]["EndpointsConfig"].as_object().into_iter().flatten() {
        if let Err(refusal) = shared.engine.network(network.0) {
            return refuse(refusal);
        }
    }
    match shared.engine.create_with(spec, body) {
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
    let is_hasty = *shared.fault.read() == Fault::HastyLogs;
    let body = find(&shared, &id).and_then(|id| {
        streams::logs(&shared.engine, &id, &params, is_hasty, cut.clone())
            .ok_or_else(|| crate::life::missing(&id))
    });
    match body {
        Ok(body) => {
            Body::from_stream(body.into_data_stream().take_until(cut.cancelled_owned())).into_response()
        }
        Err(refusal) => refuse(refusal),
    }
}
