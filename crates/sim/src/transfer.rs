//! Pulls and pushes of images: a simulated engine asks a registry as a real one does, and takes over the metadata of
//! the image, but no layers.

use std::sync::Arc;
use std::time::Duration;

use axum::body::{Body, Bytes};
use axum::http::{HeaderMap, StatusCode};
use axum::response::{IntoResponse, Response};
use base64::Engine as _;
use http_body_util::BodyExt;
use hyper_util::client::legacy::Client;
use hyper_util::rt::TokioExecutor;
use jiff::Timestamp;
use serde_json::{Value, json};
use tokio::sync::mpsc;
use tokio_stream::StreamExt;
use tokio_stream::wrappers::ReceiverStream;

use crate::engine::SimEngine;
use crate::holdings::{SimImage, find_image};
use crate::life::Refusal;

const MANIFESTS: &str = "application/vnd.oci.image.index.v1+json, application/vnd.docker.distribution.manifest.list.v2+json, \
    application/vnd.oci.image.manifest.v1+json, application/vnd.docker.distribution.manifest.v2+json";
/// A layer comes in this many pieces, with this pause between them.
const PIECES: u64 = 12;
const PAUSE: Duration = Duration::from_millis(40);

/// An image's name as registry, repository and tag or digest.
fn parts(name: &str) -> (String, String, String) {
    let (registry, rest) = match name.split_once('/') {
        Some((first, rest)) if first.contains(['.', ':']) || first == "localhost" => (first.to_owned(), rest),
        _ => ("docker.io".to_owned(), name),
    };
    let (repository, version) = match rest.split_once('@') {
        Some((repository, digest)) => (repository, digest),
        None => rest.rsplit_once(':').unwrap_or((rest, "latest")),
    };
    (registry, repository.to_owned(), version.to_owned())
}

struct Found {
    id: String,
    digest: String,
    layers: Vec<(String, u64)>,
    config: Value,
    created: Timestamp,
    architecture: String,
}

/// Fetches an image: the answer is a stream of lines.
pub(crate) async fn pull(
    engine: Arc<SimEngine>,
    name: String,
    platform: Option<String>,
    headers: &HeaderMap,
) -> Response {
    let found = match look(&engine, &name, platform.as_deref(), headers).await {
        Ok(Some(found)) => found,
        Ok(None) => {
            let line = json!({"status": format!("Status: Image is up to date for {name}")});
            return (StatusCode::OK, format!("{line}\n")).into_response();
        }
        Err((status, message)) => {
            let status = StatusCode::from_u16(status).unwrap_or(StatusCode::INTERNAL_SERVER_ERROR);
            return (status, axum::Json(json!({"message": message}))).into_response();
        }
    };
    let (sender, receiver) = mpsc::channel::<String>(64);
    tokio::spawn(async move {
        let send = async |line: Value| sender.send(format!("{line}\n")).await.is_ok();
        let known: Vec<String> = {
            let state = engine.state.lock();
            state.holdings.images.values().flat_map(SimImage::layers).map(|(id, _)| id).collect()
        };
        for (layer, size) in &found.layers {
            let short: String = layer.trim_start_matches("sha256:").chars().take(12).collect();
            if known.contains(layer) {
                send(json!({"status": "Already exists", "progressDetail": {}, "id": short})).await;
                continue;
            }
            for piece in 1..=PIECES {
                let detail = json!({"current": size * piece / PIECES, "total": size});
                // The caller may have gone; then nothing comes to be.
                if !send(json!({"status": "Downloading", "progressDetail": detail, "id": short})).await {
                    return;
                }
                tokio::time::sleep(PAUSE).await;
            }
            send(json!({"status": "Pull complete", "progressDetail": {}, "id": short})).await;
        }
        let repository = name.split('@').next().unwrap_or(&name);
        let repository = match repository.rsplit_once(':') {
            Some((before, after)) if !after.contains('/') => before,
            _ => repository,
        };
        {
            let mut state = engine.state.lock();
            for other in state.holdings.images.values_mut() {
                other.tags.retain(|t| *t != name);
            }
            let size = found.layers.iter().map(|(_, s)| s).sum();
            let image = state.holdings.images.entry(found.id.clone()).or_insert_with(|| SimImage {
                config: Some(found.config.clone()),
                layers: found.layers.clone(),
                digests: Some(Vec::new()),
                ..SimImage::new(Vec::new(), size, 0, found.created, &found.architecture)
            });
            if !name.contains('@') {
                image.tags.push(name.clone());
            }
            let digest = format!("{repository}@{}", found.digest);
            let digests = image.digests.get_or_insert_with(Vec::new);
            if !digests.contains(&digest) {
                digests.push(digest);
            }
        }
        engine.emit_other("image", &name, "pull");
        send(json!({"status": format!("Digest: {}", found.digest)})).await;
        send(json!({"status": format!("Status: Downloaded newer image for {name}")})).await;
    });
    let lines = ReceiverStream::new(receiver).map(|l| Ok::<_, std::convert::Infallible>(Bytes::from(l)));
    Body::from_stream(lines).into_response()
}

