//! Images: the registry client, checks for newer images and for digests, builds and archives.

mod build_lines;
mod context;
pub(crate) mod digest_checks;
mod error;
pub(crate) mod http;
pub mod registry;
pub(crate) mod update_checks;
pub(crate) use build_lines::BuildLines;
pub(crate) use context::{ImagesContext, start};
pub(crate) use digest_checks::{DigestChecks, LATELY as DIGEST_CHECK_HOLDS};
pub(crate) use error::CheckError;
pub(crate) use registry::{Registries, RegistryError};
