//! Terminals: shells in containers that outlive the connection that opened them for a minute, so that a page can be
//! reloaded. Each has limits, and its start and end are in the audit log.
//!
//! A terminal's output goes to its holders and to a ring of the last bytes, from which a new holder is served
//! first. One that does not read is not waited for: it is cut off and may come again. HTTP is in `http::terminals`.

use std::collections::{BTreeMap, VecDeque};
use std::sync::Arc;
use std::time::Duration;

use bytes::Bytes;
use gubernum_api::terminals::{NewTerminal, Terminal, TerminalEnd};
use gubernum_core::container::Container;
use gubernum_engine::Engine;
use gubernum_engine::exec::{ExecWish, Input, Output};
use parking_lot::Mutex;
use tokio::sync::{broadcast, mpsc, watch};
use tokio::time::{Instant, sleep_until};
use tokio_util::sync::CancellationToken;

use crate::access::Identity;
use crate::access::Lease;
use crate::exec::ExecContext;
use crate::exec::TerminalError;

/// The sizes that a terminal can have, in characters.
pub(crate) const COLUMNS: std::ops::RangeInclusive<u16> = 2..=1000;
pub(crate) const ROWS: std::ops::RangeInclusive<u16> = 1..=500;
/// The most terminals at once, of everybody and of one member.
const MOST: usize = 200;
const MOST_OF_ONE: usize = 20;
/// What is kept for a holder that comes back, in bytes.
const KEPT: usize = 256 * 1024;
/// Pieces of output that a holder may lag behind, and of input that may wait.
const LAG: usize = 512;
const WAITING: usize = 64;
/// How long a terminal waits for somebody to hold it again.
const ALONE: Duration = Duration::from_secs(60);
/// The longest time without a key, and the longest time in all, before a terminal is ended.
const IDLE: Duration = Duration::from_secs(30 * 60);
const LONGEST: Duration = Duration::from_secs(12 * 3600);
/// How long the outcome can be asked for after the end.
const REMEMBERED: Duration = Duration::from_secs(60);
/// The variable by which the processes of a terminal are found again.
const MARK: &str = "GUBERNUM_TERMINAL";
/// How often it is asked for an exit code that is not there yet, and how long between.
const LOOKS: u32 = 20;
const LOOK_AGAIN: Duration = Duration::from_millis(50);
/// The most of a terminal's text that goes to the log when that is set, in bytes.
const MOST_RECORDED: usize = 1024 * 1024;

/// All terminals.
#[derive(Default)]
pub(crate) struct Terminals(Mutex<BTreeMap<String, Arc<Session>>>);

/// One terminal.
pub(crate) struct Session {
    pub(crate) shown: Terminal,
    member_id: i64,
    engine: Engine,
    runs: Runs,
    input: mpsc::Sender<Bytes>,
    output: broadcast::Sender<Bytes>,
    kept: Mutex<VecDeque<u8>>,
    holders: watch::Sender<usize>,
    touched: Mutex<Instant>,
    end: CancellationToken,
    ended: watch::Sender<Option<TerminalEnd>>,
}

/// What a terminal shows.
enum Runs {
    /// A command of its own, by the engine's id of it.
    Command(String),
    /// The container's own process, by the container's id.
    Own {
        container: String,
        /// It has a terminal of its own.
        terminal: bool,
    },
}

/// TerminalAttachment by whoever shows the terminal.
pub(crate) struct TerminalAttachment {
    pub(crate) session: Arc<Session>,
    /// What it said last, before now.
    pub(crate) before: Bytes,
    pub(crate) output: broadcast::Receiver<Bytes>,
    pub(crate) ended: watch::Receiver<Option<TerminalEnd>>,
}

impl Drop for TerminalAttachment {
    fn drop(&mut self) {
        self.session.holders.send_modify(|n| *n = n.saturating_sub(1));
    }
}

impl Session {
    /// Sends keys to it.
    pub(crate) async fn type_in(&self, bytes: Bytes) -> bool {
        *self.touched.lock() = Instant::now();
        self.input.send(bytes).await.is_ok()
    }

    /// Tells it how large it is shown.
    pub(crate) async fn resize(&self, columns: u16, rows: u16) {
        let columns = columns.clamp(*COLUMNS.start(), *COLUMNS.end());
        let rows = rows.clamp(*ROWS.start(), *ROWS.end());
        let resized = match &self.runs {
            Runs::Command(exec) => self.engine.resize(exec, columns, rows).await,
            Runs::Own { container, terminal: true } => self.engine.resize_own(container, columns, rows).await,
            Runs::Own { .. } => Ok(()),
        };
        if let Err(error) = resized {
            tracing::debug!(terminal = %self.shown.id, "the terminal could not be resized: {error}");
        }
    }

