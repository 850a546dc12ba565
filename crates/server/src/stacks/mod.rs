//! Definitions of containers as Compose text. The model and its rules are `gubernum_core`'s.

mod context;
pub(crate) mod http;
pub(crate) use context::StacksContext;
