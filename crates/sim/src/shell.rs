//! Commands in a simulated container: a toy shell with a handful of commands, with a terminal or without.

use std::collections::BTreeMap;
use std::sync::Arc;

use axum::body::Body;
use axum::http::{Request, Response, StatusCode};
use hyper_util::rt::TokioIo;
use serde_json::{Value, json};
use tokio::io::{AsyncRead, AsyncReadExt, AsyncWrite, AsyncWriteExt};
use tokio_util::sync::CancellationToken;

use crate::engine::SimEngine;
use crate::life::{Refusal, missing};

/// The most bytes that one line of input may have.
const LONGEST_LINE: usize = 1024 * 1024;

/// A command that was prepared, runs or is over.
#[derive(Debug, Clone)]
pub(crate) struct Exec {
    pub(crate) container: String,
    command: Vec<String>,
    terminal: bool,
    folder: String,
    user: String,
    environment: Vec<String>,
    running: bool,
    exit_code: Option<i64>,
    size: (u16, u16),
}

impl SimEngine {
    pub(crate) fn prepare_exec(&self, id: &str, wish: &Value) -> Result<Value, Refusal> {
        let mut state = self.state.lock();
        let c = state.containers.get(id).ok_or_else(|| missing(id))?;
        if c.status != crate::engine::Status::Running {
            return Err((409, format!("Container {id} is not running")));
        }
        let texts = |v: &Value| -> Vec<String> {
            v.as_array().into_iter().flatten().filter_map(Value::as_str).map(str::to_owned).collect()
        };
        let mut environment = c.spec.environment.clone();
        environment.extend(texts(&wish["Env"]));
        let exec = Exec {
            container: id.to_owned(),
            command: texts(&wish["Cmd"]),
            terminal: wish["Tty"] == true,
            folder: wish["WorkingDir"].as_str().filter(|f| !f.is_empty()).unwrap_or("/app").to_owned(),
            user: wish["User"].as_str().filter(|u| !u.is_empty()).unwrap_or("app").to_owned(),
            environment,
            running: false,
            exit_code: None,
            size: (80, 24),
        };
        let number = state.execs.len();
        let key = crate::answers::image_id(&format!("exec {number} in {id}")).replace("sha256:", "");
        state.execs.insert(key.clone(), exec);
        Ok(json!({"Id": key}))
    }

    pub(crate) fn exec_state(&self, key: &str) -> Result<Value, Refusal> {
        let state = self.state.lock();
        let exec = state.execs.get(key).ok_or_else(|| (404, format!("No such exec instance: {key}")))?;
        Ok(
            json!({"ID": key, "Running": exec.running, "ExitCode": exec.exit_code, "ContainerID": exec.container, "Pid": 0}),
        )
    }

    pub(crate) fn resize_exec(&self, key: &str, columns: u16, rows: u16) -> Result<(), Refusal> {
        let mut state = self.state.lock();
        let exec = state.execs.get_mut(key).ok_or_else(|| (404, format!("No such exec instance: {key}")))?;
        exec.size = (columns, rows);
        Ok(())
    }

    /// Starts a command; the connection is its from then on.
    pub(crate) fn start_exec(
        self: &Arc<Self>,
        key: &str,
        request: Request<Body>,
    ) -> Result<Response<Body>, Refusal> {
        let (exec, run) = {
            let mut state = self.state.lock();
            let exec =
                state.execs.get_mut(key).ok_or_else(|| (404, format!("No such exec instance: {key}")))?;
            exec.running = true;
            let exec = exec.clone();
            let run = state.containers.get(&exec.container).map(|c| c.run.clone());
            {
                let run = run.ok_or_else(|| missing(&exec.container))?;
                (exec, run)
            }
        };
        let program =
            exec.command.first().map(|p| p.rsplit('/').next().unwrap_or(p).to_owned()).unwrap_or_default();
        if !KNOWN.contains(&program.as_str()) {
            if let Some(exec) = self.state.lock().execs.get_mut(key) {
                (exec.running, exec.exit_code) = (false, Some(127));
            }
            let text = format!(
                "OCI runtime exec failed: exec failed: unable to start container process: exec: \"{program}\": executable file not found in $PATH: unknown"
            );
            return Err((400, text));
        }
        let (engine, key) = (self.clone(), key.to_owned());
        tokio::spawn(async move {
            let code = match hyper::upgrade::on(request).await {
                Ok(upgraded) => serve(&engine, &key, exec, TokioIo::new(upgraded), run).await,
                Err(_) => 1,
            };
            if let Some(exec) = engine.state.lock().execs.get_mut(&key) {
                (exec.running, exec.exit_code) = (false, Some(code));
            }
        });
        let response = Response::builder()
            .status(StatusCode::SWITCHING_PROTOCOLS)
            .header("connection", "Upgrade")
            .header("upgrade", "tcp")
            .body(Body::empty());
        response.map_err(|e| (500, e.to_string()))
    }
}

