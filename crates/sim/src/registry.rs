//! A small simulated registry: the read half of the OCI distribution API, for images generated from a list. Simulated
//! engines pull from it; it has no layers.

use std::collections::BTreeMap;
use std::io;
use std::net::SocketAddr;
use std::sync::Arc;

use axum::Router;
use axum::extract::{Path, State};
use axum::http::{HeaderMap, StatusCode, header};
use axum::response::{IntoResponse, Response};
use axum::routing::get;
use jiff::{SignedDuration, Timestamp};
use parking_lot::RwLock;
use serde_json::{Value, json};
use tokio_util::sync::CancellationToken;

use crate::answers::image_id;
use crate::holdings::usual_digest;

/// One image under one tag.
#[derive(Debug, Clone)]
pub struct RegistryImage {
    /// The repository, without the registry.
    pub repository: String,
    /// The tag.
    pub tag: String,
    /// Stands for its contents: another one is another image.
    pub build: u64,
    /// Bytes.
    pub size: u64,
    /// How many days ago it was built.
    pub days_old: i64,
    /// The architectures it is there for.
    pub architectures: Vec<String>,
    /// Labels that it brings, e.g. what a simulated container of it does.
    pub labels: BTreeMap<String, String>,
}

impl RegistryImage {
    /// An image for amd64; of build 0, the one that simulated hosts take to be the newest already.
    pub fn new(repository: &str, tag: &str) -> Self {
        Self {
            repository: repository.to_owned(),
            tag: tag.to_owned(),
            build: 0,
            size: 64 << 20,
            days_old: 3,
            architectures: vec!["amd64".to_owned()],
            labels: BTreeMap::new(),
        }
    }
}

struct RegistryState {
    name: String,
    images: RwLock<Vec<RegistryImage>>,
    account: Option<(String, String)>,
    questions: std::sync::atomic::AtomicU64,
}

/// A running stand-in. It stops when dropped.
pub struct SimRegistry {
    address: SocketAddr,
    held: Arc<RegistryState>,
    end: CancellationToken,
}

impl SimRegistry {
    /// Starts one that is known by `name`, on a free port of loopback. With an account it wants a sign-in.
    ///
    /// # Errors
    /// When nothing can be listened to.
    pub async fn start(name: &str, account: Option<(&str, &str)>) -> io::Result<Self> {
        let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await?;
        let address = listener.local_addr()?;
        let name = if name.is_empty() { address.to_string() } else { name.to_owned() };
        let held = Arc::new(RegistryState {
            name,
            images: RwLock::default(),
            account: account.map(|(n, s)| (n.to_owned(), s.to_owned())),
            questions: std::sync::atomic::AtomicU64::new(0),
        });
        let end = CancellationToken::new();
        let app =
            Router::new().route("/v2/", get(root)).route("/v2/{*rest}", get(answer)).with_state(held.clone());
        let until = end.clone();
        tokio::spawn(async move {
            let _ = axum::serve(listener, app).with_graceful_shutdown(until.cancelled_owned()).await;
        });
        Ok(Self { address, held, end })
    }

    /// Where it listens.
    pub fn address(&self) -> SocketAddr {
        self.address
    }

    /// The same as a URL.
    pub fn base(&self) -> String {
        format!("http://{}", self.address)
    }

    /// Puts an image in place of what its tag meant.
    pub fn put(&self, image: RegistryImage) {
        let mut images = self.held.images.write();
        images.retain(|i| !(i.repository == image.repository && i.tag == image.tag));
        images.push(image);
    }

    /// How many questions were asked so far.
    pub fn questions(&self) -> u64 {
        self.held.questions.load(std::sync::atomic::Ordering::Relaxed)
    }
}

impl Drop for SimRegistry {
    fn drop(&mut self) {
        self.end.cancel();
    }
}

impl RegistryState {
    fn signed_in(&self, headers: &HeaderMap) -> bool {
        self.questions.fetch_add(1, std::sync::atomic::Ordering::Relaxed);
        let Some((name, secret)) = &self.account else { return true };
        use base64::Engine as _;
        let both = base64::engine::general_purpose::STANDARD.encode(format!("{name}:{secret}"));
        let given = headers.get(header::AUTHORIZATION).and_then(|v| v.to_str().ok());
        given == Some(&format!("Basic {both}"))
    }

    fn full_name(&self, image: &RegistryImage) -> String {
        format!("{}/{}:{}", self.name, image.repository, image.tag)
    }

    /// The digest of an image's index.
    fn digest(&self, image: &RegistryImage) -> String {
        match image.build {
            0 => usual_digest(&self.full_name(image)),
            build => image_id(&format!("{} build {build}", self.full_name(image))),
        }
    }

    fn manifest_digest(&self, image: &RegistryImage, architecture: &str) -> String {
        image_id(&format!("{} for {architecture}", self.digest(image)))
    }

    fn config_digest(&self, image: &RegistryImage, architecture: &str) -> String {
        // An image of build 0 is the one that hosts have already under this name.
        if image.build == 0 && architecture == "amd64" {
            return image_id(&self.full_name(image));
        }
        image_id(&format!("{} configuration for {architecture}", self.digest(image)))
    }

