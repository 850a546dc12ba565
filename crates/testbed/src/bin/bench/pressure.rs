//! The service's memory after it was pressed: refused sign-ins from many addresses, hundreds of followed logs, connections that
//! do not read. Each is measured against the idle figure of the same process, a minute after it ended.

use std::net::{IpAddr, Ipv4Addr};
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::sync::Arc;
use std::time::{Duration, Instant};

use futures_util::StreamExt;
use gubernum_api::FromClient;
use gubernum_api::requests::NewHost;
use gubernum_client::{Client, ClientError};
use gubernum_core::logs::{LogLine, Stream};
use gubernum_store::segments::Segments;
use gubernum_testbed::BedError;
use gubernum_testbed::started::Started;
use jiff::Timestamp;
use serde_json::json;
use std::io::{BufRead, BufReader};

use crate::fleet::{memory, password, serve};
use crate::{Row, failed};

const HOSTS: usize = 11;
const EACH: usize = 30;
/// The lines that each container has kept, so that a tail has something to read.
const KEPT: usize = 5_000;
const SIGN_INS: usize = 520;
const AT_ONCE: usize = 64;
const CONNECTIONS: usize = 100;
/// How long after a load the memory is looked at.
const LATER: Duration = Duration::from_secs(60);
/// How long a service settles before its idle figure is taken.
const SETTLE: Duration = Duration::from_secs(15);
/// The most that may be left a minute later, against the idle figure.
const LEFT: f64 = 1.5;

/// A service over simulated engines in a process of their own.
struct Pressed {
    service: Started,
    client: Client,
    engines: Child,
    idle: f64,
    _folder: tempfile::TempDir,
}

impl Drop for Pressed {
    fn drop(&mut self) {
        let _ = self.engines.kill();
        let _ = self.engines.wait();
    }
}

fn said(error: ClientError) -> BedError {
    failed("client", &error.to_string())
}

fn sent(error: reqwest::Error) -> BedError {
    failed("sign-in", &error.to_string())
}

pub(crate) async fn measure(binary: &Path) -> Result<Vec<Row>, BedError> {
    let mut rows = sign_ins(binary).await?;
    let pressed = Pressed::start(binary).await?;
    rows.push(pressed.followed_logs().await?);
    rows.push(pressed.silent_connections().await?);
    Ok(rows)
}

impl Pressed {
    async fn start(binary: &Path) -> Result<Self, BedError> {
        let folder = tempfile::tempdir()?;
        let sockets = folder.path().join("engines");
        let mut engines = Command::new(binary)
            .args(["simulate", "--hosts", &HOSTS.to_string(), "--each", &EACH.to_string(), "--flood"])
            .arg("--folder")
            .arg(&sockets)
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .spawn()?;
        let out = engines.stdout.take().ok_or_else(|| failed("simulate", "no standard output"))?;
        BufReader::new(out).read_line(&mut String::new())?;
        let data = folder.path().join("data");
        let (service, client, _) = serve(binary, &data).await?;
        for n in 1..=HOSTS {
            let name = format!("shed-{n:03}");
            let address = format!("unix://{}", sockets.join(format!("{name}.sock")).display());
            let host = NewHost { name, address, tls: None, ports_address: None, groups: Vec::new() };
            client.add_host(&host).await.map_err(said)?;
        }
        let mut containers = Vec::new();
        for _ in 0..300 {
            containers = client.containers(&[]).await.map_err(said)?;
            if containers.len() >= HOSTS * EACH {
                break;
            }
            tokio::time::sleep(Duration::from_millis(100)).await;
        }
        let segments = Segments::new(&data.join("logs"));
        for container in &containers {
            keep(&segments, &container.host, &container.name, &container.id)?;
        }
        // What starting up has stirred up settles first.
        tokio::time::sleep(SETTLE).await;
        let idle = memory(service.id())?;
        Ok(Self { service, client, engines, idle, _folder: folder })
    }

    /// Three readers that follow every container with a tail of its kept lines.
    async fn followed_logs(&self) -> Result<Row, BedError> {
        // All hosts but the first, whose container `flood` would drown the rest.
        let mut fields: Vec<(&str, String)> =
            (2..=HOSTS).map(|n| ("reference", format!("shed-{n:03}/*"))).collect();
        fields.extend([("follow", "true".to_owned()), ("tail", KEPT.to_string())]);
        let mut most = memory(self.service.id())?;
        let mut readers = Vec::new();
        for _ in 0..3 {
            let mut stream = self.client.merged_logs(&fields).await.map_err(said)?;
            readers.push(tokio::spawn(async move {
                let (begun, mut lines) = (Instant::now(), 0usize);
                while let Ok(Ok(Some(item))) = tokio::time::timeout(
                    Duration::from_secs(20).saturating_sub(begun.elapsed()),
                    stream.next(),
                )
                .await
                {
                    lines += usize::from(matches!(item, gubernum_client::MergedItem::Line(_)));
                }
                lines
            }));
        }
        while readers.iter().any(|reader| !reader.is_finished()) {
            most = most.max(memory(self.service.id())?);
            tokio::time::sleep(Duration::from_millis(200)).await;
        }
        let mut lines = 0;
        for reader in readers {
            lines += reader.await.map_err(|e| failed("follow", &e.to_string()))?;
        }
        if lines < KEPT {
            return Err(failed("follow", &format!("only {lines} lines came")));
        }
        let more = format!("{lines} lines");
        let what = "300 logs followed thrice with tails: memory left / idle";
        left(&self.service, what, (self.idle, most), &more).await
    }

