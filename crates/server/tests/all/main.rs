//! The service started on loopback and driven through its client and its HTTP and WebSocket interface,
//! over simulated engines, and in `real_hosts` over real ones in network namespaces.

// All of this is tests: their helpers may fail and speak as the tests themselves may.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, clippy::print_stdout)]

mod access;
mod description;
mod fleet;
mod logs;
mod operations;
mod real_hosts;
mod requests;
mod support;
