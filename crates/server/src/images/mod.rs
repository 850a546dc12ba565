//! Images: the registry client, checks for newer images and for digests, builds and archives.

pub(crate) mod digest_checks;
pub(crate) mod http;
pub mod registry;
pub(crate) mod update_checks;
pub(crate) use registry::{Registries, RegistryError};