    /// Ends it.
    pub(crate) fn close(&self) {
        self.end.cancel();
    }

    /// Takes hold of it.
    pub(crate) fn hold(self: &Arc<Self>) -> TerminalAttachment {
        self.holders.send_modify(|n| *n += 1);
        let kept = self.kept.lock();
        // Under the lock, so that nothing is missed or told twice.
        let output = self.output.subscribe();
        let (a, b) = kept.as_slices();
        let before = Bytes::from([a, b].concat());
        TerminalAttachment { session: self.clone(), before, output, ended: self.ended.subscribe() }
    }

    /// Keys as the process wants them: without a terminal nobody else turns the return key into a line end.
    fn keys_for(&self, bytes: Bytes) -> Bytes {
        match self.runs {
            Runs::Own { terminal: false, .. } => {
                bytes.iter().map(|&b| if b == b'\r' { b'\n' } else { b }).collect()
            }
            _ => bytes,
        }
    }

    fn say(&self, bytes: Bytes) {
        let bytes = match self.runs {
            Runs::Own { terminal: false, .. } => with_returns(&bytes),
            _ => bytes,
        };
        let mut kept = self.kept.lock();
        kept.extend(bytes.iter());
        let over = kept.len().saturating_sub(KEPT);
        kept.drain(..over);
        let _ = self.output.send(bytes);
    }
}

/// Line ends as a terminal needs them.
fn with_returns(bytes: &[u8]) -> Bytes {
    let mut out = Vec::with_capacity(bytes.len() + 16);
    for &byte in bytes {
        if byte == b'\n' && out.last() != Some(&b'\r') {
            out.push(b'\r');
        }
        out.push(byte);
    }
    out.into()
}

impl Terminals {
    /// One terminal of a member.
    pub(crate) fn get(&self, id: &str, member: i64) -> Option<Arc<Session>> {
        self.0.lock().get(id).filter(|s| s.member_id == member).cloned()
    }

    /// All of a member that are open.
    pub(crate) fn of_member(&self, member: i64) -> Vec<Terminal> {
        let all = self.0.lock();
        let open = all.values().filter(|s| s.member_id == member && s.ended.borrow().is_none());
        open.map(|s| s.shown.clone()).collect()
    }
}

/// Opens a terminal in a container.
pub(crate) async fn open(
    context: &Arc<ExecContext>,
    who: &Identity,
    container: Container,
    wish: NewTerminal,
) -> Result<Arc<Session>, TerminalError> {
    {
        let all = context.terminals.0.lock();
        let own = all.values().filter(|s| s.member_id == who.member_id && s.ended.borrow().is_none()).count();
        if own >= MOST_OF_ONE || all.len() >= MOST {
            return Err(TerminalError::TooMany);
        }
    }
    let engine = context.links.engine(&container.host)?;
    let id = crate::access::fresh_secret("t")?;
    let id: String = id.chars().take(24).collect();
    let begun = if wish.attach {
        join(&engine, &container, &wish).await?
    } else {
        begin(&engine, &container, &wish, &id).await?
    };
    let Begun { command, runs, output: said, input: ear } = begun;
    let (input, keys) = mpsc::channel(WAITING);
    let (output, _) = broadcast::channel(LAG);
    let shown = Terminal {
        id: id.clone(),
        container: container.reference(),
        command,
        attached: wish.attach,
        opened: context.clock.now(),
    };
    let session = Arc::new(Session {
        shown,
        member_id: who.member_id,
        engine,
        runs,
        input,
        output,
        kept: Mutex::default(),
        holders: watch::Sender::new(0),
        touched: Mutex::new(Instant::now()),
        end: context.end.child_token(),
        ended: watch::Sender::new(None),
    });
    session.resize(wish.columns, wish.rows).await;
    context.terminals.0.lock().insert(id, session.clone());
    let words = gubernum_core::mask::arguments(&session.shown.command).join(" ");
    context.audit.note(who, "open-terminal", session.shown.container.as_str(), words).await;
    let (context, who, begun) = (context.clone(), who.clone(), session.clone());
    context.tasks.clone().spawn(async move {
        let record = context.db.run(|store| store.preferences()).await.is_ok_and(|p| p.record_terminals);
        let lease = who.lease.clone();
        let work = Work { session: begun.clone(), container, lease, record: record.then(Vec::new) };
        let (end, recorded) = work.run(said, ear, keys).await;
        let span = context.clock.now().duration_since(begun.shown.opened).as_secs();
        let code = end.exit_code.map_or_else(|| "no exit code".to_owned(), |c| format!("exit code {c}"));
        let outcome = format!("after {span} s, {code}: {}", end.sentence);
        context.audit.note(&who, "close-terminal", begun.shown.container.as_str(), outcome).await;
        if let Some(text) = recorded {
            let text = String::from_utf8_lossy(&text).into_owned();
            context.audit.note(&who, "terminal-text", begun.shown.container.as_str(), text).await;
        }
        begun.ended.send_replace(Some(end));
        tokio::time::sleep(REMEMBERED).await;
        context.terminals.0.lock().remove(&begun.shown.id);
    });
    Ok(session)
}

