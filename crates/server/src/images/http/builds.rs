//! Builds images: the context is streamed to the engine, and the builder's output is streamed back.

use std::collections::BTreeMap;
use std::sync::Arc;

use axum::body::Body;
use axum::extract::{Path, State};
use axum::http::header;
use axum::response::{IntoResponse, Response};
use bytes::Bytes;
use gubernum_api::Problem;
use gubernum_api::files::BuildLine;
use gubernum_core::image_name::ImageName;
use gubernum_core::text::shown;
use gubernum_engine::archives::{BuildRequest, Upload};
use hyper::body::Incoming;
use serde::Deserialize;
use tokio::sync::mpsc::Sender;
use utoipa::IntoParams;

use crate::access::Identity;
use crate::images::{BuildLines, ImagesContext};
use crate::web::NDJSON;
use crate::web::extract::Params;
use crate::web::problem::ApiError;

/// The most build arguments.
const MOST_ARGUMENTS: usize = 200;

/// What is to be built.
#[derive(Debug, Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
#[into_params(parameter_in = Query)]
pub(crate) struct Wanted {
    /// Name and tag of the image.
    tag: String,
    /// Path of the build file in the context; `Dockerfile` when absent.
    file: Option<String>,
    /// Build arguments as a JSON object of strings.
    arguments: Option<String>,
    /// URL of a Git repository that the engine fetches; the body is empty then.
    git: Option<String>,
    /// Target stage.
    stage: Option<String>,
    /// Platform, e.g. `linux/arm64`.
    platform: Option<String>,
    /// Network for the build steps, e.g. `none`.
    network: Option<String>,
    /// Build without the cache.
    #[serde(default, alias = "anew")]
    no_cache: bool,
    /// Pull the base image even if the host has it.
    #[serde(default)]
    pull: bool,
}

impl Wanted {
    /// What the engine is asked for, when all that can be judged here is in order.
    fn checked(self) -> Result<BuildRequest, ApiError> {
        self.tag.parse::<ImageName>().map_err(|e| ApiError::invalid("?tag", e.to_string()))?;
        let arguments: BTreeMap<String, String> = match &self.arguments {
            None => BTreeMap::new(),
            Some(text) => serde_json::from_str(text).map_err(|e| {
                ApiError::invalid(
                    "?arguments",
                    format!("the build arguments are not a JSON object of strings: {e}"),
                )
            })?,
        };
        if arguments.len() > MOST_ARGUMENTS {
            return Err(ApiError::invalid("?arguments", format!("at most {MOST_ARGUMENTS} arguments")));
        }
        if let Some(git) = &self.git {
            let fine = ["https://", "http://", "git://", "ssh://", "git@"].iter().any(|s| git.starts_with(s));
            if !fine || git.contains(char::is_whitespace) {
                let text = "use a Git URL such as 'https://git.example/frost.git#main:folder'";
                return Err(ApiError::invalid("?git", text));
            }
        }
        Ok(BuildRequest {
            tags: vec![self.tag],
            file: self.file.unwrap_or_else(|| "Dockerfile".to_owned()),
            arguments,
            remote: self.git,
            target: self.stage,
            platform: self.platform,
            network: self.network,
            no_cache: self.no_cache,
            pull: self.pull,
            ..BuildRequest::default()
        })
    }
}

/// Builds an image on a host from a context (a tar archive) or a Git URL and streams the builder's output as JSON
/// lines; the last line has the image, or the error. Audited.
#[utoipa::path(post, path = "/api/v1/hosts/{name}/builds", tag = "files", params(Wanted, ("name" = String, Path)),
    request_body(content_type = "application/x-tar"), responses(
    (status = 200, body = BuildLine, content_type = "application/x-ndjson"),
    (status = "default", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn build(
    State(context): State<Arc<ImagesContext>>,
    who: Identity,
    Path(host): Path<String>,
    Params(wish): Params<Wanted>,
    body: Body,
) -> Result<Response, ApiError> {
    let wish = wish.checked()?;
    let engine = context.links.engine(&host)?;
    let object = format!("{host}/{}", shown(&wish.tags.join(" "), 200));
    let archive: Upload = Box::pin(crate::web::bodies::stream_of(body));
    let said = engine.build(&wish, archive).await?;
    let (sender, receiver) = tokio::sync::mpsc::channel::<Result<Bytes, std::io::Error>>(16);
    let tasks = context.tasks.clone();
    tasks.spawn(async move {
        let end = relay(said, &sender).await;
        let outcome = end.problem.clone().unwrap_or_else(|| "succeeded".to_owned());
        context.audit.note(&who, "build-image", object, shown(&outcome, 400)).await;
        let _ = tell(&sender, &end).await;
    });
    let stream =
        futures_util::stream::unfold(receiver, |mut r| async move { r.recv().await.map(|item| (item, r)) });
    Ok(([(header::CONTENT_TYPE, NDJSON)], Body::from_stream(stream)).into_response())
}

/// A listener of a build's output.
type Listener = Sender<Result<Bytes, std::io::Error>>;

/// Sends one line; tells whether somebody still listens.
async fn tell(listener: &Listener, line: &BuildLine) -> bool {
    let mut text = serde_json::to_vec(line).unwrap_or_default();
    text.push(b'\n');
    listener.send(Ok(Bytes::from(text))).await.is_ok()
}

/// Hands on what the builder says, line by line, until it ends or nobody listens; returns the last line.
async fn relay(said: Incoming, listener: &Listener) -> BuildLine {
    let mut end = BuildLine { ended: true, ..BuildLine::default() };
    let mut lines = BuildLines::new(said);
    loop {
        let said = match lines.next().await {
            Ok(Some(said)) => said,
            Ok(None) => return end,
            Err(error) => {
                end.problem = Some(format!("the connection to the engine broke: {error}"));
                return end;
            }
        };
        end.problem = said.problem.or(end.problem);
        end.image = said.image.or(end.image);
        let told = BuildLine { text: said.text, ..BuildLine::default() };
        if !told.text.is_empty() && !tell(listener, &told).await {
            // Nobody listens any more; dropping the stream ends the build.
            end.problem = Some("cancelled".to_owned());
            return end;
        }
    }
}
