//! Logs: lines of containers, followed by host and name and merged by time, and kept lines. All logs are streamed by
//! [`LogMerger`]; that of one container is a merge of one. Lines over the live connection are in `live::logs`.

mod context;
mod error;
pub(crate) mod follow;
pub(crate) mod http;
pub(crate) mod keeper;
pub(crate) mod merger;
pub(crate) use context::{KEPT_READS, LogsContext, start};
pub(crate) use error::LogError;
pub(crate) use follow::{Followers, LastLines};
pub(crate) use keeper::Rules;
pub(crate) use merger::{LogMerger, MOST_TAIL, MergedLine, MergerEvent};
