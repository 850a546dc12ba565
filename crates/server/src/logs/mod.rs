//! Logs: one container's lines by host and name over everything that happens to it, many merged by time, and the lines that are kept.
//! Lines over the live connection are in `live::logs`.

mod error;
pub(crate) mod follow;
pub(crate) mod http;
pub(crate) mod keeper;
pub(crate) mod merger;
pub(crate) mod tap;
pub(crate) use error::LogError;
pub(crate) use follow::{Followers, LastLines};
pub(crate) use keeper::Rules;
pub(crate) use merger::{LogMerger, MOST_TAIL, MergerEvent};
pub(crate) use tap::{Tap, TapEvent, Wish};
