//! Over 200 hosts with 25 containers each: listing, event to delta, idle, start.

use std::collections::HashMap;
use std::io::{BufRead, BufReader, Write};
use std::path::{Path, PathBuf};
use std::process::{Child, ChildStdin, ChildStdout, Command, Stdio};
use std::time::{Duration, Instant};

use bytes::Bytes;
use gubernum_api::requests::{Claim, NewHost, NewToken};
use gubernum_api::{Change, FromClient, FromServer};
use gubernum_client::{Client, ClientError, Trust};
use gubernum_engine::{Endpoint, Engine};
use gubernum_testbed::BedError;
use gubernum_testbed::started::Started;
use tempfile::TempDir;
use tokio::sync::mpsc;

use crate::{Row, failed, median};

const HOSTS: usize = 200;
const EACH: usize = 25;
const PASSWORD: &str = "russet ladder harvest moon";

/// A service over many simulated hosts, each in a process of its own.
pub(crate) struct Fleet {
    pub(crate) service: Started,
    pub(crate) client: Client,
    pub(crate) token: String,
    engines: Child,
    orders: ChildStdin,
    answers: BufReader<ChildStdout>,
    folder: TempDir,
    binary: PathBuf,
}

fn client(error: ClientError) -> BedError {
    failed("client", &error.to_string())
}

fn io(what: &str) -> BedError {
    failed("simulate", what)
}

impl Fleet {
    pub(crate) async fn start(binary: &Path) -> Result<Self, BedError> {
        Self::start_churning(binary, 0).await
    }

    /// The same, with so many containers changing each second.
    pub(crate) async fn start_churning(binary: &Path, churn: u32) -> Result<Self, BedError> {
        let folder = tempfile::tempdir()?;
        let sockets = folder.path().join("engines");
        let mut engines = Command::new(binary)
            .args(["simulate", "--hosts", &HOSTS.to_string(), "--each", &EACH.to_string()])
            .args(["--churn", &churn.to_string(), "--folder"])
            .arg(&sockets)
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .spawn()?;
        let orders = engines.stdin.take().ok_or_else(|| io("no standard input"))?;
        let mut answers = BufReader::new(engines.stdout.take().ok_or_else(|| io("no standard output"))?);
        answers.read_line(&mut String::new())?;
        let (service, client, token) = serve(binary, &folder.path().join("data")).await?;
        for n in 1..=HOSTS {
            let name = format!("shed-{n:03}");
            let address = format!("unix://{}", sockets.join(format!("{name}.sock")).display());
            client
                .add_host(&NewHost { name, address, tls: None, public_address: None })
                .await
                .map_err(self::client)?;
        }
        let fleet =
            Self { service, client, token, engines, orders, answers, folder, binary: binary.to_owned() };
        fleet.complete().await?;
        Ok(fleet)
    }

    async fn complete(&self) -> Result<(), BedError> {
        for _ in 0..600 {
            if self.client.containers(&[]).await.map_err(client)?.len() >= HOSTS * EACH {
                return Ok(());
            }
            tokio::time::sleep(Duration::from_millis(100)).await;
        }
        Err(failed("listing", "the fleet never became complete"))
    }

    pub(crate) async fn measure(&mut self) -> Result<Vec<Row>, BedError> {
        let mut rows = vec![self.listing().await?];
        rows.extend(self.idle().await?);
        rows.push(self.start_time().await?);
        rows.push(self.event_to_delta().await?);
        Ok(rows)
    }

    /// A listing over HTTP against the same bytes from memory through the same HTTP stack.
    async fn listing(&self) -> Result<Row, BedError> {
        let url = format!("{}/api/v1/containers", self.client.url());
        let http = reqwest::Client::new();
        let bytes = fetch(&http, &url, &self.token).await?;
        let size = bytes.len();
        let same =
            axum::Router::new().route("/", axum::routing::get(move || std::future::ready(bytes.clone())));
        let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await?;
        let static_url = format!("http://{}/", listener.local_addr()?);
        tokio::spawn(async move { axum::serve(listener, same).await });
        let (mut ours, mut theirs) = (Vec::new(), Vec::new());
        for _ in 0..40 {
            let begun = Instant::now();
            fetch(&http, &url, &self.token).await?;
            ours.push(begun.elapsed().as_secs_f64());
            let begun = Instant::now();
            fetch(&http, &static_url, &self.token).await?;
            theirs.push(begun.elapsed().as_secs_f64());
        }
        let (ours, theirs) = (median(ours), median(theirs));
        let more = format!("{:.1} ms against {:.1} ms, {} kB", ours * 1e3, theirs * 1e3, size / 1000);
        Ok(Row::most("list 5,000 containers / the same bytes from memory", ours / theirs, 1.5, "x", more))
    }

    async fn idle(&self) -> Result<Vec<Row>, BedError> {
        // Let what the listing has stirred up settle.
        tokio::time::sleep(Duration::from_secs(5)).await;
        let before = processor(self.service.id())?;
        let span = Duration::from_secs(30);
        tokio::time::sleep(span).await;
        let cores = (processor(self.service.id())? - before) / span.as_secs_f64();
        let memory = memory(self.service.id())?;
        Ok(vec![
            Row::most("idle with 200 hosts x 25 containers: processor", cores, 0.25, "core", "30 s".into()),
            Row::most("idle with 200 hosts x 25 containers: memory", memory, 200.0, "MB", "resident".into()),
        ])
    }

