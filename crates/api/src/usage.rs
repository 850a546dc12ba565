//! Resource usage on the wire: current values and history.

use gubernum_core::usage::{Figure, Figures};
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// The current usage of one container.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct CurrentUsage {
    /// Its host.
    pub host: String,
    /// Its id.
    pub id: String,
    /// Its name.
    pub name: String,
    /// The stack.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub stack: Option<String>,
    /// When it was sampled.
    #[schema(value_type = String, format = DateTime)]
    pub time: Timestamp,
    /// The figures; absent values are not reported by the engine.
    pub figures: Figures,
    /// Memory includes the page cache, because the engine does not report it separately.
    #[serde(default, skip_serializing_if = "is_false")]
    pub memory_has_cache: bool,
    /// Processors in use in the last samples, oldest first.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub recent_processors: Vec<f32>,
    /// Memory in the last samples, oldest first.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub recent_memory: Vec<f32>,
}

fn is_false(value: &bool) -> bool {
    !value
}

/// A subscription to usage over the live connection.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct UsageSubscription {
    /// References such as `packhouse/frost-api` or `*/*`. Up to 50 containers are sampled every second while
    /// subscribed; more than that at the usual interval.
    pub references: Vec<String>,
}

/// The history of one figure of one series.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct FigureHistory {
    /// The figure.
    pub figure: Figure,
    /// The minimum of each step; `null` without data.
    pub min: Vec<Option<f64>>,
    /// The mean in each step.
    pub mean: Vec<Option<f64>>,
    /// The maximum of each step.
    pub max: Vec<Option<f64>>,
}

/// The history of one container, or the sum of several.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct SeriesHistory {
    /// The reference, or the stack's or host's name.
    pub name: String,
    /// The requested figures.
    pub figures: Vec<FigureHistory>,
}

/// Usage history.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct History {
    /// Start of the range, rounded down to a step.
    #[schema(value_type = String, format = DateTime)]
    pub from: Timestamp,
    /// End of the range.
    #[schema(value_type = String, format = DateTime)]
    pub to: Timestamp,
    /// Step in seconds: the finest that is kept for the range.
    pub step: u32,
    /// Damaged chunks that were skipped.
    pub damaged: u32,
    /// The start of each step, as a Unix time in seconds.
    pub times: Vec<i64>,
    /// The series.
    pub series: Vec<SeriesHistory>,
}

/// Containers ranked by usage in a time range, highest first.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Ranking {
    /// The figure.
    pub figure: Figure,
    /// Start of the range.
    #[schema(value_type = String, format = DateTime)]
    pub from: Timestamp,
    /// End of the range.
    #[schema(value_type = String, format = DateTime)]
    pub to: Timestamp,
    /// Step in seconds from which peaks are computed.
    pub step: u32,
    /// Number of containers compared.
    pub containers: u32,
    /// The highest.
    pub rows: Vec<RankedUsage>,
}

/// The usage of one container, which may have been removed since.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct RankedUsage {
    /// Its host.
    pub host: String,
    /// Its name.
    pub name: String,
    /// The stack, while the container exists.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub stack: Option<String>,
    /// Whether it still exists.
    pub is_there: bool,
    /// The mean.
    pub mean: f64,
    /// The peak.
    pub peak: f64,
    /// When the peak was.
    #[schema(value_type = String, format = DateTime)]
    pub peak_at: Timestamp,
}
