//! The team at work together: who holds changes to what. What a freeze is and whom it holds off is `gubernum_core`'s; it is asked
//! by `operations`, before a change is written to the journal, and before files and sources of stacks are changed.

mod context;
mod freezes;
pub(crate) mod http;
pub(crate) use context::TeamContext;
pub(crate) use freezes::Freezes;
