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

mod acting;
mod client;
mod directories;
mod error;
mod files;
mod lines;
mod live;
mod members;
mod records;
mod team;
mod terminals;
mod trust;
mod watching;

pub use client::{Client, LogOptions};
pub use error::ClientError;
pub use files::{BuildStream, Download, Holder, Place, upload_word};
pub use lines::{LineStream, LogItem, MergedItem, MergedStream};
pub use live::Live;
pub use terminals::{CommandStream, FromTerminal, HeldTerminal};
pub use trust::Trust;
