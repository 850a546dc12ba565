//! One simulated host: an engine behind a Unix socket, and the handle that drives it from outside.

use std::io;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;

use hyper_util::rt::{TokioIo, TokioTimer};
use hyper_util::service::TowerToHyperService;
use jiff::{SignedDuration, Timestamp};
use parking_lot::RwLock;
use tokio::net::UnixListener;
use tokio_util::sync::CancellationToken;

use crate::engine::{SimEngine, Status};
use crate::faults::Fault;
use crate::routes::router;
use crate::spec::ContainerSpec;

pub(crate) struct Shared {
    pub(crate) engine: Arc<SimEngine>,
    pub(crate) fault: RwLock<Fault>,
    /// Cancelled when all connections and streams are to be cut; replaced when it listens again.
    pub(crate) cut: RwLock<CancellationToken>,
}

/// A simulated host. It stops when dropped.
pub struct SimHost {
    path: PathBuf,
    shared: Arc<Shared>,
}

impl SimHost {
    /// Starts an engine that listens on `path`; the same seed gives the same ids and chatter.
    ///
    /// # Errors
    /// When the socket cannot be made.
    pub fn start(path: &Path, name: &str, seed: u64) -> io::Result<Self> {
        let shared = Arc::new(Shared {
            engine: SimEngine::new(name, seed),
            fault: RwLock::new(Fault::None),
            cut: RwLock::new(CancellationToken::new()),
        });
        let host = Self { path: path.to_owned(), shared };
        host.listen()?;
        Ok(host)
    }

    fn listen(&self) -> io::Result<()> {
        match std::fs::remove_file(&self.path) {
            Err(e) if e.kind() != io::ErrorKind::NotFound => return Err(e),
            _ => {}
        }
        let listener = UnixListener::bind(&self.path)?;
        let cut = CancellationToken::new();
        *self.shared.cut.write() = cut.clone();
        let service = TowerToHyperService::new(router(self.shared.clone()));
        tokio::spawn(async move {
            loop {
                let accepted = tokio::select! {
                    () = cut.cancelled() => return,
                    accepted = listener.accept() => accepted,
                };
                let Ok((stream, _)) = accepted else { continue };
                let (service, cut) = (service.clone(), cut.clone());
                tokio::spawn(async move {
                    let mut builder = hyper::server::conn::http1::Builder::new();
                    builder.timer(TokioTimer::new());
                    let connection = builder.serve_connection(TokioIo::new(stream), service).with_upgrades();
                    tokio::select! {
                        () = cut.cancelled() => {}
                        // A client that goes away is everyday business.
                        _ = connection => {}
                    }
                });
            }
        });
        Ok(())
    }

    /// Where it listens, as an engine address.
    pub fn address(&self) -> String {
        format!("unix://{}", self.path.display())
    }

    /// Its name.
    pub fn name(&self) -> &str {
        &self.shared.engine.name
    }

    /// Makes it misbehave from now on, or behave again.
    ///
    /// # Errors
    /// When it cannot listen again.
    pub fn set_fault(&self, fault: Fault) -> io::Result<()> {
        let before = std::mem::replace(&mut *self.shared.fault.write(), fault);
        if fault == Fault::Refusing {
            self.shared.cut.read().cancel();
        } else if before == Fault::Refusing {
            self.listen()?;
        }
        Ok(())
    }

    /// Cuts all connections, stays away for `pause` and comes back with its containers, as an
    /// engine does that is restarted while its containers live on.
    ///
    /// # Errors
    /// When it cannot listen again.
    pub async fn restart_engine(&self, pause: Duration) -> io::Result<()> {
        self.set_fault(Fault::Refusing)?;
        tokio::time::sleep(pause).await;
        self.set_fault(Fault::None)
    }

    /// Removes the socket's file and cuts all connections.
    ///
    /// # Errors
    /// When the file cannot be removed.
    pub fn remove_socket(&self) -> io::Result<()> {
        self.set_fault(Fault::Refusing)?;
        std::fs::remove_file(&self.path)
    }

