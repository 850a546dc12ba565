//! What containers use: sampled, handed to viewers, kept as history.

pub(crate) mod history;
pub(crate) mod http;
pub(crate) mod latest;
pub(crate) mod sampler;
pub(crate) use latest::Uses;
