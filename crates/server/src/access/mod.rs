//! Who is asking: claim code, passwords, sessions, tokens, and the brakes on guessing.

pub(crate) mod http;
pub(crate) mod identity;
pub(crate) mod leases;
pub(crate) mod passwords;
pub(crate) mod secrets;
pub(crate) mod throttle;
pub(crate) use identity::{ClientAddress, Identity};
pub(crate) use leases::{Lease, Leases};
