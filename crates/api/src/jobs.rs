//! What clients get of jobs: when they are run, and what their runs came to.

pub use gubernum_core::jobs::{Concurrency, JobRun, Missed, RunOutcome, Schedule};
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A job of a stack: a service that is run at its times, or by hand, to its end.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct JobRow {
    /// The host.
    pub host: String,
    /// The stack.
    pub stack: String,
    /// The service.
    pub service: String,
    /// When it is run; absent when the job is no more.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub schedule: Option<Schedule>,
    /// When it is due next.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(value_type = Option<String>, format = DateTime)]
    pub next: Option<Timestamp>,
    /// Its last run.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub last: Option<JobRun>,
    /// The operations of runs that are under way.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub running: Vec<u64>,
}

/// A run of a job with its output.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct JobRunOutput {
    /// Which run.
    #[serde(flatten)]
    pub run: JobRun,
    /// What it said, both outputs in their order.
    pub output: String,
    /// It said more; the beginning is left out.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub cut: bool,
}
