//! The service started on loopback and driven through its client and its HTTP and WebSocket interface,
//! over simulated engines, and in `real_hosts` over real ones in network namespaces.

mod access;
mod description;
mod fleet;
mod logs;
mod operations;
mod real_hosts;
mod requests;
mod support;
