//! Starting and stopping the service.

use std::collections::HashMap;
use std::net::{SocketAddr, TcpListener};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;

use axum_server::Handle;
use axum_server::tls_rustls::RustlsConfig;
use gubernum_store::{OpenError, Store, StoreError};
use tokio_util::sync::CancellationToken;
use tokio_util::task::TaskTracker;

use crate::access::secrets;
use crate::assembly::{Assembly, Running};
use crate::clock::Clock;
use crate::fleet::{FleetContext, links, local_engine};
use crate::storage::Db;
use crate::usage::history::KeepHistory;
use crate::web::tls::Tls;
use crate::web::write_timeout::{Admission, UNREAD, WriteTimeout};
use crate::web::{Contexts, Subnet};
use crate::{access, exec, files, fleet, images, jobs, logs, sources, stacks, timeline, web};

/// How long open requests may take to end when the service stops.
const GRACE: Duration = Duration::from_secs(5);
/// Days that the timeline is kept unless told otherwise.
pub const TIMELINE_DAYS: u32 = 90;

/// What a service is started with.
pub struct ServiceSettings {
    /// Where it listens.
    pub listener: TcpListener,
    /// TLS, if it is to be spoken here.
    pub tls: Option<Tls>,
    /// Its records.
    pub store: Arc<Store>,
    /// The folder for resource history and kept log lines.
    pub data_dir: PathBuf,
    /// How long resource history is kept.
    pub keep_history: KeepHistory,
    /// Days that the timeline is kept.
    pub timeline_days: u32,
    /// Its clock.
    pub clock: Clock,
    /// The console's address when a proxy is in front, e.g. `https://gubernum.example`.
    pub public_url: Option<String>,
    /// Further names under which it may be asked for; addresses, `localhost` and the machine's own name always do.
    pub host_names: Vec<String>,
    /// Proxies whose `Forwarded` and `X-Forwarded-For` are believed.
    pub trusted_proxies: Vec<Subnet>,
    /// Who may read `/metrics` without a token.
    pub metrics_from: Vec<Subnet>,
    /// Whether hosts and registries may have link-local or unspecified addresses.
    pub allow_link_local: bool,
    /// The id of the container that it runs in, where that is known.
    pub own_container: Option<String>,
    /// Where registries really answer, by name, when that is elsewhere, as in the demo.
    pub registry_places: HashMap<String, String>,
    /// Whether an engine on this machine is looked for when nobody has claimed the service yet.
    pub find_local_engine: bool,
}

impl ServiceSettings {
    /// Plain settings: no TLS, no proxy, no search for engines, everything kept as long as usual.
    pub fn plain(listener: TcpListener, store: Arc<Store>, data_dir: &Path) -> Self {
        Self {
            listener,
            tls: None,
            store,
            data_dir: data_dir.to_owned(),
            keep_history: KeepHistory::default(),
            timeline_days: TIMELINE_DAYS,
            clock: Clock::system(),
            public_url: None,
            host_names: Vec::new(),
            trusted_proxies: Vec::new(),
            metrics_from: Vec::new(),
            allow_link_local: false,
            own_container: None,
            registry_places: HashMap::new(),
            find_local_engine: false,
        }
    }
}

