//! A large file into and out of a container through the service, against the raw engine endpoint of a real dockerd, and the
//! service's memory meanwhile.

use std::path::Path;
use std::time::{Duration, Instant};

use bytes::Bytes;
use futures_util::StreamExt;
use gubernum_api::requests::NewHost;
use gubernum_client::{Client, Place};
use gubernum_testbed::BedError;
use gubernum_testbed::real::{IMAGE, RealEngine};
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::UnixStream;

use crate::fleet::{memory, serve};
use crate::{Row, failed};

const SIZE: u64 = 2 << 30;
const PIECE: usize = 128 * 1024;

/// The bytes of the file at this place: the same each time, and not the same everywhere.
fn piece(at: u64) -> Bytes {
    let stamp = (at / PIECE as u64).to_le_bytes();
    let mut bytes = vec![0; PIECE];
    // In strides, so that this takes less time than what is measured.
    bytes.chunks_exact_mut(stamp.len()).for_each(|c| c.copy_from_slice(&stamp));
    Bytes::from(bytes)
}

fn said(error: gubernum_client::ClientError) -> BedError {
    failed("client", &error.to_string())
}

pub(crate) async fn measure(binary: &Path) -> Result<Vec<Row>, BedError> {
    let engine = RealEngine::dockerd()?;
    engine.tool(&["run", "--detach", "--name", "box", "--network", "none", IMAGE, "sleep", "10000"])?;
    let folder = tempfile::tempdir()?;
    let (service, client, _) = serve(binary, folder.path()).await?;
    let address = engine.endpoint().to_string();
    let host = NewHost {
        name: "packhouse".into(),
        address: address.clone(),
        tls: None,
        ports_address: None,
        groups: Vec::new(),
    };
    client.add_host(&host).await.map_err(said)?;
    for _ in 0..200 {
        if !client.containers(&[]).await.map_err(said)?.is_empty() {
            break;
        }
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    let before = memory(service.id())?;
    let socket = address.trim_start_matches("unix://").to_owned();
    let (mut most, mut up, mut down) = (before, Vec::new(), Vec::new());
    // Each begins without the file: to write over one that never reached the disk would cost nothing.
    let empty = || engine.tool(&["exec", "box", "rm", "-f", "/tmp/large"]).map(drop);
    for _ in 0..2 {
        empty()?;
        let raw_up = put_raw(&socket).await?;
        empty()?;
        let begun = Instant::now();
        put(&client).await?;
        let ours_up = begun.elapsed().as_secs_f64();
        most = most.max(memory(service.id())?);
        let raw_down = get_raw(&socket).await?;
        let begun = Instant::now();
        get(&client, &mut most, service.id()).await?;
        let ours_down = begun.elapsed().as_secs_f64();
        up.push((raw_up, ours_up));
        down.push((raw_down, ours_down));
    }
    tokio::time::sleep(Duration::from_secs(60)).await;
    let left = memory(service.id())?;
    let row = |what, all: &[(f64, f64)], limit| {
        // The better of two on each side: the disk has its moods.
        let best = |side: fn(&(f64, f64)) -> f64| all.iter().map(side).fold(f64::INFINITY, f64::min);
        let (raw, ours) = (best(|p| p.0), best(|p| p.1));
        let speed = |seconds: f64| SIZE as f64 / 1e6 / seconds;
        let more = format!("{:.0} MB/s against {:.0} MB/s", speed(ours), speed(raw));
        Row { what, measured: raw / ours, limit, unit: "x", more, at_least: true }
    };
    Ok(vec![
        row("2 GiB up through the service / the raw engine", &up, 0.7),
        row("2 GiB down through the service / the raw engine", &down, 0.8),
        Row::most(
            "memory more while 2 GiB pass",
            most - before,
            8.0,
            "MB",
            format!("{before:.0} MB before, at most {most:.0} MB"),
        ),
        Row::most(
            "2 GiB up and down: memory left a minute later / idle",
            left / before,
            1.5,
            "x",
            format!("{before:.0} MB idle, {left:.0} MB left"),
        ),
    ])
}

async fn put(client: &Client) -> Result<(), BedError> {
    let place = Place::File { of: "packhouse/box".into(), path: "/tmp/large".into() };
    let pieces = futures_util::stream::iter((0..SIZE).step_by(PIECE).map(|at| Ok(piece(at)))).boxed();
    client.put(&place, Some(SIZE), pieces, &[]).await.map_err(said)
}

async fn get(client: &Client, most: &mut f64, id: u32) -> Result<(), BedError> {
    let place = Place::File { of: "packhouse/box".into(), path: "/tmp/large".into() };
    let mut download = client.fetch(&place, 0).await.map_err(said)?;
    let (mut at, mut looked, mut expected) = (0u64, 0u64, piece(0));
    while let Some(bytes) = download.next().await.map_err(said)? {
        let mut offset = 0;
        while offset < bytes.len() {
            if at % PIECE as u64 == 0 {
                expected = piece(at);
            }
            let from = usize::try_from(at % PIECE as u64).unwrap_or(0);
            let count = (PIECE - from).min(bytes.len() - offset);
            if bytes[offset..offset + count] != expected[from..from + count] {
                return Err(failed("file", &format!("it differs near byte {at}")));
            }
            offset += count;
            at += count as u64;
        }
        if at - looked > SIZE / 8 {
            looked = at;
            *most = most.max(memory(id)?);
        }
    }
    if at == SIZE { Ok(()) } else { Err(failed("file", &format!("{at} bytes came back"))) }
}

/// The same file as an archive straight to the engine.
async fn put_raw(socket: &str) -> Result<f64, BedError> {
    let mut head = [0u8; 512];
    head[..5].copy_from_slice(b"large");
    head[100..107].copy_from_slice(b"0000644");
    head[108..115].copy_from_slice(b"0000000");
    head[116..123].copy_from_slice(b"0000000");
    head[124..135].copy_from_slice(format!("{SIZE:011o}").as_bytes());
    head[136..147].copy_from_slice(b"15000000000");
    head[156] = b'0';
    head[257..265].copy_from_slice(b"ustar\x0000");
    head[148..156].fill(b' ');
    let sum: u32 = head.iter().map(|b| u32::from(*b)).sum();
    head[148..154].copy_from_slice(format!("{sum:06o}").as_bytes());
    head[154] = 0;
    let begun = Instant::now();
    let mut stream = UnixStream::connect(socket).await?;
    let length = SIZE + 512 + 1024;
    let request = format!(
        "PUT /v1.41/containers/box/archive?path=/tmp HTTP/1.1\r\nHost: e\r\nConnection: close\r\nContent-Type: application/x-tar\r\nContent-Length: {length}\r\n\r\n"
    );
    stream.write_all(request.as_bytes()).await?;
    stream.write_all(&head).await?;
    for at in (0..SIZE).step_by(PIECE) {
        stream.write_all(&piece(at)).await?;
    }
    stream.write_all(&[0; 1024]).await?;
    let mut answer = Vec::new();
    stream.read_to_end(&mut answer).await?;
    if answer.starts_with(b"HTTP/1.1 200") {
        return Ok(begun.elapsed().as_secs_f64());
    }
    Err(failed("raw upload", &String::from_utf8_lossy(&answer)))
}

async fn get_raw(socket: &str) -> Result<f64, BedError> {
    let begun = Instant::now();
    let mut stream = UnixStream::connect(socket).await?;
    stream
        .write_all(b"GET /v1.41/containers/box/archive?path=/tmp/large HTTP/1.0\r\nHost: e\r\n\r\n")
        .await?;
    let mut buffer = vec![0u8; 256 * 1024];
    let mut bytes = 0u64;
    loop {
        match stream.read(&mut buffer).await? {
            0 if bytes >= SIZE => return Ok(begun.elapsed().as_secs_f64()),
            0 => return Err(failed("raw download", &format!("{bytes} bytes came"))),
            n => bytes += n as u64,
        }
    }
}
