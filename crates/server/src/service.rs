//! Starting and stopping the service.

use std::collections::HashMap;
use std::net::{SocketAddr, TcpListener};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;

use axum_server::Handle;
use axum_server::tls_rustls::RustlsConfig;
use gubernum_store::history::HistoryStore;
use gubernum_store::segments::Segments;
use gubernum_store::{OpenError, Store, StoreError};
use parking_lot::Mutex;
use tokio::sync::Semaphore;
use tokio_util::sync::CancellationToken;
use tokio_util::task::TaskTracker;

use crate::access::Leases;
use crate::access::secrets;
use crate::access::throttle::Throttle;
use crate::app::{App, KEPT_READS, Shared};
use crate::clock::Clock;
use crate::exec::Terminals;
use crate::exec::one_offs;
use crate::fleet::Hub;
use crate::fleet::Links;
use crate::fleet::links;
use crate::fleet::links::LinkParts;
use crate::fleet::local_engine as local;
use crate::images::Registries;
use crate::images::update_checks as newer;
use crate::logs::Followers;
use crate::logs::keeper;
use crate::logs::keeper::Rules;
use crate::operations::Claims;
use crate::operations::settling as settle;
use crate::operations::{Runner, RunnerParts};
use crate::storage::Db;
use crate::timeline::recorder;
use crate::usage::Uses;
use crate::usage::history::{History, KeepHistory};
use crate::web as http;
use crate::web::Subnet;
use crate::web::authenticate::Tickets;
use crate::web::guard::Names;
use crate::web::tls::Tls;
use crate::web::write_timeout::{Admission, UNREAD, WriteTimeout};

/// How long open requests may take to end when the service stops.
const GRACE: Duration = Duration::from_secs(5);
/// Days that the timeline is kept unless told otherwise.
pub const TIMELINE_DAYS: u32 = 90;
/// How often the fleet is told that time passes.
const TICK: Duration = Duration::from_secs(30);

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
    /// The console's address when a proxy stands in front, e.g. `https://gubernum.example`.
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
    app: App,
    server: tokio::task::JoinHandle<std::io::Result<()>>,
    /// The certificate, which can be exchanged while it runs.
    certificate: Option<RustlsConfig>,
    /// Streams run here; ended last.
    streams: Option<tokio::runtime::Runtime>,
}

