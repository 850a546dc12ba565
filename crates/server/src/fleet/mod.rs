//! The fleet: links to hosts, the watcher and probes of each, and the hub that holds the observed state. The reducer
//! is `gubernum_core`'s.

mod context;
mod find;
mod fresh;
pub(crate) mod http;
pub mod hub;
pub(crate) mod links;
pub mod local_engine;
pub(crate) mod probes;
mod unseen;
mod view;
pub(crate) mod watcher;
pub(crate) use context::{FleetContext, start};
pub(crate) use find::FleetError;
pub(crate) use fresh::FreshFleet;
pub(crate) use hub::{Hub, InitialState, Published};
pub(crate) use links::{EndpointError, Link, LinkParts, Links};
pub(crate) use unseen::Unseen;
pub(crate) use view::{Seen, View};