/// Something that runs and can be shown.
struct Begun {
    command: Vec<String>,
    runs: Runs,
    output: Output,
    input: Input,
}

/// Begins a shell or a command in a container.
async fn begin(
    engine: &Engine,
    container: &Container,
    wish: &NewTerminal,
    id: &str,
) -> Result<Begun, TerminalError> {
    let command = match (wish.command.is_empty(), &wish.shell) {
        (false, _) => wish.command.clone(),
        (true, Some(shell)) => vec![shell.clone()],
        (true, None) => {
            let shells = engine.shells(&container.id).await?;
            let shell = shells.first().ok_or_else(|| TerminalError::NoShell(container.reference()))?;
            vec![(*shell).to_owned()]
        }
    };
    let exec = ExecWish {
        command: command.clone(),
        terminal: true,
        user: wish.user.clone().filter(|u| !u.is_empty()),
        folder: wish.folder.clone().filter(|f| !f.is_empty()),
        environment: vec!["TERM=xterm-256color".to_owned(), format!("{MARK}={id}")],
        input: true,
        ..ExecWish::default()
    };
    let running = engine.exec(&container.id, &exec).await.map_err(|e| match e.status() {
        Some(409 | 500) if !container.state.is_alive() => TerminalError::NotRunning(container.reference()),
        _ => e.into(),
    })?;
    Ok(Begun { command, runs: Runs::Command(running.id), output: running.output, input: running.input })
}

/// Joins a container's own process.
async fn join(engine: &Engine, container: &Container, wish: &NewTerminal) -> Result<Begun, TerminalError> {
    let more = [wish.shell.is_some(), !wish.command.is_empty(), wish.user.is_some(), wish.folder.is_some()];
    if more.contains(&true) {
        return Err(TerminalError::Attached);
    }
    if !container.state.is_alive() {
        return Err(TerminalError::NotRunning(container.reference()));
    }
    let joined = engine.attach(&container.id, container.terminal).await?;
    let runs = Runs::Own { container: container.id.clone(), terminal: container.terminal };
    Ok(Begun { command: vec![container.command.clone()], runs, output: joined.output, input: joined.input })
}

struct Work {
    session: Arc<Session>,
    container: Container,
    /// It ends with the credential that opened it.
    lease: Lease,
    /// What was said, when that is to be kept.
    record: Option<Vec<u8>>,
}

