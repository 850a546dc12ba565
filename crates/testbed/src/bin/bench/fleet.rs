//! A service over many simulated hosts: listing, event to delta, idle, start. What they come to at one size are
//! [`Fleet::measure`]'s rows; [`scale`] tells how they grow with the size.
//!
//! What is measured is a service as it usually is: started on records that know the hosts, not just claimed.

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

/// How large a fleet is.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Size {
    pub(crate) hosts: usize,
    /// Containers of each.
    pub(crate) each: usize,
}

/// The fleet by which budgets are given.
pub(crate) const USUAL: Size = Size { hosts: 200, each: 25 };
/// The largest fleet that is measured.
pub(crate) const LARGE: Size = Size { hosts: 500, each: 50 };
/// The fleets over which growth is measured; the last has budgets of its own.
const SIZES: [Size; 5] = [
    Size { hosts: 50, each: 25 },
    Size { hosts: 100, each: 25 },
    USUAL,
    Size { hosts: 400, each: 25 },
    LARGE,
];
/// Growth that is still called linear.
const LINEAR: f64 = 1.1;
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
    size: Size,
}

fn client(error: ClientError) -> BedError {
    failed("client", &error.to_string())
}

fn io(what: &str) -> BedError {
    failed("simulate", what)
}

/// What the service takes at one size.
struct Figures {
    /// A listing, and the same bytes from memory through the same HTTP stack, in seconds; and how many bytes they are.
    listing: (f64, f64, usize),
    cores: f64,
    /// Megabytes.
    memory: f64,
    /// Milliseconds.
    start: f64,
    /// The 99th percentile and the median of what is added to an engine's event, in milliseconds.
    delta: (f64, f64),
}

impl Fleet {
    /// Starts engines and the service over them; this many containers change each second.
    pub(crate) async fn start(binary: &Path, size: Size, churn: u32) -> Result<Self, BedError> {
        let folder = tempfile::tempdir()?;
        let sockets = folder.path().join("engines");
        let mut engines = Command::new(binary)
            .args(["simulate", "--hosts", &size.hosts.to_string(), "--each", &size.each.to_string()])
            .args(["--churn", &churn.to_string(), "--folder"])
            .arg(&sockets)
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .spawn()?;
        let orders = engines.stdin.take().ok_or_else(|| io("no standard input"))?;
        let mut answers = BufReader::new(engines.stdout.take().ok_or_else(|| io("no standard output"))?);
        answers.read_line(&mut String::new())?;
        let data = folder.path().join("data");
        let (service, client, token) = serve(binary, &data).await?;
        for n in 1..=size.hosts {
            let name = format!("shed-{n:03}");
            let address = format!("unix://{}", sockets.join(format!("{name}.sock")).display());
            client
                .add_host(&NewHost { name, address, tls: None, ports_address: None, groups: Vec::new() })
                .await
                .map_err(self::client)?;
        }
        drop(service);
        let service = Started::serve(binary, &data, &["--log-level", "error"])?;
        let client = client.at(service.url()).map_err(self::client)?;
        let binary = binary.to_owned();
        let fleet = Self { service, client, token, engines, orders, answers, folder, binary, size };
        fleet.complete().await?;
        Ok(fleet)
    }

    async fn complete(&self) -> Result<(), BedError> {
        for _ in 0..600 {
            if self.client.containers(&[]).await.map_err(client)?.len() >= self.size.hosts * self.size.each {
                return Ok(());
            }
            tokio::time::sleep(Duration::from_millis(100)).await;
        }
        Err(failed("listing", "the fleet never became complete"))
    }

    /// The budgets at the usual size.
    pub(crate) async fn measure(&mut self) -> Result<Vec<Row>, BedError> {
        let figures = self.figures().await?;
        let (ours, theirs, bytes) = figures.listing;
        let listing = format!("{:.1} ms against {:.1} ms, {} kB", ours * 1e3, theirs * 1e3, bytes / 1000);
        let (worst, median) = figures.delta;
        let delta = format!("99th percentile, median {median:.1} ms");
        let unchanged = self.unchanged().await?;
        Ok(vec![
            Row::most("list 5,000 containers / the same bytes from memory", ours / theirs, 1.1, "x", listing),
            Row::most("the same, unchanged: status 304", unchanged, 304.0, "", "no body".into()),
            Row::most(
                "idle with 200 hosts x 25 containers: processor",
                figures.cores,
                0.04,
                "core",
                "30 s".into(),
            ),
            Row::most(
                "idle with 200 hosts x 25 containers: memory",
                figures.memory,
                120.0,
                "MB",
                "resident".into(),
            ),
            Row::most(
                "start to first answer with 200 known hosts",
                figures.start,
                50.0,
                "ms",
                "median of 7".into(),
            ),
            Row::most("engine event to delta, extra over the raw event", worst, 5.0, "ms", delta),
        ])
    }

    async fn figures(&mut self) -> Result<Figures, BedError> {
        let (cores, memory) = self.idle().await?;
        let listing = self.listing().await?;
        let start = self.start_time().await?;
        let delta = self.event_to_delta().await?;
        Ok(Figures { listing, cores, memory, start, delta })
    }

    /// The status of the answer to who has the listing already.
    async fn unchanged(&self) -> Result<f64, BedError> {
        let url = format!("{}/api/v1/containers", self.client.url());
        let http = reqwest::Client::new();
        let said = |e: reqwest::Error| failed("listing", &e.to_string());
        let first = http.get(&url).bearer_auth(&self.token).send().await.map_err(said)?;
        let Some(tag) = first.headers().get("etag").cloned() else { return Ok(f64::NAN) };
        let again = http.get(&url).bearer_auth(&self.token).header("if-none-match", tag);
        Ok(f64::from(again.send().await.map_err(said)?.status().as_u16()))
    }

