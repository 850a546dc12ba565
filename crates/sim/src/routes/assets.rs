//! The part of the API for images, volumes, networks and builds.

use super::*;

pub(super) async fn images(State(shared): Engine) -> Response {
    axum::Json(holdings::images(&shared.engine.state.lock())).into_response()
}

/// Splits `some/image:tag/json` at its last part.
fn last_part(rest: &str) -> (&str, &str) {
    rest.rsplit_once('/').unwrap_or((rest, ""))
}

pub(super) async fn image(State(shared): Engine, Path(rest): Path<String>) -> Response {
    let (name, what) = last_part(&rest);
    if what == "get" {
        return match shared.engine.save_image(name) {
            Ok(archive) => ([("content-type", "application/x-tar")], archive).into_response(),
            Err(refusal) => refuse(refusal),
        };
    }
    let state = shared.engine.state.lock();
    match (holdings::find_image(&state, name), what) {
        (Some((id, image)), "json") => axum::Json(holdings::image(id, image)).into_response(),
        (Some((_, image)), "history") => axum::Json(holdings::image_steps(image)).into_response(),
        _ => refuse((404, format!("No such image: {name}"))),
    }
}

#[derive(Deserialize)]
#[serde(rename_all = "camelCase")]
pub(super) struct ImageParams {
    #[serde(default)]
    from_image: String,
    #[serde(default)]
    from_src: String,
    #[serde(default)]
    repo: String,
    #[serde(default)]
    tag: String,
    platform: Option<String>,
    #[serde(default)]
    force: String,
}

fn joined(name: &str, tag: &str) -> String {
    match tag {
        "" => format!("{name}:latest"),
        tag if tag.starts_with("sha256:") => format!("{name}@{tag}"),
        tag => format!("{name}:{tag}"),
    }
}

pub(super) async fn create_image(
    State(shared): Engine,
    Query(params): Query<ImageParams>,
    headers: HeaderMap,
    body: Bytes,
) -> Response {
    if params.from_src == "-" {
        let name = joined(&params.repo, &params.tag);
        let size = body.len() as u64;
        let image = holdings::SimImage {
            config: Some(json!({})),
            ..holdings::SimImage::new(vec![name.clone()], size, 0, jiff::Timestamp::now(), "amd64")
        };
        shared.engine.state.lock().holdings.images.insert(answers::image_id(&name), image);
        shared.engine.emit_other("image", &name, "import");
        return axum::Json(json!({"status": answers::image_id(&name)})).into_response();
    }
    let name = joined(&params.from_image, &params.tag);
    crate::transfer::pull(shared.engine.clone(), name, params.platform, &headers).await
}

pub(super) async fn change_image(
    State(shared): Engine,
    Path(rest): Path<String>,
    Query(params): Query<ImageParams>,
) -> Response {
    let (name, what) = last_part(&rest);
    match what {
        "tag" => match shared.engine.tag(name, &joined(&params.repo, &params.tag)) {
            Ok(()) => StatusCode::CREATED.into_response(),
            Err(refusal) => refuse(refusal),
        },
        "push" => {
            let bare = match name.rsplit_once(':') {
                Some((before, tag)) if !tag.contains('/') => before,
                _ => name,
            };
            crate::transfer::push(shared.engine.clone(), joined(bare, &params.tag)).await
        }
        _ => refuse((404, "page not found".to_owned())),
    }
}

pub(super) async fn load_images(State(shared): Engine, body: Bytes) -> Response {
    match shared.engine.load_images(&body) {
        Ok(said) => format!("{}\n", json!({ "stream": said })).into_response(),
        Err(refusal) => refuse(refusal),
    }
}

pub(super) async fn remove_image(
    State(shared): Engine,
    Path(name): Path<String>,
    Query(params): Query<ImageParams>,
) -> Response {
    answered(shared.engine.untag(&name, streams::truth(&params.force)))
}

pub(super) fn answered(outcome: Result<Value, Refusal>) -> Response {
    match outcome {
        Ok(value) => (StatusCode::OK, axum::Json(value)).into_response(),
        Err(refusal) => refuse(refusal),
    }
}

pub(super) fn done(outcome: Result<(), Refusal>) -> Response {
    changed(outcome.map(|()| true))
}

