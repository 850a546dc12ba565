//! A command in a container created for it, watched to its end and removed, whatever happens: the command ends, the
//! time limit passes, the caller disconnects, or the service is stopped. Leftovers of a killed service are removed
//! once their time is over; see [`sweep`].
//!
//! Commands in containers that run already are in `http::terminals`.

use std::sync::Arc;
use std::time::Duration;

use gubernum_api::terminals::CommandLine;
use gubernum_core::container::Container;
use gubernum_core::definition::Definition;
use gubernum_core::journal::Progress;
use gubernum_core::logs::Stream as Said;
use gubernum_engine::Engine;
use gubernum_engine::exec::Output;
use tokio::sync::mpsc;
use tokio::time::{Instant, timeout_at};

use crate::exec::ExecContext;

/// The label of these containers: the second at which the container's time is over, counted from 1970.
pub(crate) const LABEL: &str = "gubernum.run-once";
/// How their names begin.
pub(crate) const NAME: &str = "run-once-";
/// The most of them at once.
pub(crate) const MOST: usize = 50;
/// The most that is passed on of what one says, in bytes.
pub(crate) const MOST_OUTPUT: usize = 64 * 1024 * 1024;
/// The longest time that one may take, in seconds, and what it takes unless it is said.
pub(crate) const MOST_SECONDS: u32 = 24 * 3600;
pub(crate) const USUAL_SECONDS: u32 = 300;
/// How long fetching its image may take.
const FETCH: Duration = Duration::from_secs(3600);
/// How long the engine may take to note that a process has ended.
const SETTLE: Duration = Duration::from_secs(5);
const LOOK_EVERY: Duration = Duration::from_millis(50);
/// What is given beyond a container's time before it is taken for left behind.
const GRACE: i64 = 60;
/// How often what was left behind is looked for.
pub(crate) const SWEEP_EVERY: Duration = Duration::from_secs(60);

/// One command and where it goes.
pub(crate) struct OneOff {
    pub(crate) context: Arc<ExecContext>,
    pub(crate) engine: Engine,
    pub(crate) name: String,
    pub(crate) definition: Definition,
    pub(crate) seconds: u32,
    pub(crate) tell: OutputSender,
}

/// Who hears what a command says.
pub(crate) struct OutputSender {
    pub(crate) sender: mpsc::Sender<CommandLine>,
    pub(crate) told: usize,
}

impl OutputSender {
    /// Whether somebody still listens. Beyond [`MOST_OUTPUT`] the rest is dropped.
    async fn say(&mut self, stderr: bool, bytes: &[u8]) -> bool {
        self.told += bytes.len();
        if self.told > MOST_OUTPUT {
            return !self.sender.is_closed();
        }
        let text = String::from_utf8_lossy(bytes).into_owned();
        self.sender.send(CommandLine { stderr, text, ..CommandLine::default() }).await.is_ok()
    }

    async fn note(&self, note: String) {
        let _ = self.sender.send(CommandLine { note: Some(note), ..CommandLine::default() }).await;
    }

    /// Carries a command's words until it ends; whether it did, and not its listener.
    pub(crate) async fn carry(&mut self, output: &mut Output) -> bool {
        let gone = self.sender.clone();
        loop {
            let piece = tokio::select! {
                piece = output.next() => piece,
                () = gone.closed() => return false,
            };
            match piece {
                Ok(Some((stream, bytes))) => {
                    if !self.say(stream == Said::Stderr, &bytes).await {
                        return false;
                    }
                }
                Ok(None) | Err(_) => return true,
            }
        }
    }

    pub(crate) async fn end(&self, exit_code: Option<i64>, problem: Option<String>) {
        let too_much = (self.told > MOST_OUTPUT).then(|| "output beyond 64 MiB was dropped".to_owned());
        let problem = problem.or(too_much);
        let line = CommandLine { ended: true, exit_code, problem, ..CommandLine::default() };
        let _ = self.sender.send(line).await;
    }
}

impl OneOff {
    /// Does all of it; gives in words how it ended, for the audit log.
    pub(crate) async fn run(mut self) -> String {
        let end = self.context.end.clone();
        let gone = self.tell.sender.clone();
        let made = tokio::select! {
            made = self.make() => made,
            () = gone.closed() => Err("nobody was waiting for it".to_owned()),
            () = end.cancelled() => Err("the service was stopped".to_owned()),
        };
        if let Err(problem) = made {
            // It may have been made while the answer was on its way.
            self.take_away().await;
            self.tell.end(None, Some(problem.clone())).await;
            return problem;
        }
        let (exit_code, problem) = tokio::select! {
            outcome = self.watch() => outcome,
            () = end.cancelled() => (None, Some("killed: the service was stopped".to_owned())),
        };
        self.take_away().await;
        let code = exit_code.map_or_else(|| "no exit code".to_owned(), |c| format!("exit code {c}"));
        let words = problem.as_ref().map_or_else(|| code.clone(), |p| format!("{code}: {p}"));
        self.tell.end(exit_code, problem).await;
        words
    }

