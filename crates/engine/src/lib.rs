//! A client of one container engine over its public HTTP API, on any transport.
//!
//! [`Engine::open`] agrees on a version; then come typed calls ([`Engine::list`], [`Engine::inspect`],
//! [`Engine::stop`], …), events that resume where they were interrupted ([`events`]) and logs as lines
//! ([`logs`]). Where engines differ, [`dialect`] says how and evens it out; nobody above this crate
//! needs to know which engine it is. Not here: retrying, watching and deciding, which is the server's.

mod addresses;
pub mod archives;
pub mod assets;
pub mod attach;
pub mod calls;
mod carried;
pub mod client;
pub mod defined;
mod defined_mounts;
pub mod dialect;
pub mod endpoint;
pub mod error;
pub mod events;
pub mod exec;
pub mod frames;
pub mod hostfs;
pub mod logs;
mod make;
pub mod objects;
mod placed;
mod podman_fills;
mod rare_settings;
pub mod record;
pub mod tls;
pub mod transfer;
mod transport;
pub mod usage;
mod wire;

pub use calls::Done;
pub use client::Engine;
pub use defined::Defined;
pub use endpoint::{Endpoint, TlsMaterial};
pub use error::EngineError;
pub use placed::context_archive;
pub use transfer::RegistryAccount;
