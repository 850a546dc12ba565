//! Images: the registry client, checks for newer images and for digests, builds and archives.

pub(crate) mod digest_checks;
mod error;
pub(crate) mod http;
pub mod registry;
pub(crate) mod update_checks;
pub(crate) use digest_checks::{Backing, LATELY as DIGEST_CHECK_HOLDS, look as check_digests};
pub(crate) use error::CheckError;
pub(crate) use registry::{Registries, RegistryError};
pub(crate) use update_checks::{checks as known_checks, look as check_updates};
