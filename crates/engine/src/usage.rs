//! Samples of resource usage, in the cheapest way that the engine has: podman samples all containers in one call,
//! dockerd one by one.

use std::collections::BTreeMap;
use std::time::Duration;

use futures_util::StreamExt;
use gubernum_core::usage::Counters;
use jiff::Timestamp;
use serde_json::Value;

use crate::calls::checked;
use crate::client::{Call, Engine};
use crate::error::EngineError;
use crate::record::time;
use crate::wire;

/// A sample that takes longer is of no use.
const SAMPLE_TIMEOUT: Duration = Duration::from_secs(8);
/// How many samples are asked for at once, at most, of an engine that gives them one by one; and how many containers one
/// of them can well do in its turn: a few at a time over one connection cost both sides least.
const SAMPLES_AT_ONCE: usize = 4;
const SAMPLES_IN_TURN: usize = 50;
/// dockerd says no limit by naming the machine's memory, the kernel by the largest number of pages.
const NO_LIMIT: u64 = 1 << 60;

impl Engine {
    /// Samples these running containers; `memory_total` is the machine's, to tell a limit from none.
    /// Containers that have ended meanwhile are left out.
    ///
    /// # Errors
    /// When the engine does not answer.
    pub async fn sample(
        &self,
        ids: &[String],
        memory_total: Option<u64>,
    ) -> Result<Vec<(String, Counters)>, EngineError> {
        if ids.is_empty() {
            return Ok(Vec::new());
        }
        let limit = |limit: Option<u64>| limit.filter(|&l| l > 0 && l < NO_LIMIT && Some(l) != memory_total);
        if self.dialect().has_own_interface() {
            return self.sample_all(ids, limit).await;
        }
        let samples = futures_util::stream::iter(ids.to_vec())
            .map(|id| async move { (self.sample_one(&id).await, id) });
        let mut out = Vec::with_capacity(ids.len());
        let at_once = ids.len().div_ceil(SAMPLES_IN_TURN).min(SAMPLES_AT_ONCE);
        let mut samples = samples.buffer_unordered(at_once);
        while let Some((sample, id)) = samples.next().await {
            match sample {
                Ok(Some(counters)) => {
                    let memory_limit = limit(counters.memory_limit);
                    out.push((id, Counters { memory_limit, ..counters }));
                }
                Ok(None) => {}
                // One that is gone or just ended is no failure.
                Err(e) if e.status().is_some() => {}
                Err(e) => return Err(e),
            }
        }
        Ok(out)
    }

    async fn sample_one(&self, id: &str) -> Result<Option<Counters>, EngineError> {
        let path = format!("/containers/{}/stats?stream=false&one-shot=true", checked(id)?);
        let call = Call { timeout: SAMPLE_TIMEOUT, ..Call::get("stats", &path) };
        Ok(counters(self.json(call).await?))
    }

    async fn sample_all(
        &self,
        ids: &[String],
        limit: impl Fn(Option<u64>) -> Option<u64>,
    ) -> Result<Vec<(String, Counters)>, EngineError> {
        let call =
            Call { timeout: SAMPLE_TIMEOUT, ..Call::get("stats", "/libpod/containers/stats?stream=false") };
        let found: wire::PodmanStats = self.json(call).await?;
        let wanted: std::collections::HashSet<&String> = ids.iter().collect();
        Ok(found
            .stats
            .into_iter()
            .filter(|s| wanted.contains(&s.container_id))
            .filter_map(|s| {
                // Of one that does not run it gives zeros, the time among them.
                let read = Timestamp::from_nanosecond(i128::from(s.system_nano)).ok();
                let read = read.filter(|_| s.system_nano > 0)?;
                let counters = Counters {
                    read,
                    processor_nanos: Some(s.cpu_nano),
                    memory: Some(s.mem_usage),
                    memory_limit: limit(Some(s.mem_limit)),
                    network_in: Some(s.net_input),
                    network_out: Some(s.net_output),
                    disk_read: Some(s.block_input),
                    disk_write: Some(s.block_output),
                    processes: Some(s.pids),
                    memory_has_cache: true,
                };
                Some((s.container_id, counters))
            })
            .collect())
    }
}

