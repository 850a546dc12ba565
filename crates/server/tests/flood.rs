//! A flood of log lines, in a process of its own: what is measured is the memory of the whole process.

// All of this is tests: their helpers may fail and speak as the tests themselves may.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, clippy::print_stdout)]

#[allow(dead_code, reason = "shared with the other tests, which use more of it")]
#[path = "all/support.rs"]
mod support;

use gubernum_client::LogOptions;
use gubernum_sim::{Action, ContainerSpec, Program};

use crate::support::Bench;

fn number(line: &str) -> u64 {
    line.split(' ').nth(1).and_then(|n| n.parse().ok()).unwrap_or_else(|| panic!("{line}"))
}

/// Three viewers of a container that writes as fast as it can, one of them slow: the fast ones get
/// every line in order, and the service holds nothing for the slow one.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_slow_viewer_slows_nobody_else() {
    let bench = Bench::with(&["packhouse"]).await;
    let mut spec = ContainerSpec::new("talks", "base/toolbox:1");
    spec.program = Program::new(vec![Action::Flood]);
    bench.hosts[0].run(spec);
    bench.until("talks is known", async |b| b.one("packhouse", "talks").await.is_some()).await;
    let follow = LogOptions { follow: true, stdout: true, stderr: true, ..LogOptions::default() };
    let mut slow = bench.client.logs("packhouse/talks", &follow).await.unwrap();
    assert_eq!(number(&slow.next().await.unwrap().unwrap().text), 1);
    let fast = |count: u64| {
        let (client, follow) = (bench.client.clone(), follow.clone());
        async move {
            let mut lines = client.logs("packhouse/talks", &follow).await.unwrap();
            for expected in 1..=count {
                assert_eq!(number(&lines.next().await.unwrap().unwrap().text), expected);
            }
        }
    };
    let memory = resident();
    tokio::join!(fast(150_000), fast(150_000));
    let grown = resident().saturating_sub(memory);
    assert!(grown < 60_000, "grew by {grown} kB");
    // The slow one has missed nothing either.
    for expected in 2..20_000 {
        assert_eq!(number(&slow.next().await.unwrap().unwrap().text), expected);
    }
}

/// The resident memory of this process in kB.
fn resident() -> u64 {
    let status = std::fs::read_to_string("/proc/self/status").unwrap();
    let line = status.lines().find(|l| l.starts_with("VmRSS:")).unwrap();
    line.split_whitespace().nth(1).unwrap().parse().unwrap()
}
