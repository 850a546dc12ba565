//! Jobs on the wire: their schedules and their runs.

pub use gubernum_core::jobs::{Concurrency, JobRun, Missed, RunOutcome, Schedule};
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A job of a stack: a service that runs to its end, on a schedule or manually.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct JobRow {
    /// The host.
    pub host: String,
    /// The stack.
    pub stack: String,
    /// The service.
    pub service: String,
    /// The schedule; absent when the job was removed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub schedule: Option<Schedule>,
    /// The next run.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(value_type = Option<String>, format = DateTime)]
    pub next: Option<Timestamp>,
    /// The last run.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub last: Option<JobRun>,
    /// The operations of current runs.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub running: Vec<u64>,
}

/// A run of a job with its output.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct JobRunOutput {
    /// Which run.
    #[serde(flatten)]
    pub run: JobRun,
    /// Standard output and standard error, in order.
    pub output: String,
    /// The output is truncated at its start.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub cut: bool,
}