/// From dockerd's sample; `None` for a container that does not run, of which it gives zeros.
fn counters(s: wire::Stats) -> Option<Counters> {
    let read = time(&s.read)?;
    s.memory_stats.usage?;
    let cache = page_cache(&s.memory_stats.stats);
    let memory = s.memory_stats.usage.map(|used| used.saturating_sub(cache.unwrap_or(0)));
    // No interface at all means no network of its own; zeros would be a guess.
    let sum = |of: fn(&wire::NetworkStats) -> u64| s.networks.as_ref().map(|n| n.values().map(of).sum());
    let blocks = s.blkio_stats.io_service_bytes_recursive;
    let disk = |op: &str| {
        let entries = blocks.as_ref()?.iter().filter(|e| e.op.eq_ignore_ascii_case(op));
        Some(entries.map(|e| e.value).sum())
    };
    Some(Counters {
        read,
        processor_nanos: Some(s.cpu_stats.cpu_usage.total_usage),
        memory,
        memory_limit: s.memory_stats.limit,
        network_in: sum(|n| n.rx_bytes),
        network_out: sum(|n| n.tx_bytes),
        disk_read: disk("read"),
        disk_write: disk("write"),
        processes: s.pids_stats.current,
        memory_has_cache: cache.is_none(),
    })
}

/// The files that the kernel keeps in memory and would let go: the first way of accounting names them
/// `total_active_file` and `total_inactive_file` (with those below), the second without `total_`.
/// Shared memory is not among them, because nothing can let it go.
fn page_cache(stats: &BTreeMap<String, Value>) -> Option<u64> {
    let of = |name: &str| stats.get(name).and_then(Value::as_u64);
    let both = |a: &str, b: &str| Some(of(a)? + of(b)?);
    both("total_active_file", "total_inactive_file").or_else(|| both("active_file", "inactive_file"))
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    fn read(value: Value) -> Option<Counters> {
        counters(serde_json::from_value(value).unwrap())
    }

    #[test]
    fn the_first_way_of_accounting() {
        let c = read(json!({
            "read": "2026-11-23T10:48:27.154708149Z", "pids_stats": {"current": 4},
            "blkio_stats": {"io_service_bytes_recursive": [
                {"major": 8, "minor": 0, "op": "Read", "value": 4096}, {"major": 8, "minor": 0, "op": "Write", "value": 100},
                {"major": 8, "minor": 16, "op": "Read", "value": 1}, {"major": 8, "minor": 0, "op": "Total", "value": 4196}]},
            "cpu_stats": {"cpu_usage": {"total_usage": 1_061_113_869}, "system_cpu_usage": 22_871_900_000_000u64},
            "memory_stats": {"usage": 10_000, "limit": 67_108_864, "stats": {
                "active_file": 1, "inactive_file": 1, "total_active_file": 1000, "total_inactive_file": 2000, "total_cache": 3500}},
            "networks": {"eth0": {"rx_bytes": 7, "tx_bytes": 9}, "eth1": {"rx_bytes": 1, "tx_bytes": 1}}
        }))
        .unwrap();
        assert_eq!((c.memory, c.memory_limit, c.memory_has_cache), (Some(7000), Some(67_108_864), false));
        assert_eq!((c.disk_read, c.disk_write, c.processes), (Some(4097), Some(100), Some(4)));
        assert_eq!((c.network_in, c.network_out), (Some(8), Some(10)));
    }

    #[test]
    fn the_second_way_of_accounting() {
        let c = read(json!({
            "read": "2026-11-23T10:48:27Z", "pids_stats": {"current": 1},
            "blkio_stats": {"io_service_bytes_recursive": [{"major": 254, "minor": 0, "op": "read", "value": 5}]},
            "cpu_stats": {"cpu_usage": {"total_usage": 5000}},
            "memory_stats": {"usage": 9000, "limit": 100_000, "stats": {"anon": 3000, "file": 5000, "active_file": 1500, "inactive_file": 2500}}
        }))
        .unwrap();
        assert_eq!((c.memory, c.disk_read, c.network_in), (Some(5000), Some(5), None));
    }

    #[test]
    fn a_stopped_one_and_what_is_not_told() {
        let stopped = json!({"read": "0001-01-01T00:00:00Z", "cpu_stats": {}, "memory_stats": {}, "blkio_stats": {"io_service_bytes_recursive": null}});
        assert_eq!(read(stopped), None);
        let little = json!({"read": "2026-11-23T10:48:27Z", "memory_stats": {"usage": 5}, "blkio_stats": null, "pids_stats": {}});
        let c = read(little).unwrap();
        assert_eq!((c.memory, c.memory_has_cache, c.disk_read, c.processes), (Some(5), true, None, None));
    }
}
