//! Archive streams from and to an engine: files of a container, data of a volume, images. Only the chunk in transit
//! is in memory.

use std::collections::BTreeMap;
use std::pin::Pin;

use bytes::Bytes;
use futures_util::Stream;
use http::{Method, Request, StatusCode, Version, header};
use http_body_util::{BodyExt, Limited, StreamBody};
use hyper::body::{Frame, Incoming};
use hyper_util::rt::TokioIo;
use percent_encoding::{NON_ALPHANUMERIC, utf8_percent_encode};
use serde_json::{Value, json};

use crate::calls::checked;
use crate::client::{Call, Engine};
use crate::error::EngineError;
use crate::hostfs::{Helper, PLACE};
use crate::objects::checked_image;

/// How long the head of a stream may take.
const HEAD: std::time::Duration = std::time::Duration::from_secs(60);
/// How long an engine may take to answer after the last byte: it unpacks meanwhile.
const UNPACKS: std::time::Duration = std::time::Duration::from_secs(1800);
/// The longest answer that is read.
const ANSWER: usize = 1024 * 1024;

/// A body that is sent piece by piece.
pub type Upload = Pin<Box<dyn Stream<Item = Result<Bytes, std::io::Error>> + Send>>;

/// What is to be built.
#[derive(Debug, Clone, Default)]
pub struct BuildRequest {
    /// The names it gets.
    pub tags: Vec<String>,
    /// The build file's path in the context.
    pub file: String,
    /// Arguments of the build.
    pub arguments: BTreeMap<String, String>,
    /// The address of a Git repository instead of a context.
    pub remote: Option<String>,
    /// The stage at which it ends.
    pub target: Option<String>,
    /// For which platform.
    pub platform: Option<String>,
    /// The network of its steps.
    pub network: Option<String>,
    /// No cache.
    pub no_cache: bool,
    /// Fetch its base image even when the host has it.
    pub pull: bool,
    /// Labels of the image.
    pub labels: BTreeMap<String, String>,
    /// Images whose layers may be used.
    pub cache_from: Vec<String>,
    /// Further names for its steps, as `name:address`.
    pub hosts: Vec<String>,
    /// Bytes of `/dev/shm` for its steps.
    pub shared_memory: Option<u64>,
}

fn escaped(text: &str) -> String {
    utf8_percent_encode(text, NON_ALPHANUMERIC).to_string()
}

impl Engine {
    /// A path of a container, running or not, as a tar stream whose names begin with its last part.
    ///
    /// # Errors
    /// 404 when there is nothing.
    pub async fn read_archive(&self, container: &str, path: &str) -> Result<Incoming, EngineError> {
        let query = format!("/containers/{}/archive?path={}", checked(container)?, escaped(path));
        self.chunked_stream(Call::get("read files", &query), Some(HEAD)).await
    }

    /// Unpacks a tar stream into a folder of a container.
    ///
    /// # Errors
    /// 404 when there is no such folder, and the engine's error, e.g. a full disk.
    pub async fn write_archive(&self, container: &str, path: &str, body: Upload) -> Result<(), EngineError> {
        let query = format!(
            "/containers/{}/archive?path={}&noOverwriteDirNonDir=true",
            checked(container)?,
            escaped(path)
        );
        self.upload(Method::PUT, "write files", &query, "application/x-tar", body).await.map(drop)
    }

