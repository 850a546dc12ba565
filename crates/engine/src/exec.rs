//! Commands in a running container: with a terminal or without, their exit code, and which shells it has.

use bytes::{Buf, Bytes, BytesMut};
use gubernum_core::logs::Stream;
use http::{StatusCode, Version, header};
use http_body_util::Full;
use hyper::upgrade::Upgraded;
use hyper_util::rt::TokioIo;
use serde_json::{Value, json};
use tokio::io::{AsyncReadExt, AsyncWriteExt, ReadHalf, WriteHalf};

use crate::calls::checked;
use crate::client::{CALL_TIMEOUT, Call, Engine};
use crate::error::EngineError;
use crate::wire;

/// The shells that are looked for, the most comfortable first.
pub const SHELLS: [&str; 8] = [
    "/bin/bash",
    "/usr/bin/bash",
    "/bin/zsh",
    "/usr/bin/fish",
    "/bin/ash",
    "/bin/sh",
    "/busybox/sh",
    "/usr/bin/sh",
];
/// A frame longer than this is not a frame.
const LONGEST_FRAME: usize = 16 * 1024 * 1024;
/// The most that is read at once.
const PIECE: usize = 32 * 1024;

/// What is to be run.
#[derive(Debug, Clone, Default)]
pub struct ExecWish {
    /// The command with its arguments.
    pub command: Vec<String>,
    /// With a terminal: then both outputs come as one.
    pub terminal: bool,
    /// As whom; the container's own user when absent.
    pub user: Option<String>,
    /// Where it begins; the container's own folder when absent.
    pub folder: Option<String>,
    /// `NAME=value`, beside the container's own.
    pub environment: Vec<String>,
    /// Something will be written to it.
    pub input: bool,
    /// It may do everything that the host's root may.
    pub privileged: bool,
}

/// A command that is under way.
pub struct Running {
    /// The engine's id of it.
    pub id: String,
    /// What it says.
    pub output: Output,
    /// What is said to it.
    pub input: Input,
}

/// The output of a command.
pub struct Output {
    half: ReadHalf<TokioIo<Upgraded>>,
    terminal: bool,
    held: BytesMut,
}

/// The input of a command.
pub struct Input(WriteHalf<TokioIo<Upgraded>>);

/// The state of a command.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct ExecState {
    /// It runs.
    pub running: bool,
    /// With which code it ended.
    pub exit_code: Option<i64>,
}

