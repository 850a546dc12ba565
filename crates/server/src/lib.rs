//! The Gubernum service: host links and watchers, the operation runner, the live fan-out, the HTTP API
//! and sign-in.
//!
//! [`Service::start`] takes its listener, clock and records from outside, so that a test can run ten of
//! them in one process; it ends with [`Service::stop`]. Three flows pass through: observation
//! ([`watch`] → [`hub`] → `live`), change (`http::operations` → [`runner`] → engines) and streams
//! (`tap` → `http::logs`, `live_logs`). Nothing here computes: that is `gubernum_core`'s.

mod app;
mod auth;
mod backing;
mod budgets;
mod care;
mod claims;
pub mod clock;
mod db;
mod descriptors;
mod files;
mod follow;
mod history;
pub mod http;
pub mod hub;
mod integrity;
mod keeper;
mod links;
mod live;
mod live_logs;
mod live_use;
pub mod local;
mod many;
mod newer;
mod one_file;
mod one_offs;
mod patience;
mod recorder;
mod recover;
pub mod registry;
mod runner;
mod sampler;
mod service;
mod settle;
mod tap;
mod terminals;
pub mod tls;
mod unpacking;
mod uses;
mod watch;

pub use clock::Clock;
pub use history::KeepHistory;
pub use http::description;
pub use http::proxies::Subnet;
pub use service::{Service, ServiceError, ServiceSettings, TIMELINE_DAYS};

/// Hashes a password for a member that is added without the API, as the demo does. `None` when the
/// machine has no memory for it.
pub fn hash_password(password: &str) -> Option<String> {
    auth::passwords::hash_now(password)
}

/// A fresh API token and the hash under which it is kept; for the demo.
///
/// # Errors
/// When the machine gives no random numbers.
pub fn fresh_token() -> Result<(String, Vec<u8>), auth::secrets::NoRandomness> {
    let secret = auth::secrets::fresh("gbt_")?;
    let hash = auth::secrets::hash(&secret);
    Ok((secret, hash))
}