    /// Connections that ask for everything and read nothing.
    async fn silent_connections(&self) -> Result<Row, BedError> {
        let (mut held, mut turned_away) = (Vec::new(), 0);
        for _ in 0..CONNECTIONS {
            match self.client.live().await {
                Ok(mut live) => {
                    live.send(&FromClient::Fleet { id: 1, since: None }).await.map_err(said)?;
                    for id in 2..34 {
                        let wish = serde_json::from_value(
                            json!({"type": "many-logs", "id": id, "wish": {"references": ["shed-001/flood"], "follow": true}}),
                        );
                        live.send(&wish.map_err(|e| failed("live", &e.to_string()))?).await.map_err(said)?;
                    }
                    held.push(live);
                }
                Err(_) => turned_away += 1,
            }
        }
        let mut most = 0.0f64;
        for _ in 0..100 {
            most = most.max(memory(self.service.id())?);
            tokio::time::sleep(Duration::from_millis(200)).await;
        }
        let more = format!("{} open, {turned_away} turned away", held.len());
        drop(held);
        let what = "100 connections that do not read: memory left / idle";
        left(&self.service, what, (self.idle, most), &more).await
    }
}

/// The memory a minute after a load, against the idle figure.
async fn left(
    service: &Started,
    what: &'static str,
    (idle, most): (f64, f64),
    more: &str,
) -> Result<Row, BedError> {
    tokio::time::sleep(LATER).await;
    let left = memory(service.id())?;
    let more = format!("{more}; {idle:.0} MB idle, {most:.0} MB at most, {left:.0} MB left");
    Ok(Row::most(what, left / idle, LEFT, "x", more))
}

/// Wrong passwords for many names from many addresses, and the right one for a member that signs in meanwhile.
async fn sign_ins(binary: &Path) -> Result<Vec<Row>, BedError> {
    let folder = tempfile::tempdir()?;
    let (service, ..) = serve(binary, folder.path()).await?;
    tokio::time::sleep(SETTLE).await;
    let idle = memory(service.id())?;
    let url = Arc::new(format!("{}/api/v1/sessions", service.url()));
    let aim = url.clone();
    let attack = futures_util::stream::iter(0..SIGN_INS)
        .map(move |n| {
            let url = aim.clone();
            async move {
                let [high, low] = u16::try_from(n + 512).unwrap_or(u16::MAX).to_be_bytes();
                let from = IpAddr::V4(Ipv4Addr::new(127, 20, high, low));
                let http = reqwest::Client::builder().local_address(from).build().map_err(sent)?;
                let body = json!({"member": format!("guess-{n}"), "password": "a guess that fits nobody"});
                let answer = http.post(url.as_str()).json(&body).send().await.map_err(sent)?;
                Ok::<u16, BedError>(answer.status().as_u16())
            }
        })
        .buffer_unordered(AT_ONCE)
        .collect::<Vec<_>>();
    let attack = tokio::spawn(attack);
    let http = reqwest::Client::new();
    let (mut slowest, mut signed_in, mut most) = (Duration::ZERO, 0, idle);
    while !attack.is_finished() {
        let begun = Instant::now();
        let body = json!({"member": "mara", "password": password()});
        let answer = http.post(url.as_str()).json(&body).send().await.map_err(sent)?;
        // Whoever is told to come again does.
        if answer.status().as_u16() == 201 || answer.status().as_u16() == 200 {
            slowest = slowest.max(begun.elapsed());
            signed_in += 1;
        } else {
            slowest = slowest.max(begun.elapsed() + Duration::from_secs(2));
        }
        most = f64::max(most, memory(service.id())?);
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    let answers = attack.await.map_err(|e| failed("sign-in", &e.to_string()))?;

    let (mut refused, mut later) = (0, 0);
    for answer in answers {
        match answer? {
            401 => refused += 1,
            429 | 503 => later += 1,
            other => return Err(failed("sign-in", &format!("a wrong password got {other}"))),
        }
    }
    let more = format!("{refused} refused, {later} told to come later; {signed_in} right ones meanwhile");
    let ratio = left(&service, "520 refused sign-ins: memory left / idle", (idle, most), &more).await?;
    let end = memory(service.id())?;
    Ok(vec![
        Row::most("520 refused sign-ins: memory left a minute later", end, 100.0, "MB", more.clone()),
        Row::most("520 refused sign-ins: memory at most", most, 150.0, "MB", more.clone()),
        Row::most(
            "520 refused sign-ins: slowest right one meanwhile",
            slowest.as_secs_f64(),
            2.0,
            "s",
            more.clone(),
        ),
        ratio,
    ])
}

fn keep(segments: &Segments, host: &str, name: &str, id: &str) -> Result<(), BedError> {
    let mut writer = segments.write(host, name, id)?;
    let first = Timestamp::now().as_second() - 3600;
    for n in 0..KEPT {
        let nanos = i128::from(first) * 1_000_000_000 + n as i128 * 1_000_000;
        let time = Timestamp::from_nanosecond(nanos).ok();
        let bytes = format!("level=info msg=\"weighed\" lot={n} grams={}", n * 37 % 9001).into_bytes();
        writer.push(&LogLine { stream: Stream::Stdout, time, bytes, continued: false })?;
    }
    writer.flush()?;
    Ok(())
}
