//! A volume from one real dockerd to another through the service, against `tar` piped into `tar` between the same folders.

use std::path::Path;
use std::time::{Duration, Instant};

use futures_util::TryStreamExt;
use gubernum_api::OperationState;
use gubernum_api::requests::{MoveKind, MoveRequest, NewHost, NewOperation, Request};
use gubernum_engine::Engine;
use gubernum_engine::hostfs::PLACE;
use gubernum_testbed::BedError;
use gubernum_testbed::process::run;
use gubernum_testbed::real::{IMAGE, RealEngine};

use crate::fleet::serve;
use crate::{Row, failed};

const GIB: u64 = 2;

pub(crate) async fn measure(binary: &Path) -> Result<Vec<Row>, BedError> {
    let (here, there) = (RealEngine::dockerd()?, RealEngine::dockerd()?);
    here.tool(&["volume", "create", "readings"])?;
    let fill = format!(
        "for n in $(seq {GIB}); do head -c 536870912 /dev/urandom > /data/a$n; cp /data/a$n /data/b$n; done; \
         mkdir /data/many; for n in $(seq 2000); do head -c 2000 /data/a1 > /data/many/$n; done; sync"
    );
    here.tool(&["run", "--rm", "--network", "none", "-v", "readings:/data", IMAGE, "sh", "-c", &fill])?;
    let folder = tempfile::tempdir()?;
    let (_service, client, _) = serve(binary, folder.path()).await?;
    let said = |error: gubernum_client::ClientError| failed("client", &error.to_string());
    for (name, engine) in [("packhouse", &here), ("coldstore", &there)] {
        let address = engine.endpoint().to_string();
        let host = NewHost { name: name.into(), address, tls: None, ports_address: None, groups: Vec::new() };
        client.add_host(&host).await.map_err(said)?;
    }
    let known = async || client.hosts().await.is_ok_and(|hosts| hosts.iter().all(|h| h.engine.is_some()));
    for _ in 0..200 {
        if known().await {
            break;
        }
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    let copy = async |name: &str, unverified: bool| -> Result<f64, BedError> {
        let request = MoveRequest {
            what: MoveKind::Volume,
            to: "coldstore".into(),
            name: Some(name.into()),
            unverified,
            ..MoveRequest::default()
        };
        let wish = NewOperation::new(Request::Clone(request), vec!["packhouse/readings".into()]);
        let begun = Instant::now();
        let mut operation = client.submit(&wish, None).await.map_err(said)?;
        while operation.state == OperationState::Running {
            tokio::time::sleep(Duration::from_millis(50)).await;
            operation = client.operation(operation.id).await.map_err(said)?;
        }
        let seconds = begun.elapsed().as_secs_f64();
        there.tool(&["volume", "rm", name])?;
        match operation.state {
            OperationState::Succeeded => Ok(seconds),
            _ => Err(failed("clone", &format!("{:?}", operation.targets))),
        }
    };
    let from = here.tool(&["volume", "inspect", "--format", "{{.Mountpoint}}", "readings"])?;
    let piped = || -> Result<f64, BedError> {
        there.tool(&["volume", "create", "piped"])?;
        let to = there.tool(&["volume", "inspect", "--format", "{{.Mountpoint}}", "piped"])?;
        let pipe = format!("tar -C {} -cf - . | tar -C {} -xf -", from.trim(), to.trim());
        let begun = Instant::now();
        run("sh", &["-c", &pipe])?;
        let seconds = begun.elapsed().as_secs_f64();
        there.tool(&["volume", "rm", "piped"])?;
        Ok(seconds)
    };
    let (from_engine, to_engine) =
        (Engine::open(&here.endpoint()).await, Engine::open(&there.endpoint()).await);
    let engine_said = |error: gubernum_engine::EngineError| failed("engine", &error.to_string());
    let (from_engine, to_engine) = (from_engine.map_err(engine_said)?, to_engine.map_err(engine_said)?);
    // The engines' own archives, one handed to the other with nothing in between: nobody can be faster by way of them.
    let handed = async || -> Result<f64, BedError> {
        there.tool(&["volume", "create", "handed"])?;
        let reader = from_engine.with_volume("readings", true).await.map_err(engine_said)?;
        let writer = to_engine.with_volume("handed", false).await.map_err(engine_said)?;
        let begun = Instant::now();
        let path = format!("{PLACE}/.");
        let body = from_engine.read_archive(&reader.id, &path).await.map_err(engine_said)?;
        let pieces = http_body_util::BodyDataStream::new(body).map_err(std::io::Error::other);
        to_engine.write_archive(&writer.id, PLACE, Box::pin(pieces)).await.map_err(engine_said)?;
        let seconds = begun.elapsed().as_secs_f64();
        reader.done().await.map_err(engine_said)?;
        writer.done().await.map_err(engine_said)?;
        there.tool(&["volume", "rm", "handed"])?;
        Ok(seconds)
    };
    let (mut pipe, mut plain, mut compared) = (f64::INFINITY, f64::INFINITY, f64::INFINITY);
    let mut bare = f64::INFINITY;
    for n in 0..2 {
        bare = bare.min(handed().await?);
        // The better of two on each side: the disk has its moods.
        pipe = pipe.min(piped()?);
        plain = plain.min(copy(&format!("plain-{n}"), true).await?);
        compared = compared.min(copy(&format!("compared-{n}"), false).await?);
    }
    let speed = |seconds: f64| GIB as f64 * 1073.7 / seconds;
    let row = |what, seconds: f64, limit| Row {
        what,
        measured: pipe / seconds,
        limit,
        unit: "x",
        more: format!("{:.0} MB/s against {:.0} MB/s", speed(seconds), speed(pipe)),
        at_least: true,
    };
    Ok(vec![
        row("2 GiB of a volume to another engine / tar | tar", plain, 0.9),
        row("the same, read back and compared / tar | tar", compared, 0.4),
        Row {
            what: "the same / the engines' archives handed over",
            measured: bare / plain,
            limit: 0.9,
            unit: "x",
            more: format!("{:.0} MB/s against {:.0} MB/s", speed(plain), speed(bare)),
            at_least: true,
        },
    ])
}