pub(super) async fn make_volume(State(shared): Engine, body: axum::Json<Value>) -> Response {
    answered(shared.engine.make_volume(&body))
}

pub(super) async fn volume(State(shared): Engine, Path(name): Id) -> Response {
    let known = shared.engine.state.lock().holdings.volumes.contains_key(&name);
    if known {
        return axum::Json(json!({"Name": name, "Driver": "local"})).into_response();
    }
    refuse((404, format!("get {name}: no such volume")))
}

pub(super) async fn remove_volume(State(shared): Engine, Path(name): Id) -> Response {
    done(shared.engine.remove_volume(&name))
}

pub(super) async fn make_network(State(shared): Engine, body: axum::Json<Value>) -> Response {
    answered(shared.engine.make_network(body.0))
}

pub(super) async fn network(State(shared): Engine, Path(id): Id) -> Response {
    answered(shared.engine.network(&id).map(|name| {
        let state = shared.engine.state.lock();
        state.holdings.networks.get(&name).map_or(Value::Null, |n| holdings::network(&name, n))
    }))
}

pub(super) async fn remove_network(State(shared): Engine, Path(id): Id) -> Response {
    done(shared.engine.remove_network(&id))
}

pub(super) async fn connect(State(shared): Engine, Path(id): Id, body: axum::Json<Value>) -> Response {
    let container = body["Container"].as_str().unwrap_or_default();
    done(shared.engine.join(&id, container, Some(body["EndpointConfig"].clone())))
}

pub(super) async fn disconnect(State(shared): Engine, Path(id): Id, body: axum::Json<Value>) -> Response {
    done(shared.engine.join(&id, body["Container"].as_str().unwrap_or_default(), None))
}

/// Takes a context for what its build file says, without doing it.
pub(super) async fn build(
    State(shared): Engine,
    Query(params): Query<Vec<(String, String)>>,
    body: Bytes,
) -> Response {
    let all = |wanted: &'static str| {
        params.iter().filter(move |(name, _)| name == wanted).map(|(_, value)| value.clone())
    };
    let tags: Vec<String> = all("t").collect();
    let file = all("dockerfile").next().unwrap_or_default();
    let mut text = String::new();
    if all("remote").next().is_none() {
        let mut archive = tar::Archive::new(body.as_ref());
        for mut entry in archive.entries().into_iter().flatten().flatten() {
            let wanted = entry.path().is_ok_and(|p| p.to_string_lossy() == file);
            if wanted {
                let _ = std::io::Read::read_to_string(&mut entry, &mut text);
            }
        }
        if text.is_empty() {
            return refuse((500, format!("Cannot locate specified Dockerfile: {file}")));
        }
    }
    let steps: Vec<&str> = text.lines().filter(|l| !l.trim().is_empty()).collect();
    let mut said: String = steps
        .iter()
        .enumerate()
        .map(|(n, step)| {
            format!("{}\n", json!({"stream": format!("Step {}/{} : {step}\n", n + 1, steps.len())}))
        })
        .collect();
    if text.contains("RUN false") {
        let error = "The command '/bin/sh -c false' returned a non-zero code: 1";
        said.push_str(&format!("{}\n", json!({"errorDetail": {"message": error}, "error": error})));
        return said.into_response();
    }
    let image = holdings::SimImage::new(
        tags.clone(),
        (64 << 20) + body.len() as u64,
        28 << 20,
        jiff::Timestamp::now(),
        "amd64",
    );
    let id = answers::image_id(&format!("built {tags:?} {text}"));
    let mut state = shared.engine.state.lock();
    for other in state.holdings.images.values_mut() {
        other.tags.retain(|t| !tags.contains(t));
    }
    state.holdings.images.insert(id.clone(), image);
    drop(state);
    for tag in &tags {
        shared.engine.emit_other("image", tag, "tag");
    }
    said.push_str(&format!("{}\n", json!({"aux": {"ID": id}})));
    said.into_response()
}

pub(super) async fn empty_cache(State(shared): Engine) -> Response {
    let won = std::mem::take(&mut shared.engine.state.lock().holdings.cache);
    axum::Json(json!({"CachesDeleted": [], "SpaceReclaimed": won})).into_response()
}