/// What the registry says; `None` when nobody knows where it is but the image is here.
async fn look(
    engine: &SimEngine,
    name: &str,
    platform: Option<&str>,
    headers: &HeaderMap,
) -> Result<Option<Found>, Refusal> {
    let (registry, repository, version) = parts(name);
    let set = engine.registries.read().get(&registry).cloned();
    let loopback = registry.starts_with("127.0.0.1") || registry.starts_with("localhost:");
    let base = match set {
        Some(base) => base,
        None if loopback => format!("http://{registry}"),
        None if find_image(&engine.state.lock(), name).is_some() => return Ok(None),
        None => {
            let text = format!("Get \"https://{registry}/v2/\": dial tcp: lookup {registry}: no such host");
            return Err((500, text));
        }
    };
    let ask = PullSource { base, account: account(headers), registry, repository };
    let (digest, mut manifest) = ask.json(&format!("manifests/{version}")).await?;
    if let Some(all) = manifest["manifests"].as_array() {
        let wanted = platform.and_then(|p| p.split('/').nth(1)).unwrap_or("amd64");
        let one = all.iter().find(|m| m["platform"]["architecture"] == wanted);
        let one = one.and_then(|m| m["digest"].as_str()).ok_or_else(|| {
            (404, format!("no matching manifest for linux/{wanted} in the manifest list entries"))
        })?;
        manifest = ask.json(&format!("manifests/{one}")).await?.1;
    }
    let id = manifest["config"]["digest"].as_str().unwrap_or_default().to_owned();
    let (_, config) = ask.json(&format!("blobs/{id}")).await?;
    let differences = config["rootfs"]["diff_ids"].as_array().cloned().unwrap_or_default();
    let sizes = manifest["layers"].as_array().into_iter().flatten().map(|l| l["size"].as_u64().unwrap_or(0));
    let layers = differences.iter().map(|d| d.as_str().unwrap_or_default().to_owned()).zip(sizes).collect();
    Ok(Some(Found {
        id,
        digest,
        layers,
        config: config["config"].clone(),
        created: config["created"].as_str().and_then(|t| t.parse().ok()).unwrap_or_else(Timestamp::now),
        architecture: config["architecture"].as_str().unwrap_or("amd64").to_owned(),
    }))
}

/// The account that came with a call.
fn account(headers: &HeaderMap) -> Option<(String, String)> {
    let header = headers.get("x-registry-auth")?.to_str().ok()?;
    let bytes = base64::engine::general_purpose::URL_SAFE
        .decode(header)
        .or_else(|_| base64::engine::general_purpose::STANDARD.decode(header))
        .ok()?;
    let account: Value = serde_json::from_slice(&bytes).ok()?;
    Some((account["username"].as_str()?.to_owned(), account["password"].as_str()?.to_owned()))
}

