//! Watches the process's open file descriptors: one log line when they run out, not one for each connection.

use std::time::Duration;

use tokio_util::sync::CancellationToken;

/// How often it is looked.
const LOOK_EVERY: Duration = Duration::from_secs(2);
/// Shares of the limit at which it is said, and below which it may be said again.
const FULL: f64 = 0.95;
const EASY: f64 = 0.8;

/// The most descriptors that this process may have open.
pub(crate) fn limit() -> Option<usize> {
    let limits = std::fs::read_to_string("/proc/self/limits").ok()?;
    soft_limit(&limits)
}

fn soft_limit(limits: &str) -> Option<usize> {
    let line = limits.lines().find(|l| l.starts_with("Max open files"))?;
    line.split_whitespace().nth(3)?.parse().ok()
}

fn open() -> Option<usize> {
    Some(std::fs::read_dir("/proc/self/fd").ok()?.count())
}

/// Watches for as long as the service runs.
pub(crate) async fn run(end: CancellationToken) {
    let Some(limit) = limit() else { return };
    let mut told = false;
    let watching = async {
        loop {
            tokio::time::sleep(LOOK_EVERY).await;
            let looked = tokio::task::spawn_blocking(open).await;
            // None can be opened any more, not even to look.
            let used = looked.ok().flatten().unwrap_or(limit);
            let share = used as f64 / limit as f64;
            if share >= FULL && !told {
                tracing::error!(
                    "{used} of {limit} descriptors are in use: new connections may be refused; raise the limit (LimitNOFILE, ulimit -n)"
                );
                told = true;
            }
            told &= share >= EASY;
        }
    };
    end.run_until_cancelled(watching).await;
}

#[cfg(test)]
mod tests {
    #[test]
    fn the_limit_is_read() {
        let limits = "Limit                     Soft Limit           Hard Limit           Units     \nMax open files            256                  1048576              files     \n";
        assert_eq!(super::soft_limit(limits), Some(256));
        assert!(super::limit().is_some());
    }
}
