//! Live connections: what a tab subscribes to, over one WebSocket. The connection itself is in [`http`], with what it reports about the
//! fleet and the team; what it pays for logs is in [`logs`], which samples it is told in [`usage`].

mod context;
mod error;
pub(crate) mod http;
mod logs;
mod team;
mod usage;
pub(crate) use context::LiveContext;
pub(crate) use error::LiveError;