    /// A listing over HTTP against the same bytes from memory through the same HTTP stack.
    async fn listing(&self) -> Result<(f64, f64, usize), BedError> {
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
        Ok((median(ours), median(theirs), size))
    }

    /// Processors and megabytes while nothing happens but sampling.
    pub(crate) async fn idle(&self) -> Result<(f64, f64), BedError> {
        // Let what the start has stirred up settle.
        tokio::time::sleep(Duration::from_secs(15)).await;
        let before = processor(self.service.id())?;
        let span = Duration::from_secs(30);
        tokio::time::sleep(span).await;
        let cores = (processor(self.service.id())? - before) / span.as_secs_f64();
        Ok((cores, memory(self.service.id())?))
    }

    /// From starting the program to its first answer, with 200 known hosts.
    async fn start_time(&self) -> Result<f64, BedError> {
        let copy = self.folder.path().join("copy");
        std::fs::create_dir_all(&copy)?;
        for name in ["gubernum.db", "gubernum.db-wal", "history.db", "history.db-wal", "seal.key"] {
            let from = self.folder.path().join("data").join(name);
            if from.exists() {
                std::fs::copy(from, copy.join(name))?;
            }
        }
        let (http, mut times) = (reqwest::Client::new(), Vec::new());
        for _ in 0..7 {
            let begun = Instant::now();
            let service = Started::serve(&self.binary, &copy, &["--log-level", "error"])?;
            http.get(format!("{}/healthz", service.url()))
                .send()
                .await
                .map_err(|e| failed("start", &e.to_string()))?;
            times.push(begun.elapsed().as_secs_f64() * 1e3);
        }
        Ok(median(times))
    }

    /// From an engine's own event to the delta at a live connection: what we add.
    pub(crate) async fn event_to_delta(&mut self) -> Result<(f64, f64), BedError> {
        const SAMPLES: usize = 300;
        let mut live = self.client.live().await.map_err(client)?;
        live.send(&FromClient::Fleet { id: 1, since: None }).await.map_err(client)?;
        live.next().await.map_err(client)?;
        // One raw event stream on every engine.
        let (sender, mut heard) = mpsc::channel::<(String, Instant)>(4096);
        for n in 1..=self.size.hosts {
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
        Ok((worst, extra[extra.len() / 2]))
    }
}

/// Measures fleets of several sizes, one after another, tells each, and gives how the figures grow with the number of
/// containers: 1 is linear.
pub(crate) async fn scale(binary: &Path, out: &mut impl Write) -> Result<Vec<Row>, BedError> {
    let mut all = Vec::new();
    writeln!(
        out,
        "{:>14} {:>8} {:>8} {:>10} {:>10} {:>12}",
        "fleet", "core", "MB", "list ms", "start ms", "delta ms"
    )?;
    for size in SIZES {
        let figures = Fleet::start(binary, size, 0).await?.figures().await?;
        let fleet = format!("{} x {}", size.hosts, size.each);
        let Figures { listing, cores, memory, start, delta } = &figures;
        writeln!(
            out,
            "{fleet:>14} {cores:>8.3} {memory:>8.1} {:>10.2} {start:>10.1} {:>5.1} ({:.1})",
            listing.0 * 1e3,
            delta.0,
            delta.1
        )?;
        all.push((size, figures));
    }
    let growth = |what: &'static str, figure: fn(&Figures) -> f64| {
        let points: Vec<(f64, f64)> =
            all.iter().map(|(size, f)| ((size.hosts * size.each) as f64, figure(f))).collect();
        Row::most(what, exponent(&points), LINEAR, "", "1 is linear".into())
    };
    let mut rows = vec![
        growth("growth of idle processor with containers", |f| f.cores),
        growth("growth of idle memory with containers", |f| f.memory),
        growth("growth of a listing with containers", |f| f.listing.0),
        growth("growth of the start with containers", |f| f.start),
        growth("growth of event to delta with containers", |f| f.delta.0),
    ];
    if let Some((_, largest)) = all.last() {
        rows.push(Row::most(
            "idle with 500 hosts x 50 containers: processor",
            largest.cores,
            0.2,
            "core",
            "30 s".into(),
        ));
        rows.push(Row::most(
            "idle with 500 hosts x 50 containers: memory",
            largest.memory,
            350.0,
            "MB",
            "resident".into(),
        ));
    }
    Ok(rows)
}

/// The exponent of the power law that fits best (least squares of the logarithms).
fn exponent(points: &[(f64, f64)]) -> f64 {
    let logs: Vec<(f64, f64)> = points.iter().map(|(x, y)| (x.ln(), y.ln())).collect();
    let count = logs.len() as f64;
    let mean = |of: fn(&(f64, f64)) -> f64| logs.iter().map(of).sum::<f64>() / count;
    let (x, y) = (mean(|p| p.0), mean(|p| p.1));
    let slope: f64 = logs.iter().map(|p| (p.0 - x) * (p.1 - y)).sum();
    slope / logs.iter().map(|p| (p.0 - x).powi(2)).sum::<f64>()
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
        .make_token(&NewToken {
            name: "bench".into(),
            expires_in_days: None,
            bounds: None,
            networks: Vec::new(),
        })
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

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn growth_is_measured_as_an_exponent() {
        let points = |power: f64| [1.0, 2.0, 4.0, 20.0].map(|x: f64| (x, 3.0 * x.powf(power)));
        for power in [0.0, 0.5, 1.0, 2.0] {
            assert!((exponent(&points(power)) - power).abs() < 1e-9, "{power}");
        }
    }
}