    /// From starting the program to its first answer, with 200 known hosts.
    async fn start_time(&self) -> Result<Row, BedError> {
        let copy = self.folder.path().join("copy");
        std::fs::create_dir_all(&copy)?;
        for name in ["gubernum.db", "gubernum.db-wal", "seal.key"] {
            let from = self.folder.path().join("data").join(name);
            if from.exists() {
                std::fs::copy(from, copy.join(name))?;
            }
        }
        let mut times = Vec::new();
        for _ in 0..7 {
            let begun = Instant::now();
            let service = Started::serve(&self.binary, &copy, &["--log-level", "error"])?;
            reqwest::get(format!("{}/healthz", service.url()))
                .await
                .map_err(|e| failed("start", &e.to_string()))?;
            times.push(begun.elapsed().as_secs_f64() * 1e3);
        }
        Ok(Row::most(
            "start to first answer with 200 known hosts",
            median(times),
            300.0,
            "ms",
            "median of 7".into(),
        ))
    }

    /// From an engine's own event to the delta at a live connection: what we add.
    async fn event_to_delta(&mut self) -> Result<Row, BedError> {
        const SAMPLES: usize = 300;
        let mut live = self.client.live().await.map_err(client)?;
        live.send(&FromClient::Fleet { id: 1, since: None }).await.map_err(client)?;
        live.next().await.map_err(client)?;
        // One raw ear on every engine.
        let (sender, mut heard) = mpsc::channel::<(String, Instant)>(4096);
        for n in 1..=HOSTS {
            let path = self.folder.path().join("engines").join(format!("shed-{n:03}.sock"));
            let mut events = Engine::open(&Endpoint::Unix(path)).await?.events(None).await?;
            let sender = sender.clone();
            tokio::spawn(async move {
                while let Ok(Some(event)) = events.next().await {
                    if event.action == "start" && sender.send((event.id, Instant::now())).await.is_err() {
                        return;
                    }
                }
            });
        }
        let told = tokio::spawn(async move {
            let mut seen = HashMap::new();
            while seen.len() < SAMPLES {
                match tokio::time::timeout(Duration::from_secs(20), live.next()).await {
                    Ok(Ok(Some(FromServer::Delta { delta, .. }))) => {
                        let now = Instant::now();
                        for change in delta.changes {
                            if let Change::ContainerPut { container } = change
                                && container.started.is_some()
                            {
                                seen.entry(container.id).or_insert(now);
                            }
                        }
                    }
                    Ok(Ok(Some(_))) => {}
                    _ => break,
                }
            }
            seen
        });
        for sample in 0..SAMPLES {
            writeln!(self.orders, "{}", sample * 7)?;
            self.orders.flush()?;
            self.answers.read_line(&mut String::new())?;
            tokio::time::sleep(Duration::from_millis(20)).await;
        }
        let seen = told.await.map_err(|e| failed("live", &e.to_string()))?;
        let mut extra = Vec::new();
        while let Ok((id, raw)) = heard.try_recv() {
            if let Some(delta) = seen.get(&id) {
                extra.push(delta.saturating_duration_since(raw).as_secs_f64() * 1e3);
            }
        }
        if extra.len() < SAMPLES * 9 / 10 {
            return Err(failed("event to delta", &format!("only {} of {SAMPLES} were seen", extra.len())));
        }
        extra.sort_by(f64::total_cmp);
        let worst = extra[extra.len() * 99 / 100];
        let more = format!("99th of {}, median {:.1} ms", extra.len(), extra[extra.len() / 2]);
        Ok(Row::most("engine event to delta, extra over the raw event", worst, 50.0, "ms", more))
    }
}

impl Drop for Fleet {
    fn drop(&mut self) {
        let _ = self.engines.kill();
        let _ = self.engines.wait();
    }
}

/// Starts a service, claims it and gives a client with a token.
pub(crate) async fn serve(binary: &Path, data: &Path) -> Result<(Started, Client, String), BedError> {
    let service = Started::serve(binary, data, &["--find-local-engine", "false", "--log-level", "error"])?;
    let anonymous = Client::new(service.url(), None, Trust::System).map_err(client)?;
    let code = service.text("claim_code").to_owned();
    let claim = Claim { code, member: "mara".into(), password: PASSWORD.into() };
    let session = anonymous.claim(&claim).await.map_err(client)?;
    let made = session
        .make_token(&NewToken { name: "bench".into(), expires_in_days: None })
        .await
        .map_err(client)?;
    let signed_in = Client::new(service.url(), Some(made.secret.clone()), Trust::System).map_err(client)?;
    Ok((service, signed_in, made.secret))
}

/// The password of the member that [`serve`] makes.
pub(crate) fn password() -> &'static str {
    PASSWORD
}

async fn fetch(http: &reqwest::Client, url: &str, token: &str) -> Result<Bytes, BedError> {
    let answer = http.get(url).bearer_auth(token).send().await.map_err(|e| failed(url, &e.to_string()))?;
    answer.bytes().await.map_err(|e| failed(url, &e.to_string()))
}

/// Processor time of a process in seconds (`utime` and `stime` of proc(5), in hundredths).
fn processor(id: u32) -> Result<f64, BedError> {
    let stat = std::fs::read_to_string(format!("/proc/{id}/stat"))?;
    let after = stat.rsplit(')').next().unwrap_or_default();
    let fields: Vec<&str> = after.split_whitespace().collect();
    let ticks = |n: usize| fields.get(n).and_then(|f| f.parse::<f64>().ok()).unwrap_or(0.0);
    Ok((ticks(11) + ticks(12)) / 100.0)
}

/// Resident memory of a process in MB.
pub(crate) fn memory(id: u32) -> Result<f64, BedError> {
    let status = std::fs::read_to_string(format!("/proc/{id}/status"))?;
    let line = status.lines().find(|l| l.starts_with("VmRSS:")).unwrap_or_default();
    let kilobytes: f64 = line.split_whitespace().nth(1).and_then(|n| n.parse().ok()).unwrap_or(f64::NAN);
    Ok(kilobytes / 1000.0)
}
