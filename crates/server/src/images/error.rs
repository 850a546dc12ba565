//! Why checks of images failed. Errors of a registry are in `registry`.

use gubernum_store::StoreError;

/// A round of checks that was interrupted.
#[derive(Debug, thiserror::Error)]
pub(crate) enum CheckError {
    /// The records.
    #[error(transparent)]
    Store(#[from] StoreError),
    /// The fleet could not be gone through.
    #[error("checking the fleet was interrupted: {0}")]
    Join(#[from] tokio::task::JoinError),
}
