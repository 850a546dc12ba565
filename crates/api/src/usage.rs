//! Resource use on the wire: what is used now, and history.

use gubernum_core::usage::{Figure, Figures};
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// What one container uses now.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct UseNow {
    /// Its host.
    pub host: String,
    /// Its id.
    pub id: String,
    /// Its name.
    pub name: String,
    /// Its stack.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub stack: Option<String>,
    /// When it was sampled.
    #[schema(value_type = String, format = DateTime)]
    pub time: Timestamp,
    /// The figures; what the engine does not tell is absent.
    pub figures: Figures,
    /// The engine does not tell the page cache apart, so memory includes it.
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

/// Whose use is wanted over the live connection.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct UseWish {
    /// References such as `packhouse/frost-api` or `*/*`. Up to fifty containers are sampled every second for as
    /// long as somebody looks; more than that as often as all are.
    pub references: Vec<String>,
}

/// The history of one figure of one series.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct FigureHistory {
    /// The figure.
    pub figure: Figure,
    /// The least in each step; `null` where nothing is known.
    pub min: Vec<Option<f64>>,
    /// The mean in each step.
    pub mean: Vec<Option<f64>>,
    /// The most in each step.
    pub max: Vec<Option<f64>>,
}

/// The history of one container, or of several summed up.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct SeriesHistory {
    /// The reference, or the name of the stack or the host.
    pub name: String,
    /// The figures that were asked for.
    pub figures: Vec<FigureHistory>,
}

/// An answer about history.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct History {
    /// The begin of the range, rounded down to a step.
    #[schema(value_type = String, format = DateTime)]
    pub from: Timestamp,
    /// The end of the range.
    #[schema(value_type = String, format = DateTime)]
    pub to: Timestamp,
    /// Seconds of one step: as fine as is kept so far back and as can be shown.
    pub step: u32,
    /// Chunks that were damaged and skipped.
    pub damaged: u32,
    /// The begin of each step, in seconds since 1970.
    pub times: Vec<i64>,
    /// The series.
    pub series: Vec<SeriesHistory>,
}

/// Who used most of one figure in a time, the most first.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Ranking {
    /// The figure.
    pub figure: Figure,
    /// The begin.
    #[schema(value_type = String, format = DateTime)]
    pub from: Timestamp,
    /// The end.
    #[schema(value_type = String, format = DateTime)]
    pub to: Timestamp,
    /// Seconds of the steps from which peaks are told.
    pub step: u32,
    /// How many containers were looked at.
    pub containers: u32,
    /// The first of them.
    pub rows: Vec<RankedUse>,
}

/// What one container used in a time; it may be gone by now.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct RankedUse {
    /// Its host.
    pub host: String,
    /// Its name.
    pub name: String,
    /// Its stack, while it is there.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub stack: Option<String>,
    /// Whether it is in the fleet now.
    pub is_there: bool,
    /// The mean.
    pub mean: f64,
    /// The largest value.
    pub peak: f64,
    /// When that was.
    #[schema(value_type = String, format = DateTime)]
    pub peak_at: Timestamp,
}
