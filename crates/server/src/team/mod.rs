//! The team at work together: who is there and looks at what, who is queued, notes, and who holds changes to what. What a freeze is and
//! whom it holds off, and what notes are on, is `gubernum_core`'s; freezes are asked by `operations`, before a change is written to the
//! journal, and before files and sources of stacks are changed.

mod context;
mod freezes;
pub(crate) mod http;
mod people;
mod state;
pub(crate) use context::TeamContext;
pub(crate) use freezes::Freezes;
pub(crate) use people::Presence;
pub(crate) use state::Team;