const KNOWN: [&str; 19] = [
    "sh", "bash", "ash", "echo", "cat", "ls", "pwd", "env", "id", "whoami", "true", "false", "sleep", "stty",
    "mv", "rm", "chmod", "chown", "stat",
];

struct Shell<'a> {
    engine: &'a SimEngine,
    key: &'a str,
    exec: Exec,
}

enum Said {
    Out(String),
    Err(String),
}

async fn serve<S: AsyncRead + AsyncWrite + Unpin>(
    engine: &SimEngine,
    key: &str,
    exec: Exec,
    mut stream: S,
    run: CancellationToken,
) -> i64 {
    let mut shell = Shell { engine, key, exec };
    let code = tokio::select! {
        () = run.cancelled() => 137,
        code = shell.run(&mut stream) => code.unwrap_or(1),
    };
    // Known before the connection ends, as with real engines.
    if let Some(exec) = engine.state.lock().execs.get_mut(key) {
        (exec.running, exec.exit_code) = (false, Some(code));
    }
    let _ = stream.shutdown().await;
    code
}

impl Shell<'_> {
    async fn run<S: AsyncRead + AsyncWrite + Unpin>(&mut self, stream: &mut S) -> std::io::Result<i64> {
        let command = self.exec.command.clone();
        let program = command.first().and_then(|p| p.rsplit('/').next()).unwrap_or_default();
        let is_shell = matches!(program, "sh" | "bash" | "ash");
        if is_shell && command.get(1).is_some_and(|c| c == "-c" || c == "-lc") {
            let script = command.get(2).cloned().unwrap_or_default();
            return Ok(self.line(stream, &script).await?.unwrap_or(0));
        }
        if is_shell {
            return self.interactive(stream).await;
        }
        let line = command.join(" ");
        Ok(self.line(stream, &line).await?.unwrap_or(0))
    }

    async fn interactive<S: AsyncRead + AsyncWrite + Unpin>(
        &mut self,
        stream: &mut S,
    ) -> std::io::Result<i64> {
        let mut line: Vec<u8> = Vec::new();
        let mut last = 0;
        self.prompt(stream).await?;
        let mut buffer = vec![0u8; 16 * 1024];
        loop {
            let count = stream.read(&mut buffer).await?;
            if count == 0 {
                return Ok(last);
            }
            let mut echo: Vec<u8> = Vec::new();
            for &byte in &buffer[..count] {
                match byte {
                    b'\r' | b'\n' => {
                        if self.exec.terminal {
                            echo.extend_from_slice(b"\r\n");
                        }
                        stream.write_all(&echo).await?;
                        echo.clear();
                        let text = String::from_utf8_lossy(&std::mem::take(&mut line)).into_owned();
                        if let Some(code) = self.line(stream, &text).await? {
                            if text.split(';').any(|c| c.trim().starts_with("exit")) {
                                return Ok(code);
                            }
                            last = code;
                        }
                        self.prompt(stream).await?;
                    }
                    3 => {
                        line.clear();
                        echo.extend_from_slice(b"^C\r\n");
                        stream.write_all(&echo).await?;
                        echo.clear();
                        self.prompt(stream).await?;
                    }
                    4 if line.is_empty() => return Ok(last),
                    8 | 127 => {
                        if line.pop().is_some() {
                            echo.extend_from_slice(b"\x08 \x08");
                        }
                    }
                    byte => {
                        if line.len() < LONGEST_LINE {
                            line.push(byte);
                        }
                        if self.exec.terminal {
                            echo.push(byte);
                        }
                    }
                }
            }
            stream.write_all(&echo).await?;
        }
    }

    async fn prompt<S: AsyncWrite + Unpin>(&self, stream: &mut S) -> std::io::Result<()> {
        if self.exec.terminal {
            let prompt = format!("\x1b[32m{}\x1b[0m {} $ ", self.exec.user, self.exec.folder);
            stream.write_all(prompt.as_bytes()).await?;
        }
        Ok(())
    }

    /// Does what a line says; the code of its last command.
    async fn line<S: AsyncWrite + Unpin>(
        &mut self,
        stream: &mut S,
        line: &str,
    ) -> std::io::Result<Option<i64>> {
        let mut code = None;
        for command in line.split(';') {
            let words: Vec<&str> = command.split_whitespace().collect();
            let Some((&program, arguments)) = words.split_first() else { continue };
            if program == "exit" {
                return Ok(Some(arguments.first().and_then(|c| c.parse().ok()).unwrap_or(0)));
            }
            if program == "sleep" {
                let seconds: f64 = arguments.first().and_then(|s| s.parse().ok()).unwrap_or(0.0);
                tokio::time::sleep(std::time::Duration::from_secs_f64(seconds.clamp(0.0, 3600.0))).await;
                code = Some(0);
                continue;
            }
            let (said, ended) = self.word(program, arguments);
            for said in said {
                self.tell(stream, said).await?;
            }
            code = Some(ended);
        }
        Ok(code)
    }

    async fn tell<S: AsyncWrite + Unpin>(&self, stream: &mut S, said: Said) -> std::io::Result<()> {
        let (kind, text) = match said {
            Said::Out(text) => (1u8, text),
            Said::Err(text) => (2, text),
        };
        if self.exec.terminal {
            return stream.write_all(text.replace('\n', "\r\n").as_bytes()).await;
        }
        let length = u32::try_from(text.len()).unwrap_or(u32::MAX).to_be_bytes();
        stream.write_all(&[kind, 0, 0, 0]).await?;
        stream.write_all(&length).await?;
        stream.write_all(text.as_bytes()).await
    }

    fn word(&mut self, program: &str, arguments: &[&str]) -> (Vec<Said>, i64) {
        let out = |text: String| (vec![Said::Out(text)], 0);
        let whole = |path: &str| {
            if path.starts_with('/') { path.to_owned() } else { format!("{}/{path}", self.exec.folder) }
        };
        match program.rsplit('/').next().unwrap_or(program) {
            "echo" => {
                let to_err = arguments.contains(&">&2");
                let words: Vec<&str> = arguments.iter().filter(|a| **a != ">&2").copied().collect();
                let text = format!("{}\n", words.join(" ").trim_matches(['"', '\'']));
                (vec![if to_err { Said::Err(text) } else { Said::Out(text) }], 0)
            }
            "pwd" => out(format!("{}\n", self.exec.folder)),
            "whoami" => out(format!("{}\n", self.exec.user)),
            "id" => out(format!("uid=1000({0}) gid=1000({0})\n", self.exec.user)),
            "hostname" => out(format!("{}\n", &self.exec.container[..12])),
            "env" => out(self.exec.environment.iter().map(|e| format!("{e}\n")).collect()),
            "true" | ":" => (Vec::new(), 0),
            "false" => (Vec::new(), 1),
            "stty" => {
                let size = self.engine.state.lock().execs.get(self.key).map_or((80, 24), |e| e.size);
                out(format!("{} {}\n", size.1, size.0))
            }
            "cd" => {
                self.exec.folder = whole(arguments.first().unwrap_or(&"/"));
                (Vec::new(), 0)
            }
            "ls" => self.list(&whole(arguments.iter().find(|a| !a.starts_with('-')).unwrap_or(&"."))),
            "mv" | "rm" | "chmod" | "chown" => self.change(program, arguments, &whole),
            "cat" => self.read(&whole(arguments.first().unwrap_or(&""))),
            "stat" => self.owner(&whole(arguments.last().unwrap_or(&""))),
            other => (vec![Said::Err(format!("sh: {other}: not found\n"))], 127),
        }
    }

    fn list(&self, path: &str) -> (Vec<Said>, i64) {
        let state = self.engine.state.lock();
        let Some(c) = state.containers.get(&self.exec.container) else { return (Vec::new(), 1) };
        let place = crate::files::place(c, path);
        match state.holdings.files.names(&place) {
            Some(names) => (vec![Said::Out(names.into_iter().map(|n| format!("{n}\n")).collect())], 0),
            None => (vec![Said::Err(format!("ls: {path}: No such file or directory\n"))], 1),
        }
    }

    /// Renames, deletes, or sets permissions and owner.
    fn change(&self, program: &str, arguments: &[&str], whole: &dyn Fn(&str) -> String) -> (Vec<Said>, i64) {
        let words: Vec<&str> = arguments.iter().filter(|a| !a.starts_with('-')).copied().collect();
        let mut state = self.engine.state.lock();
        let state = &mut *state;
        let Some(c) = state.containers.get(&self.exec.container) else { return (Vec::new(), 1) };
        let place = |path: &str| crate::files::place(c, &whole(path));
        let files = &mut state.holdings.files;
        let (target, done) = match (program, &words[..]) {
            ("mv", [from, to]) => {
                let (from, to) = (place(from), place(to));
                let known = files.get(&from).is_some();
                files.rename(&from, &to);
                (words[0], known)
            }
            ("rm", [path]) => {
                files.remove(&place(path));
                (words[0], true)
            }
            ("chmod", [mode, path]) => {
                let mode = u32::from_str_radix(mode, 8).unwrap_or(0o644);
                (words[1], files.change(&place(path), |n| n.mode = mode))
            }
            ("chown", [owner, path]) => {
                let (user, group) = owner.split_once(':').unwrap_or((owner, ""));
                let set = |n: &mut crate::files::Node| {
                    n.user = user.parse().unwrap_or(n.user);
                    n.group = group.parse().unwrap_or(n.group);
                };
                (words[1], files.change(&place(path), set))
            }
            _ => return (vec![Said::Err(format!("{program}: wrong number of words\n"))], 2),
        };
        if done {
            return (Vec::new(), 0);
        }
        (vec![Said::Err(format!("{program}: {target}: No such file or directory\n"))], 1)
    }

    /// `stat` for the one question that it is asked: the numbers of owner and group.
    fn owner(&self, path: &str) -> (Vec<Said>, i64) {
        let state = self.engine.state.lock();
        let Some(c) = state.containers.get(&self.exec.container) else { return (Vec::new(), 1) };
        match state.holdings.files.get(&crate::files::place(c, path)) {
            Some(node) => (vec![Said::Out(format!("{}:{}\n", node.user, node.group))], 0),
            None => (vec![Said::Err(format!("stat: {path}: No such file or directory\n"))], 1),
        }
    }

    fn read(&self, path: &str) -> (Vec<Said>, i64) {
        let state = self.engine.state.lock();
        let Some(c) = state.containers.get(&self.exec.container) else { return (Vec::new(), 1) };
        let place = crate::files::place(c, path);
        match state.holdings.files.get(&place).and_then(|n| n.bytes.clone()) {
            Some(bytes) => (vec![Said::Out(String::from_utf8_lossy(&bytes).into_owned())], 0),
            None => (vec![Said::Err(format!("cat: {path}: No such file or directory\n"))], 1),
        }
    }
}

/// All commands of an engine by their ids.
pub(crate) type Execs = BTreeMap<String, Exec>;
