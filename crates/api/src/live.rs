//! The live protocol: JSON messages over the one WebSocket of a tab, `/api/v1/live`.
//!
//! A client subscribes under an id of its own choosing. The fleet comes as a snapshot and then as
//! deltas, resumed from a revision after a break. Lines of a log are paid for: the service sends at
//! most [`LOG_CREDIT`] bytes of them ahead and continues as the client says that it has taken them.

use gubernum_core::delta::Delta;
use gubernum_core::journal::Operation;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::jobs::JobRow;
use crate::logs::{LogNote, LogRequest, SearchProgress, SourcedLine};
use crate::problem::Problem;
use crate::stacks::DriftRow;
use crate::team::{NotedObject, TeamState};
use crate::usage::{CurrentUsage, UsageSubscription};
use crate::views::FleetSnapshot;

/// How many bytes of log text a subscription may have under way.
pub const LOG_CREDIT: u64 = 512 * 1024;
/// How many subscriptions one connection may have.
pub const MOST_SUBSCRIPTIONS: usize = 32;

/// A message from the client.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(tag = "type", rename_all = "kebab-case")]
pub enum FromClient {
    /// Subscribes to the fleet.
    Fleet {
        /// The subscription.
        id: u32,
        /// The last known epoch and revision, to resume from.
        #[serde(default)]
        since: Option<(String, u64)>,
    },
    /// Subscribes to operations, jobs and stack drift.
    Operations {
        /// The subscription.
        id: u32,
    },
    /// Subscribes to the team: who is present, freezes and notes.
    Team {
        /// The subscription.
        id: u32,
    },
    /// Tells what the member is viewing, for others to see; absent for nothing.
    Looking {
        /// The object, such as `container:packhouse/orchard-web`.
        #[serde(default)]
        #[schema(value_type = Option<String>)]
        at: Option<NotedObject>,
    },
    /// Subscribes to the logs of one or several containers, merged.
    #[serde(rename = "many-logs")]
    Logs {
        /// The subscription.
        id: u32,
        /// Which lines.
        wish: LogRequest,
    },
    /// Subscribes to resource usage of containers.
    Use {
        /// The subscription.
        id: u32,
        /// Which containers.
        wish: UsageSubscription,
    },
    /// Grants credit for more bytes of log text.
    Taken {
        /// The subscription.
        id: u32,
        /// Bytes.
        bytes: u64,
    },
    /// Ends a subscription.
    Stop {
        /// The subscription.
        id: u32,
    },
}

/// A message from the service.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(tag = "type", rename_all = "kebab-case")]
pub enum FromServer {
    /// The whole fleet at one revision, in consecutive parts: first, and whenever too many changes were missed.
    Snapshot {
        /// The subscription.
        id: u32,
        /// The part's number. Part 0 replaces what was known; the others add to it.
        #[serde(default)]
        part: u32,
        /// Whether another part follows.
        #[serde(default)]
        more: bool,
        /// Some of the hosts and containers.
        fleet: FleetSnapshot,
    },
    /// What changed.
    Delta {
        /// The subscription.
        id: u32,
        /// The changes.
        delta: Delta,
    },
    /// An operation was added or changed.
    Operation {
        /// The subscription.
        id: u32,
        /// As it is now.
        operation: Box<Operation>,
    },
    /// A stack's drift changed, or the stack was removed; with a subscription to operations.
    Drift {
        /// The subscription.
        id: u32,
        /// The current state.
        row: DriftRow,
    },
    /// A job was added, ran or was removed; with a subscription to operations.
    Job {
        /// The subscription.
        id: u32,
        /// The current state.
        row: Box<JobRow>,
    },
    /// The current state of the team.
    Team {
        /// The subscription.
        id: u32,
        /// The team.
        team: Box<TeamState>,
    },
    /// Lines of logs.
    #[serde(rename = "many-lines")]
    Lines {
        /// The subscription.
        id: u32,
        /// In order.
        lines: Vec<SourcedLine>,
        /// Bytes of credit used.
        bytes: u64,
    },
    /// A note about one of the logs.
    LogNote {
        /// The subscription.
        id: u32,
        /// What.
        note: LogNote,
    },
    /// The progress of a search through many logs.
    Searched {
        /// The subscription.
        id: u32,
        /// The progress.
        progress: SearchProgress,
    },
    /// Resource usage of containers.
    Used {
        /// The subscription.
        id: u32,
        /// The latest samples.
        samples: Vec<CurrentUsage>,
    },
    /// A log has ended.
    Ended {
        /// The subscription.
        id: u32,
        /// The error, unless everything was sent.
        #[serde(default)]
        problem: Option<Problem>,
    },
    /// A client message was invalid or refused.
    Refused {
        /// The subscription, if readable.
        #[serde(default)]
        id: Option<u32>,
        /// Why.
        problem: Problem,
    },
}