/// Why the service could not be started.
#[derive(Debug, thiserror::Error)]
pub enum ServiceError {
    /// The records.
    #[error(transparent)]
    Store(#[from] StoreError),
    /// Resource history.
    #[error(transparent)]
    History(#[from] OpenError),
    /// The network or a thread.
    #[error("the service cannot be started: {0}")]
    Io(#[from] std::io::Error),
    /// A call of the API is in no table of rights: an error in the program.
    #[error(transparent)]
    Unguarded(#[from] web::authorize::Unguarded),
    /// No randomness.
    #[error(transparent)]
    Random(#[from] secrets::NoRandomness),
}

/// A running service.
pub struct Service {
    address: SocketAddr,
    secure: bool,
    claim_code: Option<String>,
    handle: Handle<SocketAddr>,
    running: Running,
    server: tokio::task::JoinHandle<std::io::Result<()>>,
    /// The certificate, which can be exchanged while it runs.
    certificate: Option<RustlsConfig>,
    /// Streams run here; ended last.
    _streams: Streams,
}

/// The runtime of streams. It is ended without waiting for it, also when the service did not come to start.
struct Streams(Option<tokio::runtime::Runtime>);

impl Streams {
    fn new() -> std::io::Result<Self> {
        let mut builder = tokio::runtime::Builder::new_multi_thread();
        Ok(Self(Some(builder.worker_threads(1).thread_name("streams").enable_all().build()?)))
    }

    fn handle(&self) -> Option<tokio::runtime::Handle> {
        self.0.as_ref().map(|runtime| runtime.handle().clone())
    }
}

impl Drop for Streams {
    fn drop(&mut self) {
        if let Some(runtime) = self.0.take() {
            runtime.shutdown_background();
        }
    }
}

impl Service {
    /// Starts it. It answers when this returns; the hosts come in as they are reached.
    ///
    /// # Errors
    /// When the records cannot be read or nothing can be listened to.
    pub async fn start(settings: ServiceSettings) -> Result<Self, ServiceError> {
        if let Some(id) = &settings.own_container {
            tracing::info!(container = %id, "Gubernum runs in a container and guards it");
        }
        let streams = Streams::new()?;
        let running = Running {
            tasks: TaskTracker::new(),
            end: CancellationToken::new(),
            listening: CancellationToken::new(),
            streams: streams.handle().unwrap_or_else(tokio::runtime::Handle::current),
        };
        let assembly = Assembly::new(&settings, &running).await?;
        let (contexts, claim_code) = (assembly.contexts.clone(), assembly.claim_code.clone());
        let find_engine = claim_code.is_some() && settings.find_local_engine;
        begin_hosts(&assembly.db, &assembly.clock, &contexts.fleet, find_engine).await?;
        let unfinished = assembly.db.run(Store::open_operations).await?;
        contexts.operations.runner.recover(unfinished).await;
        contexts.logs.rules.set(assembly.db.run(Store::keep_rules).await?);
        start_tasks(assembly, &running);

        let address = settings.listener.local_addr()?;
        settings.listener.set_nonblocking(true)?;
        let handle = Handle::new();
        let secure = settings.tls.is_some();
        let admission = Admission::new(settings.trusted_proxies);
        let (server, certificate) = listen(settings.listener, settings.tls, admission, &handle, contexts)?;
        running.listening.cancel();
        Ok(Self { address, secure, claim_code, handle, running, server, certificate, _streams: streams })
    }

    /// The address that it listens on.
    pub fn address(&self) -> SocketAddr {
        self.address
    }

    /// The console's and the API's address.
    pub fn url(&self) -> String {
        let scheme = if self.secure { "https" } else { "http" };
        format!("{scheme}://{}", self.address)
    }

    /// Takes another certificate for connections from now on.
    pub fn set_certificate(&self, tls: &Tls) {
        if let Some(config) = &self.certificate {
            config.reload_from_config(tls.config.clone());
        }
    }

    /// The code that makes the first member, while nobody has.
    pub fn claim_code(&self) -> Option<&str> {
        self.claim_code.as_deref()
    }

    /// Stops taking requests, lets those under way end for a few seconds, and ends everything else.
    /// Steps that an engine is at are left to it; the journal knows of them.
    pub async fn stop(mut self) {
        self.running.end.cancel();
        self.handle.graceful_shutdown(Some(GRACE));
        let _ = tokio::time::timeout(GRACE * 2, &mut self.server).await;
        self.server.abort();
        self.running.tasks.close();
        let _ = tokio::time::timeout(GRACE, self.running.tasks.wait()).await;
    }
}

impl Drop for Service {
    fn drop(&mut self) {
        self.running.end.cancel();
        self.handle.shutdown();
        self.server.abort();
    }
}

/// Heads of requests are small and quick, or not taken.
fn limits(http: &mut hyper_util::server::conn::auto::Http1Builder<'_, hyper_util::rt::TokioExecutor>) {
    http.timer(hyper_util::rt::TokioTimer::new());
    http.header_read_timeout(Duration::from_secs(20));
    http.max_buf_size(64 * 1024);
    http.max_headers(100);
}

/// Serves what comes over the listener, with TLS where it is spoken here; returns the certificate, which can be exchanged.
#[allow(clippy::type_complexity)]
fn listen(
    listener: TcpListener,
    tls: Option<Tls>,
    admission: Admission,
    handle: &Handle<SocketAddr>,
    contexts: Contexts,
) -> Result<(tokio::task::JoinHandle<std::io::Result<()>>, Option<RustlsConfig>), ServiceError> {
    let service = web::router(contexts)?.into_make_service_with_connect_info::<SocketAddr>();
    let Some(tls) = tls else {
        let mut server = axum_server::from_tcp(listener)?
            .acceptor(WriteTimeout::new(UNREAD, admission))
            .handle(handle.clone());
        limits(&mut server.http_builder().http1());
        return Ok((tokio::spawn(server.serve(service)), None));
    };
    let config = RustlsConfig::from_config(tls.config);
    let mut server = axum_server::from_tcp_rustls(listener, config.clone())?
        .map(|tls| tls.acceptor(WriteTimeout::new(UNREAD, admission)))
        .handle(handle.clone());
    limits(&mut server.http_builder().http1());
    Ok((tokio::spawn(server.serve(service)), Some(config)))
}

/// Starts what each capability does by itself.
fn start_tasks(assembly: Assembly, running: &Running) {
    let Assembly { clock, contexts, history, timeline: writer, .. } = assembly;
    let Running { tasks, end, .. } = running;
    access::start(&contexts.access, tasks, end);
    exec::start(&contexts.exec);
    files::start(&contexts.files);
    fleet::start(&contexts.fleet, tasks, end);
    images::start(&contexts.images);
    logs::start(&contexts.logs, tasks);
    stacks::start(&contexts.stacks, tasks, end);
    sources::start(&contexts.sources, tasks, end);
    jobs::start(&contexts.jobs, tasks, end);
    timeline::start(&contexts.timeline, &contexts.web.integrity, writer, tasks, end);
    web::start(tasks, end);
    tasks.spawn(history.run(clock, end.clone()));
}

/// Begins to watch every host of the records; where there is none, perhaps that of an engine on this machine.
async fn begin_hosts(
    db: &Db,
    clock: &Clock,
    fleet: &FleetContext,
    find_engine: bool,
) -> Result<(), ServiceError> {
    let mut hosts = db.run(Store::hosts).await?;
    if hosts.is_empty()
        && find_engine
        && let Some(found) = local_engine::find_engine().await
    {
        tracing::info!(host = %found.name, address = %found.address, "found an engine on this machine");
        let (kept, now) = (found.clone(), clock.now());
        db.run(move |store| store.add_host(&kept, now)).await?;
        hosts.push(found);
    }
    for host in hosts {
        match links::recorded(&host, fleet.allow_link_local) {
            Ok(endpoint) => fleet.links.begin(&host.name, endpoint, host.ports_address, host.groups),
            Err(error) => tracing::error!(host = %host.name, "cannot be watched: {error}"),
        }
    }
    Ok(())
}