    /// A container that is never started, with a volume at [`PLACE`], to reach the volume's data through.
    ///
    /// # Errors
    /// When there is no such volume.
    pub async fn with_volume(&self, volume: &str, read_only: bool) -> Result<Helper<'_>, EngineError> {
        // An engine would make one that is not there.
        let path = format!("/volumes/{}", checked(volume)?);
        self.json::<Value>(Call::get("inspect volume", &path)).await?;
        let mount = json!({"Type": "volume", "Source": volume, "Target": PLACE, "ReadOnly": read_only});
        self.helper(mount).await
    }

    /// Images with all their layers as one archive.
    ///
    /// # Errors
    /// 404 when there is no such image.
    pub async fn export_image(&self, image: &str) -> Result<Incoming, EngineError> {
        let name = checked_image(image)?;
        if self.image_id_of(&name).await?.is_none() {
            let message = format!("no image {name} on this host");
            return Err(EngineError::Answer { what: "", status: 404, message });
        }
        let path = format!("/images/{name}/get");
        self.chunked_stream(Call::get("export image", &path), Some(HEAD)).await
    }

    /// Takes images from an archive; returns what the engine says of it.
    ///
    /// # Errors
    /// When it is no archive of images, and the engine's error.
    pub async fn import_images(&self, body: Upload) -> Result<String, EngineError> {
        let path = "/images/load?quiet=true";
        let said = self.upload(Method::POST, "import images", path, "application/x-tar", body).await?;
        let mut words = Vec::new();
        for line in said.split(|b| *b == b'\n').filter(|l| !l.is_empty()) {
            let line: Value = serde_json::from_slice(line).unwrap_or_default();
            if let Some(error) = line["error"].as_str() {
                return Err(EngineError::Answer { what: "", status: 422, message: error.to_owned() });
            }
            words.extend(line["stream"].as_str().map(|s| s.trim().to_owned()));
        }
        Ok(words.join("; "))
    }

    /// Builds an image from a context that is sent, or from the address of a Git repository that the engine fetches itself.
    /// What comes back is the builder's own lines of JSON.
    ///
    /// # Errors
    /// The engine's error; what goes wrong while it builds is in the lines.
    pub async fn build(&self, wish: &BuildRequest, context: Upload) -> Result<Incoming, EngineError> {
        let mut path = format!(
            "/build?rm=true&forcerm=true&nocache={}&dockerfile={}&buildargs={}",
            wish.no_cache,
            escaped(&wish.file),
            escaped(&json!(wish.arguments).to_string())
        );
        for tag in &wish.tags {
            path.push_str(&format!("&t={}", escaped(&checked_image(tag)?)));
        }
        for (key, value) in [
            ("remote", &wish.remote),
            ("target", &wish.target),
            ("platform", &wish.platform),
            ("networkmode", &wish.network),
        ] {
            if let Some(value) = value {
                path.push_str(&format!("&{key}={}", escaped(value)));
            }
        }
        if wish.pull {
            path.push_str("&pull=1");
        }
        if !wish.labels.is_empty() {
            path.push_str(&format!("&labels={}", escaped(&json!(wish.labels).to_string())));
        }
        if !wish.cache_from.is_empty() {
            path.push_str(&format!("&cachefrom={}", escaped(&json!(wish.cache_from).to_string())));
        }
        for host in &wish.hosts {
            path.push_str(&format!("&extrahosts={}", escaped(host)));
        }
        if let Some(bytes) = wish.shared_memory {
            path.push_str(&format!("&shmsize={bytes}"));
        }
        let response =
            self.send_stream(Method::POST, "build image", &path, "application/x-tar", context).await?;
        let status = response.status();
        if status.is_success() {
            return Ok(response.into_body());
        }
        let answer = Limited::new(response.into_body(), ANSWER).collect().await;
        let text = answer.map(|b| b.to_bytes()).unwrap_or_default();
        Err(self.refused(status, &text, "build image"))
    }

    async fn upload(
        &self,
        method: Method,
        what: &'static str,
        path: &str,
        kind: &'static str,
        body: Upload,
    ) -> Result<Bytes, EngineError> {
        let response = self.send_stream(method, what, path, kind, body).await?;
        let status = response.status();
        let answer = Limited::new(response.into_body(), ANSWER).collect();
        let answer = tokio::time::timeout(UNPACKS, answer).await;
        let text = answer.ok().and_then(Result::ok).map(|b| b.to_bytes()).unwrap_or_default();
        if status.is_success() || status == StatusCode::NOT_MODIFIED {
            return Ok(text);
        }
        Err(self.refused(status, &text, what))
    }

    async fn send_stream(
        &self,
        method: Method,
        what: &'static str,
        path: &str,
        kind: &'static str,
        body: Upload,
    ) -> Result<http::Response<Incoming>, EngineError> {
        let call = Call { method, ..Call::get(what, path) };
        let (mut parts, _) = self.request(&call, Version::HTTP_11, "")?.into_parts();
        parts.headers.insert(header::CONTENT_TYPE, header::HeaderValue::from_static(kind));
        let body = StreamBody::new(futures_util::StreamExt::map(body, |piece| piece.map(Frame::data)));
        let request = Request::from_parts(parts, body);
        let io = self.own_connection().await?;
        let (mut sender, connection) =
            hyper::client::conn::http1::handshake(TokioIo::new(io)).await.map_err(|e| self.broken(&e))?;
        tokio::spawn(async move {
            // An error here comes out of the request too.
            let _ = connection.await;
        });
        tokio::time::timeout(UNPACKS, sender.send_request(request))
            .await
            .map_err(|_| self.timed_out(what, UNPACKS.as_secs()))?
            .map_err(|e| self.broken(&e))
    }
}
