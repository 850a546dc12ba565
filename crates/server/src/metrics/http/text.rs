//! Metrics as text: OpenMetrics by the library, and the older text format made from it.
//!
//! Names follow the usual conventions: a prefix, base units, `_total` for counters. They are part of the interface:
//! dashboards and alerts are built on them.

use std::sync::atomic::AtomicU64;

use gubernum_core::host::LinkState;
use prometheus_client::encoding::text::encode;
use prometheus_client::metrics::counter::{ConstCounter, Counter};
use prometheus_client::metrics::family::Family;
use prometheus_client::metrics::gauge::{ConstGauge, Gauge};
use prometheus_client::metrics::info::Info;
use prometheus_client::registry::{Registry, Unit};

use crate::metrics::{Figures, FleetFigures, ProcessFigures};

/// Labels of one line.
type Labels = Vec<(&'static str, String)>;
type Whole = Family<Labels, Gauge>;
type Fraction = Family<Labels, Gauge<f64, AtomicU64>>;

/// The figures in OpenMetrics 1.0.
pub(super) fn openmetrics(figures: &Figures) -> String {
    let mut registry = Registry::default();
    let ours = registry.sub_registry_with_prefix("gubernum");
    ours.register("build", "The service's version", Info::new([("version", env!("CARGO_PKG_VERSION"))]));
    fleet(ours, &figures.fleet);
    operations(ours, figures);
    jobs(ours, figures);
    usage(ours, figures);
    limits(ours, figures);
    if let Some(process) = &figures.process {
        self::process(registry.sub_registry_with_prefix("process"), process);
    }
    let mut text = String::new();
    // Writing into a string cannot fail.
    let _ = encode(&mut text, &registry);
    in_order(&text)
}

/// The same text with the lines of each family in order, so that two answers can be compared and a person finds a host.
fn in_order(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    let mut lines: Vec<&str> = Vec::new();
    for line in text.lines() {
        if line.starts_with('#') {
            lines.sort_unstable();
            lines.drain(..).for_each(|line| out.extend([line, "\n"]));
            out.extend([line, "\n"]);
        } else {
            lines.push(line);
        }
    }
    out
}

/// Limits: what was refused, and how much of what may be open is.
fn limits(registry: &mut Registry, figures: &Figures) {
    let refused = Family::<Labels, Counter>::default();
    for (kind, count) in &figures.refused {
        refused.get_or_create(&vec![("kind", kind.clone())]).inc_by(*count);
    }
    registry.register("refusals", "Error responses by problem type", refused);
    let (open, most) = (Whole::default(), Whole::default());
    for (what, count, limit) in &figures.open {
        let labels = vec![("what", (*what).to_owned())];
        open.get_or_create(&labels).set(i64::try_from(*count).unwrap_or(i64::MAX));
        most.get_or_create(&labels).set(i64::try_from(*limit).unwrap_or(i64::MAX));
    }
    registry.register("open", "Live connections, logs and buffers that are open", open);
    registry.register("open_limit", "Limit of each", most);
    registry.register(
        "waiting_operations",
        "Queued operations",
        ConstGauge::new(i64::try_from(figures.waiting).unwrap_or(i64::MAX)),
    );
}

fn fleet(registry: &mut Registry, fleet: &FleetFigures) {
    let containers = Whole::default();
    let unhealthy = Whole::default();
    let images = Whole::default();
    let volumes = Whole::default();
    let networks = Whole::default();
    let up = Whole::default();
    let lag = Fraction::default();
    for host in &fleet.hosts {
        let labels = || vec![("host", host.host.clone())];
        for (state, count) in &host.containers {
            let mut labels = labels();
            labels.push(("state", state.word().to_owned()));
            containers.get_or_create(&labels).set(*count);
        }
        unhealthy.get_or_create(&labels()).set(host.unhealthy);
        images.get_or_create(&labels()).set(host.images.into());
        volumes.get_or_create(&labels()).set(host.volumes.into());
        networks.get_or_create(&labels()).set(host.networks.into());
        let mut of_link = labels();
        of_link.push(("link", host.link.clone()));
        up.get_or_create(&of_link).set((host.state == LinkState::Live).into());
        if let Some(seconds) = host.lag_seconds {
            lag.get_or_create(&labels()).set(seconds);
        }
    }
    let attention = Whole::default();
    for (severity, count) in &fleet.attention {
        attention.get_or_create(&vec![("severity", severity.word().to_owned())]).set(*count);
    }
    registry.register("hosts", "Hosts of the fleet", ConstGauge::new(fleet.hosts.len() as i64));
    registry.register("containers", "Containers by host and state", containers);
    registry.register("unhealthy_containers", "Containers whose health check fails, by host", unhealthy);
    registry.register("images", "Images by host", images);
    registry.register("volumes", "Volumes by host", volumes);
    registry.register("networks", "Networks by host", networks);
    registry.register("attention", "Lines of the attention list by severity", attention);
    registry.register("link_up", "1 while the link to the host's engine is live, else 0", up);
    registry.register_with_unit("link_lag", "Time since the host's engine last answered", Unit::Seconds, lag);
    let revision = ConstGauge::new(i64::try_from(fleet.revision).unwrap_or(i64::MAX));
    registry.register("fleet_revision", "Revision of the fleet since the service started", revision);
}

fn operations(registry: &mut Registry, figures: &Figures) {
    let ended = Family::<Labels, Counter>::default();
    for ((kind, outcome), count) in &figures.ended {
        let labels = vec![("kind", kind.word().to_owned()), ("outcome", outcome.word().to_owned())];
        ended.get_or_create(&labels).inc_by(*count);
    }
    let under_way = Whole::default();
    for (kind, count) in &figures.under_way {
        under_way.get_or_create(&vec![("kind", kind.word().to_owned())]).set(*count);
    }
    registry.register(
        "operations",
        "Operations that ended since the service started, by kind and outcome",
        ended,
    );
    registry.register("operations_under_way", "Running operations by kind", under_way);
}

fn jobs(registry: &mut Registry, figures: &Figures) {
    let (good, ended) = (Whole::default(), Whole::default());
    for run in &figures.jobs {
        let labels =
            vec![("host", run.host.clone()), ("stack", run.stack.clone()), ("service", run.service.clone())];
        good.get_or_create(&labels).set((!run.outcome.is_bad()).into());
        ended.get_or_create(&labels).set(run.ended.as_second());
    }
    registry.register(
        "job_last_run_good",
        "0 where the last run of a job failed or was missed, else 1",
        good,
    );
    registry.register_with_unit(
        "job_last_run_timestamp",
        "When the last run of a job ended",
        Unit::Seconds,
        ended,
    );
}

fn usage(registry: &mut Registry, figures: &Figures) {
    let (samples, history) = (&figures.samples, &figures.history);
    registry.register(
        "samples",
        "Samples of resource usage taken into history",
        ConstCounter::new(samples.taken),
    );
    registry.register(
        "sample_failures",
        "Rounds of sampling over a host that failed",
        ConstCounter::new(samples.failed_rounds),
    );
    registry.register(
        "sampled_containers",
        "Containers that are being sampled",
        ConstGauge::new(samples.sampled as i64),
    );
    registry.register_with_unit(
        "history_size",
        "Packed resource history on disk",
        Unit::Bytes,
        ConstGauge::new(history.bytes as i64),
    );
    registry.register("history_chunks", "Chunks of resource history", ConstGauge::new(history.chunks as i64));
    registry.register(
        "history_open_samples",
        "Samples waiting to be written",
        ConstGauge::new(history.open_samples as i64),
    );
}

fn process(registry: &mut Registry, process: &ProcessFigures) {
    registry.register_with_unit(
        "cpu",
        "Processor time, user and system",
        Unit::Seconds,
        ConstCounter::new(process.cpu_seconds),
    );
    let whole = |value: u64| ConstGauge::new(i64::try_from(value).unwrap_or(i64::MAX));
    registry.register_with_unit(
        "resident_memory",
        "Resident memory",
        Unit::Bytes,
        whole(process.resident_memory_bytes),
    );
    registry.register_with_unit(
        "virtual_memory",
        "Virtual memory",
        Unit::Bytes,
        whole(process.virtual_memory_bytes),
    );
    registry.register("open_fds", "Open file descriptors", whole(process.open_fds));
    if let Some(limit) = process.max_fds {
        registry.register("max_fds", "Limit of open file descriptors", whole(limit));
    }
    registry.register("threads", "Threads", ConstGauge::new(process.threads));
    registry.register_with_unit(
        "start_time",
        "When the process started, in seconds since 1970",
        Unit::Seconds,
        ConstGauge::new(process.start_time_seconds),
    );
}

/// The text format 0.0.4 of what is given in OpenMetrics: there a counter's family is named like its samples, an `info` is a
/// gauge, and there are no units and no end.
pub(super) fn plain(openmetrics: &str) -> String {
    let mut out = String::with_capacity(openmetrics.len());
    let mut lines = openmetrics.lines().peekable();
    while let Some(line) = lines.next() {
        if line == "# EOF" || line.starts_with("# UNIT ") {
            continue;
        }
        let Some(rest) = line.strip_prefix("# HELP ") else {
            if !line.starts_with("# TYPE ") {
                out.push_str(line);
                out.push('\n');
            }
            continue;
        };
        // The type's line follows that of the help.
        let (name, help) = rest.split_once(' ').unwrap_or((rest, ""));
        let kind = lines.peek().and_then(|next| next.strip_prefix("# TYPE ")?.rsplit(' ').next());
        let (suffix, kind) = match kind {
            Some("counter") => ("_total", "counter"),
            Some("info") => ("_info", "gauge"),
            _ => ("", "gauge"),
        };
        out.push_str(&format!("# HELP {name}{suffix} {help}\n# TYPE {name}{suffix} {kind}\n"));
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lines_of_a_family_are_in_order() {
        let text = "# TYPE a gauge\na{host=\"y\"} 1\na{host=\"x\"} 2\n# TYPE b gauge\nb 3\n# EOF\n";
        let ordered = "# TYPE a gauge\na{host=\"x\"} 2\na{host=\"y\"} 1\n# TYPE b gauge\nb 3\n# EOF\n";
        assert_eq!(in_order(text), ordered);
    }

    #[test]
    fn counters_and_infos_are_named_as_the_older_format_wants() {
        let text = "# HELP a_build Version.\n# TYPE a_build info\na_build_info{version=\"1\"} 1\n\
                    # HELP cpu_seconds Time.\n# TYPE cpu_seconds counter\n# UNIT cpu_seconds seconds\ncpu_seconds_total 3.5\n\
                    # HELP hosts Hosts.\n# TYPE hosts gauge\nhosts 2\n# EOF\n";
        assert_eq!(
            plain(text),
            "# HELP a_build_info Version.\n# TYPE a_build_info gauge\na_build_info{version=\"1\"} 1\n\
             # HELP cpu_seconds_total Time.\n# TYPE cpu_seconds_total counter\ncpu_seconds_total 3.5\n\
             # HELP hosts Hosts.\n# TYPE hosts gauge\nhosts 2\n"
        );
    }
}