impl Engine {
    /// The shells that a container has, running or not.
    ///
    /// # Errors
    /// When the engine does not answer.
    pub async fn shells(&self, container: &str) -> Result<Vec<&'static str>, EngineError> {
        let mut found = Vec::new();
        for shell in SHELLS {
            match self.stat(container, shell).await {
                Ok(stat) if !stat.folder => found.push(shell),
                Ok(_) => {}
                Err(e) if e.status().is_some() => {}
                Err(e) => return Err(e),
            }
        }
        Ok(found)
    }

    /// Runs a command in a container.
    ///
    /// # Errors
    /// 409 when the container does not run, and the engine's error.
    pub async fn exec(&self, container: &str, wish: &ExecWish) -> Result<Running, EngineError> {
        let mut body = json!({
            "Cmd": wish.command, "Tty": wish.terminal, "AttachStdin": wish.input, "AttachStdout": true,
            "AttachStderr": true, "Env": wish.environment,
        });
        if let Some(user) = &wish.user {
            body["User"] = json!(user);
        }
        if let Some(folder) = &wish.folder {
            body["WorkingDir"] = json!(folder);
        }
        if wish.privileged {
            body["Privileged"] = json!(true);
        }
        let path = format!("/containers/{}/exec", checked(container)?);
        let body = Some(Bytes::from(body.to_string()));
        let made: wire::Created = self.json(Call { body, ..Call::post("prepare command", &path) }).await?;
        let path = format!("/exec/{}/start", checked(&made.id)?);
        let body = Some(Bytes::from(json!({"Detach": false, "Tty": wish.terminal}).to_string()));
        let call = Call { body, ..Call::post("run command", &path) };
        let (output, input) = self.upgraded(call, wish.terminal).await?;
        Ok(Running { id: made.id, output, input })
    }

    /// Both directions of a connection that a call turned into a process's own.
    pub(crate) async fn upgraded(
        &self,
        call: Call<'_>,
        terminal: bool,
    ) -> Result<(Output, Input), EngineError> {
        let upgraded = self.upgrade(call).await?;
        let (half, write) = tokio::io::split(TokioIo::new(upgraded));
        Ok((Output { half, terminal, held: BytesMut::new() }, Input(write)))
    }

    /// Tells a command's terminal how large it is.
    ///
    /// # Errors
    /// When it is over.
    pub async fn resize(&self, exec: &str, columns: u16, rows: u16) -> Result<(), EngineError> {
        let path = format!("/exec/{}/resize?h={rows}&w={columns}", checked(exec)?);
        self.ok(Call::post("resize terminal", &path)).await.map(drop)
    }

    /// The state of a command.
    ///
    /// # Errors
    /// 404 when the engine has forgotten it.
    pub async fn exec_state(&self, exec: &str) -> Result<ExecState, EngineError> {
        let path = format!("/exec/{}/json", checked(exec)?);
        let found: Value = self.json(Call::get("look at command", &path)).await?;
        let running = found["Running"].as_bool().unwrap_or(false);
        Ok(ExecState { running, exit_code: found["ExitCode"].as_i64().filter(|_| !running) })
    }

    /// Makes a call after which the connection is the command's.
    async fn upgrade(&self, call: Call<'_>) -> Result<Upgraded, EngineError> {
        let what = call.what;
        let mut request = self.request(&call, Version::HTTP_11, "")?;
        let headers = request.headers_mut();
        headers.insert(header::CONNECTION, header::HeaderValue::from_static("Upgrade"));
        headers.insert(header::UPGRADE, header::HeaderValue::from_static("tcp"));
        let asking = async {
            let io = self.own_connection().await?;
            let (mut sender, connection) =
                hyper::client::conn::http1::handshake::<_, Full<Bytes>>(TokioIo::new(io))
                    .await
                    .map_err(|e| self.broken(&e))?;
            tokio::spawn(async move {
                // An error here reaches whoever reads through the upgraded stream.
                let _ = connection.with_upgrades().await;
            });
            let response = sender.send_request(request).await.map_err(|e| self.broken(&e))?;
            let status = response.status();
            if status == StatusCode::SWITCHING_PROTOCOLS {
                return hyper::upgrade::on(response).await.map_err(|e| self.broken(&e));
            }
            let limited = http_body_util::Limited::new(response.into_body(), 64 * 1024);
            let text =
                http_body_util::BodyExt::collect(limited).await.map(|b| b.to_bytes()).unwrap_or_default();
            Err(self.refused(status, &text, what))
        };
        tokio::time::timeout(CALL_TIMEOUT, asking)
            .await
            .unwrap_or_else(|_| Err(self.timed_out(what, CALL_TIMEOUT.as_secs())))
    }

    /// Runs a command to its end and gives its exit code with the beginning of what it said; what goes beyond `most`
    /// bytes is read and dropped.
    ///
    /// # Errors
    /// As for [`Engine::exec`].
    pub async fn run_to_end(
        &self,
        container: &str,
        wish: &ExecWish,
        most: usize,
    ) -> Result<(Option<i64>, Vec<u8>), EngineError> {
        let mut running = self.exec(container, wish).await?;
        let mut said = Vec::new();
        while let Ok(Some((_, bytes))) = running.output.next().await {
            let room = most.saturating_sub(said.len()).min(bytes.len());
            said.extend_from_slice(&bytes[..room]);
        }
        Ok((self.exec_state(&running.id).await?.exit_code, said))
    }
}

impl Output {
    /// What it says next, and where; `None` at the end.
    ///
    /// # Errors
    /// When the connection breaks or what comes is not framed.
    pub async fn next(&mut self) -> std::io::Result<Option<(Stream, Bytes)>> {
        loop {
            if self.terminal {
                if !self.held.is_empty() {
                    return Ok(Some((Stream::Terminal, self.held.split().freeze())));
                }
            } else if let Some(frame) = self.frame()? {
                return Ok(Some(frame));
            }
            self.held.reserve(PIECE);
            if self.half.read_buf(&mut self.held).await? == 0 {
                return Ok(None);
            }
        }
    }

    fn frame(&mut self) -> std::io::Result<Option<(Stream, Bytes)>> {
        let Some(head) = self.held.get(..8) else { return Ok(None) };
        let stream = match head[0] {
            0 | 1 => Stream::Stdout,
            2 => Stream::Stderr,
            _ => return Err(std::io::Error::other("the command's output is damaged")),
        };
        let length = head[4..].iter().fold(0usize, |sum, &b| sum << 8 | usize::from(b));
        if length > LONGEST_FRAME {
            return Err(std::io::Error::other("the command's output is damaged"));
        }
        if self.held.len() < 8 + length {
            return Ok(None);
        }
        self.held.advance(8);
        Ok(Some((stream, self.held.split_to(length).freeze())))
    }
}

impl Input {
    /// Says something to it.
    ///
    /// # Errors
    /// When it is over.
    pub async fn write(&mut self, bytes: &[u8]) -> std::io::Result<()> {
        self.0.write_all(bytes).await?;
        self.0.flush().await
    }

    /// Says that nothing more comes.
    ///
    /// # Errors
    /// When it is over.
    pub async fn close(&mut self) -> std::io::Result<()> {
        self.0.shutdown().await
    }
}
