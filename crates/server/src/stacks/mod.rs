//! Definitions of containers as Compose text. The model and its rules are `gubernum_core`'s.

pub(crate) mod http;