impl Work {
    /// Carries keys in and text out until the shell ends or a limit is reached.
    async fn run(
        mut self,
        mut output: Output,
        mut input: Input,
        mut keys: mpsc::Receiver<Bytes>,
    ) -> (TerminalEnd, Option<Vec<u8>>) {
        let session = self.session.clone();
        let mut holders = session.holders.subscribe();
        let latest = Instant::now() + LONGEST;
        let mut alone_since = Some(Instant::now());
        // Keys go in a task of their own: a shell that does not read must not keep its text from coming out.
        let (sender, mut waiting) = mpsc::channel::<Bytes>(WAITING);
        let hears = session.clone();
        let writing = tokio::spawn(async move {
            while let Some(bytes) = waiting.recv().await {
                if input.write(&hears.keys_for(bytes)).await.is_err() {
                    return;
                }
            }
            // To the container's own process that would be the end of its input for ever.
            if matches!(hears.runs, Runs::Command(_)) {
                let _ = input.close().await;
            }
        });
        let why = loop {
            let idle = *session.touched.lock() + IDLE;
            let alone = alone_since.map_or(latest, |since| since + ALONE);
            tokio::select! {
                said = output.next() => match said {
                    Ok(Some((_, bytes))) => {
                        if let Some(record) = &mut self.record {
                            let room = MOST_RECORDED.saturating_sub(record.len()).min(bytes.len());
                            record.extend_from_slice(&bytes[..room]);
                        }
                        session.say(bytes);
                    }
                    Ok(None) | Err(_) => break None,
                },
                permit = sender.reserve(), if !keys.is_empty() => {
                    if let (Ok(permit), Ok(bytes)) = (permit, keys.try_recv()) {
                        permit.send(bytes);
                    }
                }
                more = keys.recv(), if keys.is_empty() => {
                    // One that waits is put back in line for the shell.
                    if let Some(bytes) = more && sender.send(bytes).await.is_err() {
                        break None;
                    }
                }
                changed = holders.changed() => {
                    if changed.is_err() { break Some("nobody is attached any more"); }
                    alone_since = (*holders.borrow() == 0).then(Instant::now);
                }
                () = sleep_until(alone), if alone_since.is_some() => break Some("nobody was attached for a minute"),
                () = sleep_until(idle) => break Some("no key was pressed for half an hour"),
                () = sleep_until(latest) => break Some("it was open for twelve hours"),
                () = session.end.cancelled() => break Some("it was closed"),
                () = self.lease.ended() => break Some("the session or token that opened it has ended"),
            }
        };
        drop(sender);
        writing.abort();
        if why.is_some() && !session.shown.attached {
            self.sweep().await;
        }
        let exit_code = match (&session.runs, why) {
            (Runs::Command(exec), _) => self.exit_code(exec).await,
            (Runs::Own { .. }, None) => self.own_exit_code().await,
            (Runs::Own { .. }, Some(_)) => None,
        };
        let sentence = match (why, exit_code) {
            (Some(why), _) if self.session.shown.attached => {
                format!("Detached because {why}; the container keeps running.")
            }
            (Some(why), _) => format!("Ended because {why}."),
            (None, Some(0)) => "Exited.".to_owned(),
            (None, Some(code)) => format!("Exited with code {code}."),
            (None, None) => self.lost().await,
        };
        (TerminalEnd { exit_code, sentence }, self.record)
    }

    /// Ends the shell's processes: an engine lets them run on when nobody listens any more.
    async fn sweep(&self) {
        let script = format!(
            "for p in /proc/[0-9]*; do if tr '\\0' '\\n' < $p/environ 2>/dev/null | grep -q '^{MARK}={}$'; then kill -HUP ${{p#/proc/}} 2>/dev/null; kill -KILL ${{p#/proc/}} 2>/dev/null; fi; done; true",
            self.session.shown.id
        );
        let wish =
            ExecWish { command: vec!["sh".to_owned(), "-c".to_owned(), script], ..ExecWish::default() };
        let swept = self.session.engine.run_to_end(&self.container.id, &wish, 1000);
        match tokio::time::timeout(Duration::from_secs(5), swept).await {
            Ok(Ok(_)) => {}
            Ok(Err(error)) => tracing::debug!("the processes of a terminal may still be running: {error}"),
            Err(_) => tracing::debug!("the processes of a terminal may still be running: no answer in time"),
        }
    }

    /// How the container's own process ended; `None` while it goes on.
    async fn own_exit_code(&self) -> Option<i64> {
        for _ in 0..LOOKS {
            let now = self.session.engine.inspect(&self.container.id).await.ok()?.container;
            if !now.state.is_alive() {
                return now.exit_code;
            }
            tokio::time::sleep(LOOK_AGAIN).await;
        }
        None
    }

    async fn exit_code(&self, exec: &str) -> Option<i64> {
        for _ in 0..LOOKS {
            match self.session.engine.exec_state(exec).await {
                Ok(state) if !state.running => return state.exit_code,
                Ok(_) => tokio::time::sleep(LOOK_AGAIN).await,
                Err(_) => return None,
            }
        }
        None
    }

    async fn lost(&self) -> String {
        match self.session.engine.inspect(&self.container.id).await {
            Ok(now) if now.container.state.is_alive() => "The connection was lost.".to_owned(),
            Ok(_) => "The container exited.".to_owned(),
            Err(e) if e.status() == Some(404) => "The container was removed.".to_owned(),
            Err(error) => format!("The connection was lost: {error}"),
        }
    }
}