impl Service {
    /// Starts it. It answers when this returns; the hosts come in as they are reached.
    ///
    /// # Errors
    /// When the records cannot be read or nothing can be listened to.
    pub async fn start(settings: ServiceSettings) -> Result<Self, ServiceError> {
        let end = CancellationToken::new();
        let tasks = TaskTracker::new();
        let epoch = secrets::fresh("")?.chars().take(12).collect();
        let own = settings.own_container;
        let in_container = own.is_some();
        if let Some(id) = &own {
            tracing::info!(container = %id, "Gubernum runs in a container and guards it");
        }
        let db = Db::new(settings.store);
        let clock = settings.clock;
        let hub = Arc::new(Hub::new(epoch, own));
        let (store, aside) = HistoryStore::open(&settings.data_dir.join("history.db"))?;
        if let Some(aside) = aside {
            tracing::error!(
                "resource history was damaged; it was put aside as {} and begun anew",
                aside.display()
            );
        }
        let history = Arc::new(History::new(Arc::new(store), settings.keep_history)?);
        let uses = Arc::new(Uses::new(history.clone(), settings.keep_history.sample_seconds));
        let claims = Arc::new(Claims::default());
        let (recorder, writer) =
            recorder::recorder(db.clone(), clock.clone(), settings.timeline_days, claims.clone());
        let links = Arc::new(Links::new(LinkParts {
            hub: hub.clone(),
            clock: clock.clone(),
            db: db.clone(),
            recorder,
            uses: uses.clone(),
            end: end.clone(),
            tasks: tasks.clone(),
        }));
        let registries = Registries::new(db.clone(), settings.registry_places, settings.allow_link_local);
        let followers = Arc::new(Followers::default());
        let runner = Runner::new(RunnerParts {
            hub: hub.clone(),
            links: links.clone(),
            db: db.clone(),
            clock: clock.clone(),
            tasks: tasks.clone(),
            registries: registries.clone(),
            followers: followers.clone(),
            claims,
            in_container,
        });
        let streams = tokio::runtime::Builder::new_multi_thread()
            .worker_threads(1)
            .thread_name("streams")
            .enable_all()
            .build()?;
        let unclaimed = !db.run(Store::has_members).await?;
        let claim_code = if unclaimed { Some(secrets::claim_code()?) } else { None };
        let app = App(Arc::new(Shared {
            db: db.clone(),
            hub,
            links,
            uses,
            segments: Segments::new(&settings.data_dir.join("logs")),
            rules: Rules::default(),
            kept_reads: Arc::new(Semaphore::new(KEPT_READS)),
            followers,
            runner: runner.clone(),
            registries,
            backing: crate::images::digest_checks::Backing::default(),
            terminals: Terminals::default(),
            throttle: Throttle::default(),
            clock: clock.clone(),
            claim_code: Mutex::new(claim_code.clone()),
            secure: settings.tls.is_some()
                || settings.public_url.as_deref().is_some_and(|u| u.starts_with("https:")),
            public_url: settings.public_url.clone(),
            streams: streams.handle().clone(),
            leases: Leases::default(),
            tickets: Tickets::default(),
            budgets: Arc::default(),
            trusted_proxies: settings.trusted_proxies,
            metrics_from: settings.metrics_from,
            allow_link_local: settings.allow_link_local,
            names: Names::new(&settings.host_names, settings.public_url.as_deref()),
            strict_transport: settings.tls.as_ref().is_some_and(|tls| tls.given),
            audit_fault: Mutex::new(None),
            one_offs: Arc::new(Semaphore::new(one_offs::MOST)),
            uploads: crate::files::Uploads::default(),
            end: end.clone(),
            tasks: tasks.clone(),
        }));
        app.begin_hosts(unclaimed && settings.find_local_engine).await?;
        settle::begin(&runner, db.run(Store::open_operations).await?).await;
        app.begin_ticking();
        app.rules.set(db.run(Store::keep_rules).await?);
        tasks.spawn(keeper::run(app.clone()));
        tasks.spawn(newer::run(app.clone()));
        tasks.spawn(crate::images::digest_checks::run(app.clone()));
        tasks.spawn(one_offs::sweep(app.clone()));
        tasks.spawn(crate::timeline::integrity::run(app.clone()));
        tasks.spawn(crate::web::descriptors::run(end.clone()));
        let leasing = app.clone();
        tasks.spawn(async move { leasing.leases.run(&leasing.clock, &leasing.end).await });
        tasks.spawn(crate::files::http::upload::sweep(app.clone()));
        tasks.spawn(history.run(clock, end.clone()));
        let ending = end.clone();
        tasks.spawn(async move {
            ending.run_until_cancelled(writer.run()).await;
        });

        let address = settings.listener.local_addr()?;
        settings.listener.set_nonblocking(true)?;
        let handle = Handle::new();
        let service = http::router(app.clone()).into_make_service_with_connect_info::<SocketAddr>();
        let secure = settings.tls.is_some();
        let admission = Admission::new(app.trusted_proxies.clone());
        let mut certificate = None;
        let server = match settings.tls {
            Some(tls) => {
                let config = RustlsConfig::from_config(tls.config);
                certificate = Some(config.clone());
                let mut server = axum_server::from_tcp_rustls(settings.listener, config)?
                    .map(|tls| tls.acceptor(WriteTimeout::new(UNREAD, admission.clone())))
                    .handle(handle.clone());
                limits(&mut server.http_builder().http1());
                tokio::spawn(server.serve(service))
            }
            None => {
                let mut server = axum_server::from_tcp(settings.listener)?
                    .acceptor(WriteTimeout::new(UNREAD, admission))
                    .handle(handle.clone());
                limits(&mut server.http_builder().http1());
                tokio::spawn(server.serve(service))
            }
        };
        Ok(Self { address, secure, claim_code, handle, app, server, certificate, streams: Some(streams) })
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
        self.app.end.cancel();
        self.handle.graceful_shutdown(Some(GRACE));
        let _ = tokio::time::timeout(GRACE * 2, &mut self.server).await;
        self.server.abort();
        self.app.tasks.close();
        let _ = tokio::time::timeout(GRACE, self.app.tasks.wait()).await;
        if let Some(streams) = self.streams.take() {
            streams.shutdown_background();
        }
    }
}

impl Drop for Service {
    fn drop(&mut self) {
        self.app.end.cancel();
        self.handle.shutdown();
        self.server.abort();
        if let Some(streams) = self.streams.take() {
            streams.shutdown_background();
        }
    }
}

/// Heads of requests are small and quick, or not taken.
fn limits(http: &mut hyper_util::server::conn::auto::Http1Builder<'_, hyper_util::rt::TokioExecutor>) {
    http.timer(hyper_util::rt::TokioTimer::new());
    http.header_read_timeout(Duration::from_secs(20));
    http.max_buf_size(64 * 1024);
    http.max_headers(100);
}

impl App {
    async fn begin_hosts(&self, find: bool) -> Result<(), ServiceError> {
        let mut hosts = self.db.run(Store::hosts).await?;
        if hosts.is_empty()
            && find
            && let Some(found) = local::find_engine().await
        {
            tracing::info!(host = %found.name, address = %found.address, "found an engine on this machine");
            let (kept, now) = (found.clone(), self.clock.now());
            self.db.run(move |store| store.add_host(&kept, now)).await?;
            hosts.push(found);
        }
        for host in hosts {
            match links::recorded(&host, self.allow_link_local) {
                Ok(endpoint) => self.links.begin(&host.name, endpoint, host.public_address),
                Err(error) => tracing::error!(host = %host.name, "cannot be watched: {error}"),
            }
        }
        Ok(())
    }

    fn begin_ticking(&self) {
        let app = self.clone();
        self.tasks.spawn(async move {
            let ticking = async {
                loop {
                    tokio::time::sleep(TICK).await;
                    app.hub.tick(app.clock.now());
                }
            };
            app.end.run_until_cancelled(ticking).await;
        });
    }
}
