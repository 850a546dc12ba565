//! Simulated container engines: real HTTP servers on Unix sockets that speak the engine's API as far
//! as Gubernum uses it, with state that behaves and faults on demand.
//!
//! [`SimHost`] is one engine; [`demo`] builds the demonstration fleet; [`crowd`] a large one for
//! measurements. What a simulated container does is its [`Program`]. It speaks as dockerd does; the
//! conformance suite of the engine crate holds it against the real ones. Not here: anything of the service.

mod answers;
mod archives;
mod attach;
pub mod crowd;
pub mod demo;
mod engine;
mod faults;
mod files;
mod git;
mod holdings;
mod host;
mod life;
mod load;
mod logbook;
mod objects;
mod program;
mod registry;
mod routes;
mod shell;
mod spec;
mod streams;
mod transfer;

pub use faults::Fault;
pub use git::{SimCommit, SimRepository};
pub use host::{Past, SimHost};
pub use load::Load;
pub use program::{Action, PROGRAM_LABEL, Program};
pub use registry::{RegistryImage, SimRegistry};
pub use spec::{ContainerSpec, HealthPlan, PortSpec, VolumeSpec};
