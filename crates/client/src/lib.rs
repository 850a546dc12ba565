//! A typed client of Gubernum's API: HTTP for questions and changes, a stream for logs, and the live
//! protocol over a WebSocket.
//!
//! ```no_run
//! # async fn example() -> Result<(), gubernum_client::ClientError> {
//! use gubernum_client::{Client, Trust};
//! let client = Client::new("http://127.0.0.1:7310", Some("gbt_…".into()), Trust::System)?;
//! for host in client.hosts().await? {
//!     let _ = host.name;
//! }
//! # Ok(()) }
//! ```

mod client;
mod error;
mod lines;
mod live;
mod trust;

pub use client::{Client, LogOptions};
pub use error::ClientError;
pub use lines::LineStream;
pub use live::Live;
pub use trust::Trust;
