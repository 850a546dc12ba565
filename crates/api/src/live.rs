//! The live protocol: JSON messages over the one WebSocket of a tab, `/api/v1/live`.
//!
//! A client subscribes under an id of its own choosing. The fleet comes as a snapshot and then as
//! deltas, resumed from a revision after a break. Lines of a log are paid for: the service sends at
//! most [`LOG_CREDIT`] bytes of them ahead and goes on as the client says that it has taken them.

use gubernum_core::delta::Delta;
use gubernum_core::journal::Operation;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::jobs::JobRow;
use crate::logs::{LogNote, LogRequest, SearchProgress, SourcedLine};
use crate::problem::Problem;
use crate::stacks::DriftRow;
use crate::team::{NotedObject, TeamState};
use crate::usage::{UseNow, UseWish};
use crate::views::FleetSnapshot;

/// How many bytes of log text a subscription may have under way.
pub const LOG_CREDIT: u64 = 512 * 1024;
/// How many subscriptions one connection may have.
pub const MOST_SUBSCRIPTIONS: usize = 32;

/// What a client sends.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(tag = "type", rename_all = "kebab-case")]
pub enum FromClient {
    /// Wants the fleet.
    Fleet {
        /// The subscription.
        id: u32,
        /// The epoch and revision it stands at, to resume.
        #[serde(default)]
        since: Option<(String, u64)>,
    },
    /// Wants operations as they move, and to know which stacks are not as they were applied.
    Operations {
        /// The subscription.
        id: u32,
    },
    /// Wants to know who else is there, what is frozen and what is noted; and again whenever that changes.
    Team {
        /// The subscription.
        id: u32,
    },
    /// Says what the member looks at, so that others see it; nothing when absent.
    Looking {
        /// The object, such as `container:packhouse/orchard-web`.
        #[serde(default)]
        #[schema(value_type = Option<String>)]
        at: Option<NotedObject>,
    },
    /// Wants the logs of one container or of many, merged.
    #[serde(rename = "many-logs")]
    Logs {
        /// The subscription.
        id: u32,
        /// Which lines.
        wish: LogRequest,
    },
    /// Wants to know what containers use.
    Use {
        /// The subscription.
        id: u32,
        /// Whose.
        wish: UseWish,
    },
    /// Has taken so many bytes of log text.
    Taken {
        /// The subscription.
        id: u32,
        /// Bytes.
        bytes: u64,
    },
    /// Wants no more.
    Stop {
        /// The subscription.
        id: u32,
    },
}

/// What the service sends.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(tag = "type", rename_all = "kebab-case")]
pub enum FromServer {
    /// The whole fleet, in parts of one revision that follow each other: at first, and whenever too much was missed.
    Snapshot {
        /// The subscription.
        id: u32,
        /// Which part this is. The first, 0, replaces whatever was known; the others add to it.
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
    /// An operation is new or has moved on.
    Operation {
        /// The subscription.
        id: u32,
        /// As it is now.
        operation: Box<Operation>,
    },
    /// A stack is another than its newest revision says, or is no more: with a subscription to operations.
    Drift {
        /// The subscription.
        id: u32,
        /// What is known of it now.
        row: DriftRow,
    },
    /// A job is new, has run, or is no more: with a subscription to operations.
    Job {
        /// The subscription.
        id: u32,
        /// What is known of it now.
        row: Box<JobRow>,
    },
    /// The team, as it is now.
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
        /// What they cost of the credit.
        bytes: u64,
    },
    /// Something to know about one of the logs.
    LogNote {
        /// The subscription.
        id: u32,
        /// What.
        note: LogNote,
    },
    /// How far a search through many logs has come.
    Searched {
        /// The subscription.
        id: u32,
        /// Up to when.
        progress: SearchProgress,
    },
    /// What containers use.
    Used {
        /// The subscription.
        id: u32,
        /// Those that were sampled just now.
        samples: Vec<UseNow>,
    },
    /// A log is over.
    Ended {
        /// The subscription.
        id: u32,
        /// Why, if not because all was sent.
        #[serde(default)]
        problem: Option<Problem>,
    },
    /// A message of the client was not understood or refused.
    Refused {
        /// The subscription, if it could be read.
        #[serde(default)]
        id: Option<u32>,
        /// Why.
        problem: Problem,
    },
}
