//! The Gubernum service, arranged by capability: each folder has its routes (`http`), its state and its tasks.
//!
//! [`Service::start`] takes its listener, clock and records from outside, so that a test can run ten of
//! them in one process; it ends with [`Service::stop`]. Three flows pass through: observation
//! (`fleet::watcher` → [`fleet::hub`] → `live`), change (`operations::http` → `operations` → engines) and streams
//! (`logs::merger` → `logs::http`, `live::logs`). Nothing here computes: that is `gubernum_core`'s.

mod access;
mod assembly;
pub mod clock;
mod exec;
mod files;
pub mod fleet;
pub mod images;
mod jobs;
mod live;
mod logs;
mod metrics;
mod operations;
mod service;
mod sources;
mod stacks;
mod storage;
mod team;
mod timeline;
mod usage;
pub mod web;

pub use clock::Clock;
pub use files::judged_archive;
pub use fleet::local_engine as local;
pub use service::{Service, ServiceError, ServiceSettings, TIMELINE_DAYS};
pub use usage::history::KeepHistory;
pub use web::{Subnet, description, tls};

/// Hashes a password for a member that is added without the API, as the demo does. `None` when the
/// machine has no memory for it.
pub fn hash_password(password: &str) -> Option<String> {
    access::passwords::hash_now(password)
}

/// A secret of a link by which somebody becomes a member, with the hash that is kept of it.
///
/// # Errors
/// When the machine provides no random numbers.
pub fn fresh_link() -> Result<(String, Vec<u8>), access::secrets::NoRandomness> {
    let secret = access::secrets::fresh("gbi_")?;
    let hash = access::secrets::hash(&secret);
    Ok((secret, hash))
}

/// A fresh API token and the hash under which it is kept; for the demo.
///
/// # Errors
/// When the machine provides no random numbers.
pub fn fresh_token() -> Result<(String, Vec<u8>), access::secrets::NoRandomness> {
    let secret = access::secrets::fresh("gbt_")?;
    let hash = access::secrets::hash(&secret);
    Ok((secret, hash))
}
