//! Moving and cloning to another host: what has to be done on both, in which order, and what cannot go along.
//!
//! [`plan`] makes one graph of both hosts' parts, which the executor carries out as a whole; [`prepare`] gathers what something needs; [`manifest`] says what of a volume's
//! data is the same and what has to be sent again; [`ports`] gives a copy of a stack other ports. Streaming is the service's.

pub mod manifest;
pub mod plan;
pub mod ports;
pub mod prepare;
mod resources;

pub use manifest::{Entry, EntryKind, Manifest};
pub use plan::{Destination, Original, plan_move};