    /// Makes a container and starts it; returns its id.
    pub fn run(&self, spec: ContainerSpec) -> String {
        let id = self.add(spec);
        // A start that fails is part of the play.
        let _ = self.shared.engine.start(&id);
        id
    }

    /// Makes a container without starting it; returns its id, or that of the one with its name.
    pub fn add(&self, spec: ContainerSpec) -> String {
        self.shared.engine.create(spec).unwrap_or_else(|other| other)
    }

    /// Ends a container's process with this exit code, as if it ended by itself.
    pub fn end_container(&self, id: &str, code: i64, out_of_memory: bool) {
        let epoch = self.shared.engine.state.lock().containers.get(id).map(|c| c.epoch);
        if let Some(epoch) = epoch {
            self.shared.engine.end(id, epoch, code, out_of_memory);
        }
    }

    /// Removes a container by force.
    pub fn remove_container(&self, id: &str) {
        let _ = self.shared.engine.remove(id, true);
    }

    /// Freezes a container.
    pub fn pause_container(&self, id: &str) {
        let mut state = self.shared.engine.state.lock();
        if let Some(c) = state.containers.get_mut(id) {
            c.status = Status::Paused;
            let spec = c.spec.clone();
            self.shared.engine.emit(&mut state, id, &spec, "pause", &[]);
        }
    }

    /// Lets it speak as podman does where that differs; to be called before anybody asks it.
    pub fn speak_as_podman(&self) {
        self.shared.engine.podman.store(true, std::sync::atomic::Ordering::Relaxed);
    }

    /// Adds an image that no container uses; without a tag it is a leftover.
    pub fn add_image(&self, tag: Option<&str>, size: u64, days_old: i64, architecture: &str) {
        let name = tag.map_or_else(|| format!("leftover {size}"), str::to_owned);
        let id = crate::answers::image_id(&name);
        let created = Timestamp::now() - SignedDuration::from_hours(24 * days_old);
        let tags = tag.map(str::to_owned).into_iter().collect();
        let image = crate::holdings::SimImage::new(tags, size, size / 5, created, architecture);
        self.shared.engine.state.lock().holdings.images.insert(id, image);
        self.shared.engine.emit_other("image", &name, "pull");
    }

    /// Adds a volume that no container mounts.
    pub fn add_volume(&self, name: &str, size: u64, days_old: i64) {
        let volume = crate::holdings::SimVolume {
            size,
            created: Timestamp::now() - SignedDuration::from_hours(24 * days_old),
            labels: std::collections::BTreeMap::new(),
            driver: "local".to_owned(),
            options: std::collections::BTreeMap::new(),
        };
        self.shared.engine.state.lock().holdings.volumes.insert(name.to_owned(), volume);
        self.shared.engine.emit_other("volume", name, "create");
    }

    /// Says where a registry really answers, e.g. `http://127.0.0.1:5000` for `registry.tarnvalley.example`.
    pub fn set_registry(&self, name: &str, base: &str) {
        self.shared.engine.registries.write().insert(name.to_owned(), base.to_owned());
    }

    /// Puts a file on the host, with the folders above it.
    pub fn put_file(&self, path: &str, bytes: &[u8]) {
        self.shared.engine.state.lock().holdings.files.put(path, bytes.to_vec());
    }

    /// What is in a file of the host; `None` when there is none.
    pub fn file(&self, path: &str) -> Option<Vec<u8>> {
        let state = self.shared.engine.state.lock();
        state.holdings.files.get(path).and_then(|node| node.bytes.as_ref()).map(|bytes| bytes.to_vec())
    }

    /// Adds a network that no container is in.
    pub fn add_network(&self, name: &str) {
        self.shared.engine.state.lock().holdings.need_network(name);
        self.shared.engine.emit_other("network", name, "create");
    }

