//! A Git repository on loopback for the demonstration, served over HTTP by the `git` program itself.
//!
//! Its commits are made at each start, with the same names: authors, times and contents are given.

use std::io;
use std::path::{Path, PathBuf};
use std::process::Stdio;
use std::sync::Arc;

use axum::Router;
use axum::body::Bytes;
use axum::extract::{Query, State};
use axum::http::{HeaderMap, StatusCode, header};
use axum::response::{IntoResponse, Response};
use axum::routing::{get, post};
use tokio::io::AsyncWriteExt;
use tokio::process::Command;
use tokio_util::sync::{CancellationToken, DropGuard};

/// The most bytes of one request.
const MOST: usize = 4 * 1024 * 1024;

/// A commit that is made.
pub struct SimCommit<'a> {
    /// The files that it changes.
    pub files: &'a [(&'a str, &'a str)],
    /// What its author says.
    pub subject: &'a str,
    /// Who that is.
    pub author: &'a str,
    /// When, in seconds since 1970.
    pub time: i64,
}

/// A repository that is served until this is dropped.
pub struct SimRepository {
    address: String,
    _end: DropGuard,
}

impl SimRepository {
    /// Makes a repository in a folder, which is emptied first, and serves its branch `main`.
    ///
    /// # Errors
    /// When the program `git` is not there or fails, or nothing can be listened to.
    pub async fn start(folder: &Path, commits: &[SimCommit<'_>]) -> io::Result<Self> {
        let _ = std::fs::remove_dir_all(folder);
        std::fs::create_dir_all(folder)?;
        git(folder, &["init", "--quiet", "--initial-branch=main", "."], None).await?;
        for commit in commits {
            for (name, text) in commit.files {
                let path = folder.join(name);
                if let Some(parent) = path.parent() {
                    std::fs::create_dir_all(parent)?;
                }
                std::fs::write(path, text)?;
            }
            git(folder, &["add", "--all"], None).await?;
            git(folder, &["commit", "--quiet", "--allow-empty", "--message", commit.subject], Some(commit))
                .await?;
        }
        let end = CancellationToken::new();
        let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await?;
        let address = format!("http://{}/stack.git", listener.local_addr()?);
        let routes = Router::new()
            .route("/stack.git/info/refs", get(references))
            .route("/stack.git/git-upload-pack", post(upload_pack))
            .with_state(Arc::new(folder.to_owned()));
        let until = end.clone().cancelled_owned();
        tokio::spawn(async move {
            // It ends with the demonstration; an error of one request is that request's.
            let _ = axum::serve(listener, routes).with_graceful_shutdown(until).await;
        });
        Ok(Self { address, _end: end.drop_guard() })
    }

    /// Its address.
    pub fn url(&self) -> &str {
        &self.address
    }
}

fn program(folder: &Path, arguments: &[&str]) -> Command {
    let mut command = Command::new("git");
    command.args(arguments).current_dir(folder).stdin(Stdio::null()).kill_on_drop(true);
    // Nobody's settings.
    command.env("GIT_CONFIG_GLOBAL", "/dev/null").env("GIT_CONFIG_NOSYSTEM", "1").env("HOME", folder);
    command
}

async fn git(folder: &Path, arguments: &[&str], commit: Option<&SimCommit<'_>>) -> io::Result<()> {
    let mut command = program(folder, arguments);
    if let Some(commit) = commit {
        for who in ["AUTHOR", "COMMITTER"] {
            command
                .env(format!("GIT_{who}_NAME"), commit.author)
                .env(
                    format!("GIT_{who}_EMAIL"),
                    format!("{}@tarnvalley.example", commit.author.to_lowercase()),
                )
                .env(format!("GIT_{who}_DATE"), format!("{} +0000", commit.time));
        }
    }
    let done = command.output().await?;
    if done.status.success() {
        return Ok(());
    }
    Err(io::Error::other(String::from_utf8_lossy(&done.stderr).trim().to_owned()))
}

async fn references(
    State(folder): State<Arc<PathBuf>>,
    Query(wish): Query<Vec<(String, String)>>,
    headers: HeaderMap,
) -> Response {
    if !wish.iter().any(|(name, value)| name == "service" && value == "git-upload-pack") {
        return StatusCode::FORBIDDEN.into_response();
    }
    let mut command = program(&folder, &["upload-pack", "--stateless-rpc", "--advertise-refs", "."]);
    with_protocol(&mut command, &headers);
    match command.output().await {
        Ok(done) if done.status.success() => {
            let mut body = b"001e# service=git-upload-pack\n0000".to_vec();
            body.extend(done.stdout);
            ([(header::CONTENT_TYPE, "application/x-git-upload-pack-advertisement")], body).into_response()
        }
        _ => StatusCode::INTERNAL_SERVER_ERROR.into_response(),
    }
}

async fn upload_pack(State(folder): State<Arc<PathBuf>>, headers: HeaderMap, body: Bytes) -> Response {
    if body.len() > MOST || headers.contains_key(header::CONTENT_ENCODING) {
        return StatusCode::PAYLOAD_TOO_LARGE.into_response();
    }
    let mut command = program(&folder, &["upload-pack", "--stateless-rpc", "."]);
    with_protocol(&mut command, &headers);
    command.stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::null());
    let answer = async {
        let mut child = command.spawn()?;
        let mut input = child.stdin.take().ok_or_else(|| io::Error::other("it has no input"))?;
        let (written, done) = tokio::join!(
            async move {
                let outcome = input.write_all(&body).await;
                drop(input);
                outcome
            },
            child.wait_with_output()
        );
        // It may have heard enough before all was written.
        drop(written);
        done.map(|done| done.stdout)
    };
    match answer.await {
        Ok(said) => ([(header::CONTENT_TYPE, "application/x-git-upload-pack-result")], said).into_response(),
        Err(_) => StatusCode::INTERNAL_SERVER_ERROR.into_response(),
    }
}

/// The version of the protocol that the client speaks.
fn with_protocol(command: &mut Command, headers: &HeaderMap) {
    let spoken = headers.get("git-protocol").and_then(|value| value.to_str().ok());
    if let Some(version) =
        spoken.filter(|v| v.bytes().all(|b| b.is_ascii_alphanumeric() || b":=".contains(&b)))
    {
        command.env("GIT_PROTOCOL", version);
    }
}
