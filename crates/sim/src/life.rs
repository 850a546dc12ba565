//! The life of simulated containers: starting, running their program, exiting, restarting, health.

use std::sync::Arc;
use std::time::Duration;

use jiff::Timestamp;
use tokio_util::sync::CancellationToken;

use crate::demo::chatter;
use crate::engine::{Numbers, SimEngine, Status};
use crate::logbook::LogBook;
use crate::program::Action;

/// Why a transition was refused, as an HTTP status and the engine's words.
pub(crate) type Refusal = (u16, String);

impl SimEngine {
    /// Starts a container. `Ok(false)` when it runs already.
    pub(crate) fn start(self: &Arc<Self>, id: &str) -> Result<bool, Refusal> {
        let taken = self.port_taken(id);
        let mut state = self.state.lock();
        let c = state.containers.get_mut(id).ok_or_else(|| missing(id))?;
        if matches!(c.status, Status::Running | Status::Paused) {
            return Ok(false);
        }
        if let Some(port) = taken {
            let error = format!(
                "driver failed programming external connectivity on endpoint {}: Bind for 0.0.0.0:{port} failed: port is already allocated",
                c.spec.name
            );
            c.error.clone_from(&error);
            return Err((500, error));
        }
        if let Some(error) = &c.spec.program.start_error {
            c.error.clone_from(error);
            c.exit_code = 128;
            return Err((500, error.clone()));
        }
        c.status = Status::Running;
        c.started = Some(Timestamp::now());
        c.error.clear();
        c.out_of_memory = false;
        c.stopped = false;
        c.health = "starting";
        c.health_fails = 0;
        c.epoch += 1;
        c.run.cancel();
        c.run = CancellationToken::new();
        c.log.set_closed(false);
        let (spec, epoch, run, log) = (c.spec.clone(), c.epoch, c.run.clone(), c.log.clone());
        self.emit(&mut state, id, &spec, "start", &[]);
        drop(state);
        if spec.health.is_some() {
            tokio::spawn(self.clone().check_health(id.to_owned(), epoch, run.clone()));
        }
        if !spec.program.actions.is_empty() {
            let engine = self.clone();
            let id = id.to_owned();
            let seed = self.seed
                ^ epoch
                ^ id.bytes().fold(0u64, |a, b| a.wrapping_mul(31).wrapping_add(u64::from(b)));
            tokio::spawn(async move {
                let ended = tokio::select! {
                    () = run.cancelled() => None,
                    ended = perform(&spec.program.actions, &log, seed) => Some(ended),
                };
                if let Some((code, out_of_memory)) = ended {
                    engine.end(&id, epoch, code, out_of_memory);
                }
            });
        }
        Ok(true)
    }

    /// Notes that the process of run `epoch` ended, and restarts it when its policy says so.
    pub(crate) fn end(self: &Arc<Self>, id: &str, epoch: u64, code: i64, out_of_memory: bool) {
        let mut state = self.state.lock();
        let Some(c) = state.containers.get_mut(id).filter(|c| c.epoch == epoch && c.status.alive()) else {
            return;
        };
        c.run.cancel();
        c.finished = Some(Timestamp::now());
        c.exit_code = code;
        c.out_of_memory = out_of_memory;
        let again = !c.stopped
            && match c.spec.restart_policy.as_str() {
                "always" | "unless-stopped" => true,
                "on-failure" => code != 0,
                _ => false,
            };
        c.status = if again { Status::Restarting } else { Status::Exited };
        c.log.set_closed(!again);
        let (spec, count) = (c.spec.clone(), c.restart_count);
        if out_of_memory {
            self.emit(&mut state, id, &spec, "oom", &[]);
        }
        self.emit(&mut state, id, &spec, "die", &[("exitCode", code.to_string())]);
        drop(state);
        if again {
            let pause = Duration::from_millis(100 << count.min(9)).min(Duration::from_secs(60));
            let (engine, id) = (self.clone(), id.to_owned());
            tokio::spawn(async move {
                tokio::time::sleep(pause).await;
                engine.restart_by_policy(&id, epoch);
            });
        }
    }

    fn restart_by_policy(self: &Arc<Self>, id: &str, epoch: u64) {
        {
            let mut state = self.state.lock();
            let Some(c) = state.containers.get_mut(id) else { return };
            if c.epoch != epoch || c.status != Status::Restarting {
                return;
            }
            c.restart_count += 1;
        }
        // A start that fails leaves its error in the record, as an engine does.
        let _ = self.start(id);
    }

    /// Stops a container. `Ok(false)` when it does not run.
    pub(crate) async fn stop(self: &Arc<Self>, id: &str, grace: Option<u32>) -> Result<bool, Refusal> {
        let (stubborn, slow_end, grace, epoch) = {
            let mut state = self.state.lock();
            let c = state.containers.get_mut(id).ok_or_else(|| missing(id))?;
            if !c.status.alive() {
                return Ok(false);
            }
            c.stopped = true;
            let spec = c.spec.clone();
            let epoch = c.epoch;
            if c.status == Status::Restarting {
                c.status = Status::Exited;
                c.log.set_closed(true);
                self.emit(&mut state, id, &spec, "stop", &[]);
                return Ok(true);
            }
            self.emit(&mut state, id, &spec, "kill", &[("signal", "15".to_owned())]);
            let grace = grace.or(spec.stop_timeout).unwrap_or(10);
            (spec.program.stubborn, spec.program.slow_end, grace, epoch)
        };
        let grace = Duration::from_secs(grace.into());
        let end = Duration::from_millis(slow_end);
        let (wait, code) = if stubborn || end > grace { (grace, 137) } else { (end, 143) };
        tokio::time::sleep(wait).await;
        self.end(id, epoch, code, false);
        let mut state = self.state.lock();
        if let Some(spec) = state.containers.get(id).map(|c| c.spec.clone()) {
            self.emit(&mut state, id, &spec, "stop", &[]);
        }
        Ok(true)
    }