    /// The names of all its images.
    pub fn image_names(&self) -> Vec<String> {
        let state = self.shared.engine.state.lock();
        state.holdings.images.values().flat_map(|i| i.tags.clone()).collect()
    }

    /// Removes an image.
    pub fn remove_image(&self, tag: &str) {
        self.shared.engine.state.lock().holdings.images.retain(|_, i| !i.tags.iter().any(|t| t == tag));
        self.shared.engine.emit_other("image", tag, "delete");
    }

    /// Sets the size and use of its disk, which only podman's own interface tells.
    pub fn set_disk(&self, total: u64, used: u64) {
        self.shared.engine.state.lock().holdings.disk = Some((total, used));
    }

    /// Sets its clock ahead by a number of seconds.
    pub fn set_clock_ahead(&self, seconds: i64) {
        self.shared.engine.state.lock().holdings.clock_ahead = seconds;
    }

    /// What a container of this name uses here.
    pub fn load_of(&self, name: &str) -> crate::Load {
        crate::Load::new(name, self.shared.engine.seed)
    }

    /// The names of the containers that run, with their memory limits.
    pub fn running(&self) -> Vec<(String, Option<u64>)> {
        let state = self.shared.engine.state.lock();
        let up = state.containers.values().filter(|c| c.status == Status::Running);
        up.map(|c| (c.spec.name.clone(), c.spec.memory_limit)).collect()
    }

    /// Freezes the nth container that runs, or lets it go on if it is frozen: a change that costs nothing.
    pub fn flip(&self, nth: usize) {
        let mut state = self.shared.engine.state.lock();
        let count = state.containers.len().max(1);
        let Some(c) = state.containers.values_mut().nth(nth % count) else { return };
        let (status, word) = match c.status {
            Status::Running => (Status::Paused, "pause"),
            Status::Paused => (Status::Running, "unpause"),
            _ => return,
        };
        c.status = status;
        let (id, spec) = (c.id.clone(), c.spec.clone());
        self.shared.engine.emit(&mut state, &id, &spec, word, &[]);
    }

    /// Adds a line to a container's log.
    pub fn write_log(&self, id: &str, stderr: bool, line: &str) {
        let log = self.shared.engine.state.lock().containers.get(id).map(|c| c.log.clone());
        if let Some(log) = log {
            log.write(stderr, format!("{line}\n").as_bytes());
        }
    }

    /// Gives a container a past: made, started and (if it has ended) finished these seconds ago,
    /// with these restarts and these earlier log lines.
    pub fn set_past(&self, id: &str, past: &Past) {
        let mut state = self.shared.engine.state.lock();
        let Some(c) = state.containers.get_mut(id) else { return };
        let now = Timestamp::now();
        let ago = |seconds: i64| now - SignedDuration::from_secs(seconds);
        c.created = ago(past.created);
        if c.started.is_some() {
            c.started = Some(ago(past.started));
        }
        if let Some(finished) = past.finished {
            c.finished = Some(ago(finished));
        }
        c.restart_count = past.restarts;
        for (seconds, stderr, line) in &past.lines {
            c.log.backfill(ago(*seconds), *stderr, line);
        }
    }
}

/// A container's past, in seconds before now.
#[derive(Debug, Clone, Default)]
pub struct Past {
    /// When it was made.
    pub created: i64,
    /// When it was started.
    pub started: i64,
    /// When it ended.
    pub finished: Option<i64>,
    /// How often it was restarted.
    pub restarts: u64,
    /// Log lines: how long ago, whether on standard error, and the text; oldest first.
    pub lines: Vec<(i64, bool, String)>,
}

impl Drop for SimHost {
    fn drop(&mut self) {
        self.shared.cut.read().cancel();
        for c in self.shared.engine.state.lock().containers.values() {
            c.run.cancel();
        }
        let _ = std::fs::remove_file(&self.path);
    }
}