struct PullSource {
    base: String,
    account: Option<(String, String)>,
    registry: String,
    repository: String,
}

impl PullSource {
    async fn json(&self, what: &str) -> Result<(String, Value), Refusal> {
        let url = format!("{}/v2/{}/{what}", self.base, self.repository);
        let lost = |e: String| (500, format!("Get \"{}/v2/\": dial tcp: {e}", self.base));
        let (status, headers, body) = get(&url, self.account.as_ref()).await.map_err(lost)?;
        match status {
            200 => {}
            401 | 403 => {
                return Err((
                    500,
                    format!("Get \"{}/v2/{}\": no basic auth credentials", self.base, self.repository),
                ));
            }
            404 => {
                let (registry, repository) = (&self.registry, &self.repository);
                return Err((
                    404,
                    format!(
                        "manifest for {registry}/{repository} not found: manifest unknown: manifest unknown"
                    ),
                ));
            }
            other => return Err((500, format!("received unexpected HTTP status: {other}"))),
        }
        let digest = headers.get("docker-content-digest").and_then(|v| v.to_str().ok());
        let digest = digest.unwrap_or_default().to_owned();
        let value =
            serde_json::from_slice(&body).map_err(|e| (500, format!("unmarshalling manifest: {e}")))?;
        Ok((digest, value))
    }
}

/// Asks a plain HTTP address.
async fn get(url: &str, account: Option<&(String, String)>) -> Result<(u16, HeaderMap, Bytes), String> {
    let mut request = hyper::Request::get(url).header("accept", MANIFESTS);
    if let Some((name, secret)) = account {
        let both = base64::engine::general_purpose::STANDARD.encode(format!("{name}:{secret}"));
        request = request.header("authorization", format!("Basic {both}"));
    }
    let request = request.body(Body::empty()).map_err(|e| e.to_string())?;
    let client = Client::builder(TokioExecutor::new()).build_http::<Body>();
    let asked = async {
        let response = client.request(request).await.map_err(|e| format!("connect: {e}"))?;
        let (parts, body) = response.into_parts();
        let body = body.collect().await.map_err(|e| e.to_string())?.to_bytes();
        Ok((parts.status.as_u16(), parts.headers, body))
    };
    tokio::time::timeout(Duration::from_secs(15), asked)
        .await
        .unwrap_or_else(|_| Err("i/o timeout".to_owned()))
}

/// Sends an image: told as if, because there are no layers to send.
pub(crate) async fn push(engine: Arc<SimEngine>, name: String) -> Response {
    let image = find_image(&engine.state.lock(), &name).map(|(_, i)| i.clone());
    let Some(image) = image else {
        let message = format!("An image does not exist locally with the tag: {name}");
        return (StatusCode::NOT_FOUND, axum::Json(json!({"message": message}))).into_response();
    };
    let (registry, ..) = parts(&name);
    let set = engine.registries.read().get(&registry).cloned();
    let base = set.unwrap_or_else(|| format!("http://{registry}"));
    if get(&format!("{base}/v2/"), None).await.is_err() {
        let text = format!("Get \"{base}/v2/\": dial tcp: connect: connection refused");
        let line = json!({"errorDetail": {"message": text}, "error": text});
        return (StatusCode::OK, format!("{line}\n")).into_response();
    }
    let lines: String = image
        .layers()
        .iter()
        .map(|(layer, size)| {
            let short: String = layer.trim_start_matches("sha256:").chars().take(12).collect();
            let detail = json!({"current": size, "total": size});
            format!(
                "{}\n{}\n",
                json!({"status": "Pushing", "progressDetail": detail, "id": short}),
                json!({"status": "Pushed", "progressDetail": {}, "id": short})
            )
        })
        .collect();
    engine.emit_other("image", &name, "push");
    (StatusCode::OK, lines).into_response()
}
