//! Attaching to a simulated container's process: its output as it is written. Input to one with a terminal is echoed,
//! and Ctrl-C ends it; one without a terminal ignores it.

use std::sync::Arc;

use axum::body::Body;
use axum::http::{Request, Response, StatusCode};
use hyper_util::rt::TokioIo;
use tokio::io::{AsyncRead, AsyncReadExt, AsyncWrite, AsyncWriteExt};

use crate::engine::{SimEngine, Status};
use crate::life::{Refusal, missing};
use crate::logbook::LogBook;

/// Entries that are written at once.
const AT_ONCE: usize = 256;
const PIECE: usize = 16 * 1024;
/// Ctrl-C.
const INTERRUPT: u8 = 3;

/// Refuses for a container that does not run.
pub(crate) fn resizable(engine: &SimEngine, id: &str) -> Result<(), Refusal> {
    let state = engine.state.lock();
    let c = state.containers.get(id).ok_or_else(|| missing(id))?;
    match c.status {
        Status::Running => Ok(()),
        _ => Err((409, format!("Container {id} is not running"))),
    }
}

/// Joins; the connection carries the process's words from then on.
pub(crate) fn attach(
    engine: &Arc<SimEngine>,
    id: &str,
    request: Request<Body>,
) -> Result<Response<Body>, Refusal> {
    let (log, terminal) = {
        let state = engine.state.lock();
        let c = state.containers.get(id).ok_or_else(|| missing(id))?;
        (c.log.clone(), c.spec.terminal)
    };
    // From now on, not from the beginning.
    let position = log.tail(0, true, true);
    let (engine, id) = (engine.clone(), id.to_owned());
    tokio::spawn(async move {
        if let Ok(upgraded) = hyper::upgrade::on(request).await {
            let joined = Joined { engine, id, log, terminal, position };
            // Whoever was joined left: nothing to do about it.
            let _ = joined.carry(TokioIo::new(upgraded)).await;
        }
    });
    Response::builder()
        .status(StatusCode::SWITCHING_PROTOCOLS)
        .header("connection", "Upgrade")
        .header("upgrade", "tcp")
        .body(Body::empty())
        .map_err(|e| (500, e.to_string()))
}

struct Joined {
    engine: Arc<SimEngine>,
    id: String,
    log: Arc<LogBook>,
    terminal: bool,
    position: u64,
}

impl Joined {
    async fn carry<S: AsyncRead + AsyncWrite + Unpin>(mut self, stream: S) -> std::io::Result<()> {
        let (mut input, mut output) = tokio::io::split(stream);
        let mut buffer = vec![0u8; PIECE];
        let mut typing = true;
        let log = self.log.clone();
        loop {
            let grown = log.grown();
            tokio::pin!(grown);
            grown.as_mut().enable();
            let (entries, next, _, closed) = log.read(self.position, AT_ONCE);
            self.position = next;
            for entry in &entries {
                if self.terminal {
                    let text = String::from_utf8_lossy(&entry.bytes).replace('\n', "\r\n");
                    output.write_all(text.as_bytes()).await?;
                    continue;
                }
                let length = u32::try_from(entry.bytes.len()).unwrap_or(u32::MAX).to_be_bytes();
                output.write_all(&[if entry.stderr { 2 } else { 1 }, 0, 0, 0]).await?;
                output.write_all(&length).await?;
                output.write_all(&entry.bytes).await?;
            }
            output.flush().await?;
            if !entries.is_empty() {
                continue;
            }
            if closed && !self.waits() {
                return output.shutdown().await;
            }
            tokio::select! {
                () = &mut grown => {}
                count = input.read(&mut buffer), if typing => match count? {
                    0 => typing = false,
                    count => self.typed(&buffer[..count]),
                },
            }
        }
    }

    /// It was made and not started yet: whoever is joined waits for its first word.
    fn waits(&self) -> bool {
        let state = self.engine.state.lock();
        state.containers.get(&self.id).is_some_and(|c| c.status == Status::Created)
    }

    fn typed(&self, bytes: &[u8]) {
        if !self.terminal {
            return;
        }
        if bytes.contains(&INTERRUPT) {
            let _ = self.engine.kill(&self.id, "SIGINT");
            return;
        }
        let text: Vec<u8> = bytes.iter().map(|&b| if b == b'\r' { b'\n' } else { b }).collect();
        self.log.write(false, &text);
    }
}