    pub(crate) async fn restart(self: &Arc<Self>, id: &str, grace: Option<u32>) -> Result<(), Refusal> {
        self.stop(id, grace).await?;
        self.start(id)?;
        let mut state = self.state.lock();
        if let Some(spec) = state.containers.get(id).map(|c| c.spec.clone()) {
            self.emit(&mut state, id, &spec, "restart", &[]);
        }
        Ok(())
    }

    pub(crate) fn kill(self: &Arc<Self>, id: &str, signal: &str) -> Result<(), Refusal> {
        let mut state = self.state.lock();
        let c = state.containers.get_mut(id).ok_or_else(|| missing(id))?;
        if !matches!(c.status, Status::Running | Status::Paused) {
            return Err((
                409,
                format!("Cannot kill container: {}: Container {} is not running", c.spec.name, c.id),
            ));
        }
        let code = match signal.trim_start_matches("SIG") {
            "KILL" | "9" => Some(137),
            "TERM" | "15" if !c.spec.program.stubborn => Some(143),
            "INT" | "2" => Some(130),
            _ => None,
        };
        c.stopped |= code.is_some();
        let (spec, epoch) = (c.spec.clone(), c.epoch);
        self.emit(&mut state, id, &spec, "kill", &[("signal", signal.to_owned())]);
        drop(state);
        if let Some(code) = code {
            self.end(id, epoch, code, false);
        }
        Ok(())
    }

    pub(crate) fn rename(&self, id: &str, name: &str) -> Result<(), Refusal> {
        let mut state = self.state.lock();
        if state.containers.values().any(|c| c.spec.name == name) {
            return Err((409, format!("Conflict. The container name \"/{name}\" is already in use")));
        }
        let c = state.containers.get_mut(id).ok_or_else(|| missing(id))?;
        let old = std::mem::replace(&mut c.spec.name, name.to_owned());
        let spec = c.spec.clone();
        self.emit(&mut state, id, &spec, "rename", &[("oldName", format!("/{old}"))]);
        Ok(())
    }

    pub(crate) fn remove(self: &Arc<Self>, id: &str, force: bool) -> Result<(), Refusal> {
        let mut state = self.state.lock();
        let c = state.containers.get_mut(id).ok_or_else(|| missing(id))?;
        if c.status.alive() && !force {
            return Err((
                409,
                format!(
                    "You cannot remove a running container {}. Stop the container before attempting removal or force remove",
                    c.id
                ),
            ));
        }
        c.stopped = true;
        let (alive, epoch) = (c.status.alive(), c.epoch);
        drop(state);
        if alive {
            self.end(id, epoch, 137, false);
        }
        let mut state = self.state.lock();
        if let Some(c) = state.containers.remove(id) {
            c.log.set_closed(true);
            self.emit(&mut state, id, &c.spec, "destroy", &[]);
        }
        Ok(())
    }

    async fn check_health(self: Arc<Self>, id: String, epoch: u64, run: CancellationToken) {
        for check in 0u32.. {
            let interval = {
                let state = self.state.lock();
                let plan = state.containers.get(&id).and_then(|c| c.spec.health.as_ref());
                plan.map_or(1000, |p| p.interval)
            };
            tokio::select! {
                () = run.cancelled() => return,
                () = tokio::time::sleep(Duration::from_millis(interval.max(10))) => {}
            }
            let mut state = self.state.lock();
            let Some(c) = state.containers.get_mut(&id).filter(|c| c.epoch == epoch) else { return };
            let Some(plan) = &c.spec.health else { return };
            let fails = plan.fails_from.is_some_and(|from| check >= from);
            c.health_fails = if fails { c.health_fails + 1 } else { 0 };
            let health = if !fails {
                "healthy"
            } else if c.health_fails >= 3 {
                "unhealthy"
            } else {
                c.health
            };
            if health != c.health {
                c.health = health;
                let spec = c.spec.clone();
                self.emit(&mut state, &id, &spec, &format!("health_status: {health}"), &[]);
            }
        }
    }
}

pub(crate) fn missing(id: &str) -> Refusal {
    (404, format!("No such container: {id}"))
}

/// Runs the actions; returns the exit code and whether memory ran out. Idles after the last.
async fn perform(actions: &[Action], log: &LogBook, seed: u64) -> (i64, bool) {
    let mut numbers = Numbers::new(seed);
    for action in actions {
        match action {
            Action::Out(text) => log.write(false, format!("{text}\n").as_bytes()),
            Action::Err(text) => log.write(true, format!("{text}\n").as_bytes()),
            Action::Bytes(bytes) => log.write(false, bytes),
            Action::Long(length) => {
                let mut line = vec![b'x'; *length];
                line.push(b'\n');
                log.write(false, &line);
            }
            Action::Wait(ms) => tokio::time::sleep(Duration::from_millis(*ms)).await,
            Action::Chatter { topic, every } => loop {
                let pause = every / 2 + numbers.below((*every).max(1));
                tokio::time::sleep(Duration::from_millis(pause.max(5))).await;
                let (stderr, line) = chatter::line(topic, &mut numbers);
                log.write(stderr, format!("{line}\n").as_bytes());
            },
            Action::Flood => {
                log.flood();
                std::future::pending::<()>().await;
            }
            Action::OutOfMemory => return (137, true),
            Action::Exit(code) => return (*code, false),
        }
    }
    std::future::pending().await
}
