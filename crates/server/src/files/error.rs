//! Why a file cannot be read or written. Refusals of archives are in `unpacking`.

use gubernum_engine::EngineError;

/// A file or folder that is not given.
#[derive(Debug, thiserror::Error)]
pub(crate) enum FileError {
    /// The path is invalid.
    #[error("{0}")]
    Path(&'static str),
    /// Nothing is there.
    #[error("no such file or folder")]
    Missing,
    /// A file was wanted.
    #[error("it is not a file; download a folder as an archive")]
    NotAFile,
    /// A folder was wanted.
    #[error("it is a file, not a folder")]
    NotAFolder,
    /// The engine sent no archive, or broke it off.
    #[error("the file cannot be read: {0}")]
    Damaged(std::io::Error),
    /// The engine.
    #[error(transparent)]
    Engine(#[from] EngineError),
}