    fn index(&self, image: &RegistryImage) -> Value {
        let manifests: Vec<Value> = image
            .architectures
            .iter()
            .map(|a| {
                json!({
                    "mediaType": "application/vnd.oci.image.manifest.v1+json", "size": 500,
                    "digest": self.manifest_digest(image, a), "platform": {"os": "linux", "architecture": a},
                })
            })
            .collect();
        json!({"schemaVersion": 2, "mediaType": "application/vnd.oci.image.index.v1+json", "manifests": manifests})
    }

    fn layers(&self, image: &RegistryImage) -> Vec<(String, u64)> {
        let own = image.size.saturating_sub(28 << 20);
        vec![
            (image_id("base layer"), 28 << 20),
            (image_id(&format!("libraries of {}/{}", self.name, image.repository)), own / 3 * 2),
            (
                image_id(&format!("application of {} {}", self.full_name(image), image.build)),
                own - own / 3 * 2,
            ),
        ]
    }

    fn manifest(&self, image: &RegistryImage, architecture: &str) -> Value {
        let layers: Vec<Value> = self
            .layers(image)
            .iter()
            .map(|(digest, size)| {
                json!({"mediaType": "application/vnd.oci.image.layer.v1.tar+gzip", "digest": digest, "size": size})
            })
            .collect();
        let config = self.config_digest(image, architecture);
        json!({
            "schemaVersion": 2, "mediaType": "application/vnd.oci.image.manifest.v1+json", "layers": layers,
            "config": {"mediaType": "application/vnd.oci.image.config.v1+json", "digest": config, "size": 900},
        })
    }

    fn config(&self, image: &RegistryImage, architecture: &str) -> Value {
        let created = Timestamp::now() - SignedDuration::from_hours(24 * image.days_old);
        let differences: Vec<String> = self.layers(image).into_iter().map(|(d, _)| d).collect();
        json!({
            "created": created.to_string(), "architecture": architecture, "os": "linux",
            "rootfs": {"type": "layers", "diff_ids": differences},
            "config": {
                "WorkingDir": "/app", "Entrypoint": ["/app/run"], "Cmd": ["--serve"], "Labels": image.labels,
                "Env": ["PATH=/usr/local/bin:/usr/bin:/bin", "LANG=C.UTF-8"], "ExposedPorts": {"8080/tcp": {}},
            },
        })
    }
}

fn wants_sign_in() -> Response {
    let challenge = [(header::WWW_AUTHENTICATE, "Basic realm=\"registry\"")];
    (StatusCode::UNAUTHORIZED, challenge, axum::Json(json!({"errors": [{"code": "UNAUTHORIZED"}]})))
        .into_response()
}

async fn root(State(held): State<Arc<RegistryState>>, headers: HeaderMap) -> Response {
    if !held.signed_in(&headers) {
        return wants_sign_in();
    }
    ([("docker-distribution-api-version", "registry/2.0")], axum::Json(json!({}))).into_response()
}

async fn answer(
    State(held): State<Arc<RegistryState>>,
    Path(rest): Path<String>,
    headers: HeaderMap,
) -> Response {
    if !held.signed_in(&headers) {
        return wants_sign_in();
    }
    let images = held.images.read();
    if rest == "_catalog" {
        let mut names: Vec<&str> = images.iter().map(|i| i.repository.as_str()).collect();
        names.sort_unstable();
        names.dedup();
        return axum::Json(json!({"repositories": names})).into_response();
    }
    let unknown =
        |code: &str| (StatusCode::NOT_FOUND, axum::Json(json!({"errors": [{"code": code}]}))).into_response();
    if let Some(repository) = rest.strip_suffix("/tags/list") {
        let tags: Vec<&str> =
            images.iter().filter(|i| i.repository == repository).map(|i| i.tag.as_str()).collect();
        if tags.is_empty() {
            return unknown("NAME_UNKNOWN");
        }
        return axum::Json(json!({"name": repository, "tags": tags})).into_response();
    }
    let of =
        |repository: &str| images.iter().filter(|i| i.repository == repository).cloned().collect::<Vec<_>>();
    if let Some((repository, version)) = rest.split_once("/manifests/") {
        for image in of(repository) {
            let digest = held.digest(&image);
            if image.tag == version || digest == version {
                let kind = "application/vnd.oci.image.index.v1+json".to_owned();
                return told(kind, digest, held.index(&image));
            }
            for architecture in &image.architectures {
                let digest = held.manifest_digest(&image, architecture);
                if digest == version {
                    let kind = "application/vnd.oci.image.manifest.v1+json".to_owned();
                    return told(kind, digest, held.manifest(&image, architecture));
                }
            }
        }
        return unknown("MANIFEST_UNKNOWN");
    }
    if let Some((repository, digest)) = rest.split_once("/blobs/") {
        for image in of(repository) {
            for architecture in &image.architectures {
                if held.config_digest(&image, architecture) == digest {
                    return axum::Json(held.config(&image, architecture)).into_response();
                }
            }
        }
    }
    unknown("BLOB_UNKNOWN")
}

fn told(kind: String, digest: String, value: Value) -> Response {
    let headers = [(header::CONTENT_TYPE.as_str(), kind), ("docker-content-digest", digest)];
    (headers, value.to_string()).into_response()
}
