//! A log through the service against the raw engine endpoint, from a real dockerd; and the service's memory while one
//! of three viewers is slow.

use std::path::Path;
use std::time::{Duration, Instant};

use gubernum_api::requests::NewHost;
use gubernum_testbed::BedError;
use gubernum_testbed::real::{IMAGE, RealEngine};
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::{TcpStream, UnixStream};

use crate::fleet::serve;
use crate::{Row, failed, median};

const LINES: usize = 600_000;
/// What dockerd puts around each line: eight bytes of head and a time of thirty with a space.
const WRAPPING: usize = 8 + 31;
const TEXT: &str = "a line that is about as long as lines of a service are in earnest, give or take a few";

pub(crate) async fn measure(binary: &Path) -> Result<Row, BedError> {
    let engine = RealEngine::dockerd()?;
    let script = format!("yes '{TEXT}' | head -n {LINES}");
    engine.tool(&["run", "--name", "flood", "--network", "none", IMAGE, "sh", "-c", &script])?;
    let folder = tempfile::tempdir()?;
    let (service, client, token) = serve(binary, folder.path()).await?;
    let address = engine.endpoint().to_string();
    let said = |e: gubernum_client::ClientError| failed("client", &e.to_string());
    client
        .add_host(&NewHost {
            name: "packhouse".into(),
            address: address.clone(),
            tls: None,
            ports_address: None,
            groups: Vec::new(),
        })
        .await
        .map_err(said)?;
    for _ in 0..100 {
        if !client.containers(&[]).await.map_err(said)?.is_empty() {
            break;
        }
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    let socket = address.trim_start_matches("unix://");
    let authority = service.url().trim_start_matches("http://");
    let raw = "GET /v1.41/containers/flood/logs?stdout=1&stderr=1&follow=1&timestamps=1 HTTP/1.0\r\nHost: e\r\n\r\n";
    let ours = format!(
        "GET /api/v1/containers/packhouse/flood/logs?follow=true&format=text HTTP/1.0\r\nHost: {authority}\r\nAuthorization: Bearer {token}\r\n\r\n"
    );
    let (mut theirs_all, mut ours_all) = (Vec::new(), Vec::new());
    for _ in 0..5 {
        let whole = LINES * (TEXT.len() + 1 + WRAPPING);
        let (bytes, seconds) = drain(UnixStream::connect(socket).await?, raw, whole).await?;
        if bytes < whole {
            return Err(failed("raw log", &format!("only {bytes} bytes came")));
        }
        theirs_all.push(seconds);
        // A log that is followed goes on beyond the container's end: the last line is the end here.
        let whole = LINES * (TEXT.len() + 1);
        let (bytes, seconds) = drain(TcpStream::connect(authority).await?, &ours, whole).await?;
        if bytes < whole {
            return Err(failed("log through the service", &format!("only {bytes} bytes came")));
        }
        ours_all.push(seconds);
    }
    let (theirs, ours) = (median(theirs_all), median(ours_all));
    // The same lines both ways: the ratio of the times is that of the speeds.
    let megabytes = (LINES * (TEXT.len() + 1)) as f64 / 1e6;
    let more = format!("{:.0} MB/s of text against {:.0} MB/s", megabytes / ours, megabytes / theirs);
    Ok(Row {
        what: "log follow through the service / the raw engine",
        measured: theirs / ours,
        limit: 0.95,
        unit: "x",
        more,
        at_least: true,
    })
}

/// Sends a request and reads the answer until this many bytes have come, or to its end: bytes and seconds.
async fn drain(
    mut stream: impl AsyncReadExt + AsyncWriteExt + Unpin,
    request: &str,
    whole: usize,
) -> Result<(usize, f64), BedError> {
    let begun = Instant::now();
    stream.write_all(request.as_bytes()).await?;
    let mut buffer = vec![0u8; 256 * 1024];
    let mut bytes = 0;
    loop {
        match stream.read(&mut buffer).await? {
            0 => return Ok((bytes, begun.elapsed().as_secs_f64())),
            n => bytes += n,
        }
        if bytes >= whole {
            return Ok((bytes, begun.elapsed().as_secs_f64()));
        }
    }
}
