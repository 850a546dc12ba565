//! Metrics of the fleet and of the service itself, collected at one moment.
//!
//! Nothing is kept here: [`Sources::figures`] asks the other capabilities through their handles. How the figures become
//! text, and who may read them, is in [`http`]; the process's own figures are in [`process`].

pub(crate) mod http;
mod process;

use std::collections::BTreeMap;
use std::sync::Arc;

use gubernum_core::container::{Severity, State};
use gubernum_core::fleet::Fleet;
use gubernum_core::host::LinkState;
use gubernum_core::jobs::JobRun;
use gubernum_core::journal::OperationState;
use gubernum_core::plan::Kind;
use gubernum_store::StoreError;
use jiff::Timestamp;

use crate::access::{Budgets, Tally};
use crate::clock::Clock;
use crate::fleet::Hub;
use crate::jobs::Scheduler;
use crate::operations::{OperationQueue, Runner};
use crate::usage::{HistoryTotals, SampleTotals, Uses};
use crate::web::Subnet;

pub(crate) use process::ProcessFigures;

/// Where the figures come from.
pub(crate) struct Sources {
    pub(crate) hub: Arc<Hub>,
    pub(crate) runner: Arc<Runner>,
    pub(crate) uses: Arc<Uses>,
    pub(crate) scheduler: Arc<Scheduler>,
    pub(crate) tally: Arc<Tally>,
    pub(crate) budgets: Arc<Budgets>,
    pub(crate) queue: Arc<OperationQueue>,
}

/// The context of metrics.
pub(crate) struct MetricsContext {
    pub(crate) sources: Sources,
    pub(crate) clock: Clock,
    /// Who may read metrics without a token.
    pub(crate) metrics_from: Vec<Subnet>,
}

