//! Logs: one container's lines by host and name over everything that happens to it, many merged by time, and the lines that are kept.
//! Lines over the live connection are in `live::logs`.

pub(crate) mod follow;
pub(crate) mod http;
pub(crate) mod keeper;
pub(crate) mod merger;
pub(crate) mod tap;
pub(crate) use follow::{Followers, LastLines};
pub(crate) use merger::{LogMerger, MergerEvent};
pub(crate) use tap::Tap;
