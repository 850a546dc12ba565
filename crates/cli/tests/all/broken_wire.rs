//! A large file that is copied over a connection that breaks again and again: it is resumed, on a real engine, and
//! is whole at the end.

use std::io::{Read, Write};
use std::net::{Shutdown, TcpListener, TcpStream};
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};

use gubernum_testbed::process::run as command_run;
use gubernum_testbed::real::{IMAGE, RealEngine};

use crate::killed::Ground;
use crate::support::{err, run_at, until};

const SIZE: usize = 40 << 20;
/// After how many bytes in one direction a connection is cut, and how many connections are.
const CUT_AFTER: usize = 15 << 20;
const CUTS: usize = 2;

/// Passes everything on to `to`, and cuts the first connections that carry much. Gives its address.
fn forwarder(to: String, cuts: Arc<AtomicUsize>) -> String {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let address = listener.local_addr().unwrap().to_string();
    std::thread::spawn(move || {
        for here in listener.incoming().map_while(Result::ok) {
            let Ok(there) = TcpStream::connect(&to) else { continue };
            for (from, into) in [(&here, &there), (&there, &here)] {
                let (from, into) = (from.try_clone().unwrap(), into.try_clone().unwrap());
                let cuts = cuts.clone();
                std::thread::spawn(move || pass(from, into, &cuts));
            }
        }
    });
    address
}

fn pass(mut from: TcpStream, mut into: TcpStream, cuts: &AtomicUsize) {
    let (mut passed, mut buffer) = (0, vec![0u8; 64 * 1024]);
    while let Ok(count @ 1..) = from.read(&mut buffer) {
        passed += count;
        let may_cut = |c: usize| c.checked_sub(1);
        if passed > CUT_AFTER && cuts.fetch_update(Ordering::SeqCst, Ordering::SeqCst, may_cut).is_ok() {
            break;
        }
        if into.write_all(&buffer[..count]).is_err() {
            break;
        }
    }
    let _ = from.shutdown(Shutdown::Both);
    let _ = into.shutdown(Shutdown::Both);
}

async fn on(engine: RealEngine) {
    let ground = Ground::new(&engine).await;
    engine.tool(&["run", "--detach", "--network=none", "--name", "box", IMAGE, "sleep", "1000"]).unwrap();
    until("it is known", || ground.told(&["list", "containers"]).to_string().contains("box"));
    let folder = tempfile::tempdir().unwrap();
    let (file, back) = (folder.path().join("readings"), folder.path().join("back"));
    let bytes: Vec<u8> = (0..SIZE).map(|n| (n % 241) as u8 ^ (n >> 12) as u8).collect();
    std::fs::write(&file, bytes).unwrap();
    let cuts = Arc::new(AtomicUsize::new(CUTS));
    let address = forwarder(ground.service().url().trim_start_matches("http://").to_owned(), cuts.clone());
    let url = format!("http://{address}");

    let copy = |from: &str, to: &str| {
        cuts.store(CUTS, Ordering::SeqCst);
        let output = run_at(&url, ground.token(), &["copy", from, to]);
        let said = err(&output);
        assert!(output.status.success(), "{said}");
        assert_eq!(cuts.load(Ordering::SeqCst), 0, "it was cut: {said}");
        let goes_on = said.lines().filter(|l| l.contains("resuming at byte"));
        let from: Vec<u64> = goes_on.filter_map(|l| l.rsplit(' ').next()?.parse().ok()).collect();
        println!("resumed from {from:?}");
        assert!(from.len() == CUTS && from[0] > 0 && from[1] > from[0], "{said}");
    };
    let there = "packhouse/box:/tmp/readings";
    copy(file.to_str().unwrap(), there);
    let sum = |text: String| text.split(' ').next().unwrap_or_default().to_owned();
    let here = sum(command_run("sha256sum", &[file.to_str().unwrap()]).unwrap());
    assert_eq!(sum(engine.tool(&["exec", "box", "busybox", "sha256sum", "/tmp/readings"]).unwrap()), here);
    let left = engine.tool(&["exec", "box", "ls", "-A", "/tmp"]).unwrap();
    assert_eq!(left.trim(), "readings", "nothing else is left");
    copy(there, back.to_str().unwrap());
    assert_eq!(sum(command_run("sha256sum", &[back.to_str().unwrap()]).unwrap()), here);
}

#[tokio::test(flavor = "multi_thread")]
async fn copying_over_a_broken_wire_on_dockerd() {
    on(RealEngine::dockerd().unwrap()).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn copying_over_a_broken_wire_on_podman() {
    on(RealEngine::podman().unwrap()).await;
}