/// Everything that is reported, gathered at one moment.
pub(crate) struct Figures {
    pub(crate) fleet: FleetFigures,
    /// Operations that ended since the service started.
    pub(crate) ended: BTreeMap<(Kind, OperationState), u64>,
    /// Operations under way.
    pub(crate) under_way: BTreeMap<Kind, i64>,
    /// The last run of each job.
    pub(crate) jobs: Vec<JobRun>,
    /// What was refused since the service started, by the kind of the problem.
    pub(crate) refused: BTreeMap<String, u64>,
    /// What is open, and the most that may be.
    pub(crate) open: Vec<(&'static str, usize, usize)>,
    /// Queued operations.
    pub(crate) waiting: usize,
    pub(crate) samples: SampleTotals,
    pub(crate) history: HistoryTotals,
    /// Absent where the machine does not tell.
    pub(crate) process: Option<ProcessFigures>,
}

/// One host's part.
#[derive(Debug, Clone, PartialEq)]
pub(crate) struct HostFigures {
    pub(crate) host: String,
    pub(crate) link: String,
    pub(crate) state: LinkState,
    /// Seconds since the engine last answered; absent when it never did.
    pub(crate) lag_seconds: Option<f64>,
    pub(crate) containers: BTreeMap<State, i64>,
    pub(crate) unhealthy: i64,
    pub(crate) images: u32,
    pub(crate) volumes: u32,
    pub(crate) networks: u32,
}

/// The fleet's part.
#[derive(Debug, Clone, PartialEq)]
pub(crate) struct FleetFigures {
    pub(crate) hosts: Vec<HostFigures>,
    /// Lines of the attention list by severity.
    pub(crate) attention: BTreeMap<Severity, i64>,
    pub(crate) revision: u64,
}

/// Why there are no figures.
#[derive(Debug, thiserror::Error)]
pub(crate) enum FiguresError {
    /// Resource history.
    #[error(transparent)]
    Store(#[from] StoreError),
    /// Counting was interrupted.
    #[error("counting the fleet was interrupted: {0}")]
    Counting(#[from] tokio::task::JoinError),
}

impl Sources {
    /// Gathers them. Counting a large fleet takes a moment: a thread of its own does it, on a copy.
    ///
    /// # Errors
    /// When resource history cannot be read.
    pub(crate) async fn figures(&self, now: Timestamp) -> Result<Figures, FiguresError> {
        let mut under_way = BTreeMap::new();
        for operation in self.runner.running() {
            *under_way.entry(operation.request.kind()).or_default() += 1;
        }
        let fleet = self.hub.snapshot();
        let counting = move || (fleet_figures(&fleet, now), ProcessFigures::read());
        let (fleet, process) = tokio::task::spawn_blocking(counting).await?;
        Ok(Figures {
            fleet,
            ended: self.runner.ended(),
            under_way,
            jobs: self.scheduler.rows().into_iter().filter_map(|row| row.last).collect(),
            refused: self.tally.all(),
            open: self.budgets.open(),
            waiting: self.queue.all().len(),
            samples: self.uses.totals(),
            history: self.uses.history.totals().await?,
            process,
        })
    }
}

/// Counts what the fleet holds. Every state is there for every host, so that a figure that falls to 0 says so.
fn fleet_figures(fleet: &Fleet, now: Timestamp) -> FleetFigures {
    let hosts = fleet.hosts().map(|host| {
        let mut containers: BTreeMap<State, i64> = State::ALL.iter().map(|&state| (state, 0)).collect();
        let mut unhealthy = 0;
        for container in fleet.containers_of(&host.name) {
            *containers.entry(container.state).or_default() += 1;
            unhealthy += i64::from(container.health == gubernum_core::container::Health::Unhealthy);
        }
        HostFigures {
            host: host.name.clone(),
            link: host.link.clone(),
            state: host.state,
            lag_seconds: host.last_seen.map(|seen| now.duration_since(seen).as_secs_f64().max(0.0)),
            containers,
            unhealthy,
            images: host.assets.images,
            volumes: host.assets.volumes,
            networks: host.assets.networks,
        }
    });
    let mut attention: BTreeMap<Severity, i64> =
        Severity::ALL.iter().map(|&severity| (severity, 0)).collect();
    let hosts = hosts.collect();
    for line in fleet.attention() {
        *attention.entry(line.reason.severity).or_default() += 1;
    }
    FleetFigures { hosts, attention, revision: fleet.revision() }
}

#[cfg(test)]
mod tests {
    use gubernum_core::container::{Container, Health};
    use gubernum_core::fleet::Observation;

    use super::*;

    #[test]
    fn every_state_of_every_host_is_counted() {
        let mut fleet = Fleet::new();
        let start = Timestamp::UNIX_EPOCH;
        for name in ["packhouse", "coldstore"] {
            let added = Observation::HostAdded {
                name: name.into(),
                address: "unix:///x".into(),
                link: "socket".into(),
                ports_address: None,
            };
            fleet.apply(added, start);
        }
        let engine = gubernum_core::host::EngineFacts {
            kind: "dockerd".into(),
            version: "1".into(),
            api_version: "1.41".into(),
            os: "linux".into(),
            architecture: "amd64".into(),
            machine: "packhouse".into(),
        };
        let mut one = Container::blank("packhouse", "frost-api", "a");
        one.state = State::Running;
        one.health = Health::Unhealthy;
        let mut other = Container::blank("packhouse", "frost-gate", "b");
        other.state = State::Exited;
        let containers = vec![one, other];
        fleet.apply(Observation::Listing { host: "packhouse".into(), engine, containers }, start);
        let figures = fleet_figures(&fleet, start + jiff::SignedDuration::from_secs(90));
        let of = |name: &str| figures.hosts.iter().find(|h| h.host == name).unwrap();
        let packhouse = of("packhouse");
        assert_eq!((packhouse.containers[&State::Running], packhouse.containers[&State::Exited]), (1, 1));
        assert_eq!(packhouse.containers.len(), State::ALL.len());
        assert_eq!((packhouse.unhealthy, packhouse.lag_seconds), (1, Some(90.0)));
        assert_eq!((of("coldstore").lag_seconds, of("coldstore").state), (None, LinkState::Connecting));
        assert!(figures.attention.values().sum::<i64>() >= 1, "{figures:?}");
    }
}
