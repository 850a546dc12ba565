//! A service with simulated hosts, in this process.

use std::future::Future;
use std::net::TcpListener;
use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::{AtomicI64, Ordering};
use std::time::Duration;

use gubernum_api::Container;
use gubernum_api::members::{AcceptInvitation, Grant, NewInvitation};
use gubernum_api::requests::{Claim, NewHost, NewToken};
use gubernum_client::{Client, Trust};
use gubernum_server::{Clock, Service, ServiceSettings};
use gubernum_sim::{ContainerSpec, Program, SimHost};
use gubernum_store::{Seal, Store};
use jiff::{SignedDuration, Timestamp};
use tempfile::TempDir;

pub(crate) const PASSWORD: &str = "russet ladder harvest moon";

/// A running service with its folder, its simulated hosts and a signed-in client.
pub(crate) struct Bench {
    pub(crate) folder: TempDir,
    pub(crate) hosts: Vec<SimHost>,
    pub(crate) service: Service,
    pub(crate) client: Client,
    ahead: Arc<AtomicI64>,
}

/// Starts a service on the records in a folder; its clock is ahead of the machine's by a number of seconds.
pub(crate) async fn start(folder: &Path, own_container: Option<String>, ahead: Arc<AtomicI64>) -> Service {
    let seal = Seal::open(&folder.join("seal.key")).unwrap();
    let store = Arc::new(Store::open(&folder.join("gubernum.db"), seal).unwrap());
    let clock =
        Clock::new(move || Timestamp::now() + SignedDuration::from_secs(ahead.load(Ordering::Relaxed)));
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let plain = ServiceSettings::plain(listener, store, folder);
    let settings = ServiceSettings { clock, own_container, ..plain };
    Service::start(settings).await.unwrap()
}

/// Starts a service on the records in a folder with other settings than the plain ones.
pub(crate) async fn start_with(folder: &Path, change: impl FnOnce(&mut ServiceSettings)) -> Service {
    let seal = Seal::open(&folder.join("seal.key")).unwrap();
    let store = Arc::new(Store::open(&folder.join("gubernum.db"), seal).unwrap());
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let mut settings = ServiceSettings::plain(listener, store, folder);
    change(&mut settings);
    Service::start(settings).await.unwrap()
}

/// Claims a fresh service and gives a client with a token.
pub(crate) async fn claim(service: &Service) -> Client {
    let anonymous = Client::new(&service.url(), None, Trust::System).unwrap();
    let code = service.claim_code().expect("it is fresh").to_owned();
    let claim = Claim { code, member: "mara".into(), password: PASSWORD.into() };
    let session = anonymous.claim(&claim).await.unwrap();
    let made = session
        .make_token(&NewToken {
            name: "tests".into(),
            expires_in_days: None,
            bounds: None,
            networks: Vec::new(),
        })
        .await
        .unwrap();
    Client::new(&service.url(), Some(made.secret), Trust::System).unwrap()
}

impl Bench {
    /// A service with these hosts, each with the containers `api`, `worker` and `store`.
    pub(crate) async fn with(names: &[&str]) -> Self {
        Self::guarding(names, None).await
    }

    pub(crate) async fn guarding(names: &[&str], own_container: Option<String>) -> Self {
        let folder = tempfile::tempdir().unwrap();
        let ahead = Arc::new(AtomicI64::new(0));
        let service = start(folder.path(), own_container, ahead.clone()).await;
        let client = claim(&service).await;
        let mut bench = Self { folder, hosts: Vec::new(), service, client, ahead };
        for name in names {
            bench.add_host(name).await;
        }
        bench.until("all containers are listed", async |b| b.all().await.len() == b.hosts.len() * 3).await;
        bench
    }

    async fn add_host(&mut self, name: &str) {
        let path = self.folder.path().join(format!("{name}.sock"));
        let host = SimHost::start(&path, name, 11).unwrap();
        for part in ["api", "worker", "store"] {
            host.run(ContainerSpec::new(part, &format!("registry.tarnvalley.example/{part}:1")));
        }
        let wish = NewHost {
            name: name.to_owned(),
            address: host.address(),
            tls: None,
            ports_address: None,
            groups: Vec::new(),
        };
        self.client.add_host(&wish).await.unwrap();
        self.hosts.push(host);
    }

    /// A client with a token of a new member who has these grants, each as `role@scope`.
    pub(crate) async fn member(&self, name: &str, grants: &[&str]) -> Client {
        let grants = grants.iter().map(|text| {
            let (role, scope) = text.split_once('@').unwrap();
            Grant { role: role.to_owned(), scope: scope.parse().unwrap() }
        });
        let wish = NewInvitation { name: name.to_owned(), grants: grants.collect(), hours: None };
        let made = self.client.invite(&wish).await.unwrap();
        let anonymous = Client::new(&self.service.url(), None, Trust::System).unwrap();
        let accept = AcceptInvitation { secret: made.secret, password: PASSWORD.to_owned() };
        let session = anonymous.accept_invitation(&accept).await.unwrap();
        let token =
            NewToken { name: "tests".into(), expires_in_days: None, bounds: None, networks: Vec::new() };
        let made = session.make_token(&token).await.unwrap();
        Client::new(&self.service.url(), Some(made.secret), Trust::System).unwrap()
    }

    /// Restarts the service on the same records.
    pub(crate) async fn restart(&mut self) {
        let ahead = self.ahead.clone();
        let service = start(self.folder.path(), None, ahead).await;
        std::mem::replace(&mut self.service, service).stop().await;
        let token = self.fresh_token_client();
        self.client = token;
    }

    fn fresh_token_client(&self) -> Client {
        // The token is kept in the records, so only the address is new.
        self.client.at(&self.service.url()).unwrap()
    }

    /// Ends the service wholly before it starts again, as a restart on a machine does.
    pub(crate) async fn end_and_start(self) -> Self {
        let Self { folder, hosts, service, client, ahead } = self;
        service.stop().await;
        let service = start(folder.path(), None, ahead.clone()).await;
        let client = client.at(&service.url()).unwrap();
        Self { folder, hosts, service, client, ahead }
    }

    /// The time on the service's clock.
    pub(crate) fn now(&self) -> Timestamp {
        Timestamp::now() + SignedDuration::from_secs(self.ahead.load(Ordering::Relaxed))
    }

    /// Sets the service's clock ahead.
    pub(crate) fn pass(&self, seconds: i64) {
        self.ahead.fetch_add(seconds, Ordering::Relaxed);
    }

    pub(crate) async fn all(&self) -> Vec<Container> {
        self.client.containers(&[]).await.unwrap()
    }

    pub(crate) async fn one(&self, host: &str, name: &str) -> Option<Container> {
        self.all().await.into_iter().find(|c| c.host == host && c.name == name)
    }

    /// Waits until something holds.
    pub(crate) async fn until(&self, what: &str, holds: impl AsyncFn(&Self) -> bool) {
        until(what, Duration::from_secs(45), async || holds(self).await).await;
    }
}

pub(crate) async fn until<F: Future<Output = bool>>(what: &str, within: Duration, holds: impl Fn() -> F) {
    let deadline = tokio::time::Instant::now() + within;
    while !holds().await {
        assert!(tokio::time::Instant::now() < deadline, "never: {what}");
        tokio::time::sleep(Duration::from_millis(20)).await;
    }
}

/// A container that takes this long to end.
pub(crate) fn slow(name: &str, milliseconds: u64) -> ContainerSpec {
    let mut spec = ContainerSpec::new(name, "registry.tarnvalley.example/slow:1");
    spec.program = Program { slow_end: milliseconds, ..Program::idle() };
    spec
}
