//! Resource usage: sampled, sent to viewers, kept as history.

mod context;
pub(crate) mod history;
pub(crate) mod http;
pub(crate) mod latest;
pub(crate) mod sampler;
pub(crate) use context::UsageContext;
pub(crate) use history::{History, HistoryTotals};
pub(crate) use latest::{SampleTotals, Uses, Watching};
pub(crate) use sampler::Sampler;