    /// Fetches the image where it is missing and makes the container.
    async fn make(&mut self) -> Result<(), String> {
        let image = &self.definition.image;
        let missing = self.engine.image_id_of(image).await.map_err(|e| e.to_string())?.is_none();
        if missing {
            self.tell.note(format!("fetching {image}")).await;
        }
        let account = self.context.registries.account(image).await;
        let (policy, platform) = (self.definition.pull, self.definition.platform.as_deref());
        let nobody = |_: Progress| {};
        let fetching = self.engine.pull(image, policy, platform, account.as_ref(), nobody);
        match tokio::time::timeout(FETCH, fetching).await {
            Ok(fetched) => fetched.map_err(|e| e.to_string())?,
            Err(_) => return Err(format!("{image} was not pulled within an hour")),
        };
        let until = self.context.clock.now().as_second() + i64::from(self.seconds);
        self.definition.labels.insert(LABEL.to_owned(), until.to_string());
        self.engine.make(&self.name, &self.definition, None, None).await.map_err(|e| e.to_string())?;
        Ok(())
    }

    /// Starts it and carries its words until it ends or may not go on.
    async fn watch(&mut self) -> (Option<i64>, Option<String>) {
        let joined = match self.engine.attach(&self.name, self.definition.terminal).await {
            Ok(joined) => joined,
            Err(error) => return (None, Some(error.to_string())),
        };
        if let Err(error) = self.engine.start(&self.name).await {
            return (error.program_fault(), Some(error.to_string()));
        }
        let mut output = joined.output;
        let latest = Instant::now() + Duration::from_secs(self.seconds.into());
        match timeout_at(latest, self.tell.carry(&mut output)).await {
            Err(_) => {
                let seconds = self.seconds;
                (None, Some(format!("killed at its time limit of {seconds} s")))
            }
            Ok(false) => (None, Some("killed: nobody was waiting for it".to_owned())),
            Ok(true) => self.outcome(latest).await,
        }
    }

    /// Its exit code. A process may close its output long before it ends.
    async fn outcome(&self, latest: Instant) -> (Option<i64>, Option<String>) {
        let gone = self.tell.sender.clone();
        loop {
            match self.engine.inspect(&self.name).await {
                Ok(now) if !now.container.state.is_alive() => {
                    let c = now.container;
                    let problem = c.out_of_memory.then(|| "killed: out of memory".to_owned());
                    return (c.exit_code, problem);
                }
                Ok(_) if Instant::now() > latest + SETTLE => {
                    return (None, Some(format!("killed at its time limit of {} s", self.seconds)));
                }
                Ok(_) if gone.is_closed() => {
                    return (None, Some("killed: nobody was waiting for it".to_owned()));
                }
                Ok(_) => tokio::time::sleep(LOOK_EVERY).await,
                Err(error) => return (None, Some(error.to_string())),
            }
        }
    }

    /// Removes the container with its own volumes.
    async fn take_away(&self) {
        match self.engine.remove(&self.name, true, true).await {
            Err(error) if error.status() != Some(404) => {
                tracing::warn!(container = %self.name, "the one-off container could not be removed, retrying: {error}");
            }
            _ => {}
        }
    }
}

/// Whether a container was left behind by a service that was killed: its time is over, and more.
fn left_behind(container: &Container, now: i64) -> bool {
    let over = container.labels.get(LABEL).and_then(|until| until.parse::<i64>().ok());
    container.name.starts_with(NAME) && over.is_some_and(|over| now > over + GRACE)
}

/// Removes what was left behind, again and again.
pub(crate) async fn sweep(context: Arc<ExecContext>) {
    let mut every = tokio::time::interval(SWEEP_EVERY);
    while context.end.run_until_cancelled(every.tick()).await.is_some() {
        let now = context.clock.now().as_second();
        let left: Vec<(String, String)> = context.hub.look(|fleet| {
            let all = fleet.containers().filter(|c| left_behind(c, now));
            all.map(|c| (c.host.clone(), c.id.clone())).collect()
        });
        for (host, id) in left {
            let Some(engine) = context.links.get(&host).and_then(|link| link.live()) else { continue };
            if let Err(error) = engine.remove(&id, true, true).await {
                tracing::debug!(host, id, "a leftover one-off container could not be removed: {error}");
            }
        }
    }
}
