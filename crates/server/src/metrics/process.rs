//! The process's own metrics, from `/proc` (proc(5)).
//!
//! Three small files are read here; a library for all of `/proc` would take longer to build than half of our crates.

use std::fs;

/// What the process takes. Names and meaning are the usual ones of client libraries.
#[derive(Debug, Clone, PartialEq)]
pub(crate) struct ProcessFigures {
    pub(crate) cpu_seconds: f64,
    pub(crate) resident_memory_bytes: u64,
    pub(crate) virtual_memory_bytes: u64,
    pub(crate) open_fds: u64,
    /// Absent when it is unlimited.
    pub(crate) max_fds: Option<u64>,
    pub(crate) threads: i64,
    /// Seconds since 1970.
    pub(crate) start_time_seconds: f64,
}

impl ProcessFigures {
    /// Reads them; `None` on a machine without `/proc`. Blocks for a moment.
    pub(crate) fn read() -> Option<Self> {
        let stat = fs::read_to_string("/proc/self/stat").ok()?;
        // The second field is the program's name in brackets, which may have anything in it.
        let fields: Vec<&str> = stat.rsplit_once(')')?.1.split_whitespace().collect();
        // Numbered as in proc(5), where what follows the name is field 3.
        let field = |number: usize| fields.get(number - 3)?.parse::<u64>().ok();
        let ticks = rustix::param::clock_ticks_per_second() as f64;
        Some(Self {
            cpu_seconds: (field(14)? + field(15)?) as f64 / ticks,
            threads: i64::try_from(field(20)?).ok()?,
            start_time_seconds: booted()? + field(22)? as f64 / ticks,
            virtual_memory_bytes: field(23)?,
            resident_memory_bytes: field(24)? * rustix::param::page_size() as u64,
            open_fds: fs::read_dir("/proc/self/fd").ok()?.count() as u64,
            max_fds: soft_limit(&fs::read_to_string("/proc/self/limits").ok()?),
        })
    }
}

/// When the machine was started, in seconds since 1970.
fn booted() -> Option<f64> {
    let stat = fs::read_to_string("/proc/stat").ok()?;
    stat.lines().find_map(|line| line.strip_prefix("btime ")?.trim().parse().ok())
}

fn soft_limit(limits: &str) -> Option<u64> {
    let line = limits.lines().find(|line| line.starts_with("Max open files"))?;
    line.split_whitespace().nth(3)?.parse().ok()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_kernel_tells() {
        let figures = ProcessFigures::read().unwrap();
        assert!(figures.resident_memory_bytes > 1_000_000 && figures.open_fds >= 3, "{figures:?}");
        assert!(figures.virtual_memory_bytes >= figures.resident_memory_bytes && figures.threads >= 1);
        let now = jiff::Timestamp::now().as_second() as f64;
        assert!((now - 86_400.0..=now + 5.0).contains(&figures.start_time_seconds), "{figures:?}");
    }

    #[test]
    fn a_limit_may_be_absent() {
        assert_eq!(
            soft_limit("Max open files            256                  4096                 files"),
            Some(256)
        );
        assert_eq!(
            soft_limit("Max open files            unlimited            unlimited            files"),
            None
        );
    }
}
