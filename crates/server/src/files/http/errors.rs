//! Refusals of this capability as problem details.

use crate::files::FileError;
use crate::web::ApiError;

impl From<FileError> for ApiError {
    fn from(error: FileError) -> Self {
        let sentence = error.to_string();
        match error {
            FileError::Path(_) => Self::invalid("?path", sentence),
            FileError::Missing => Self::not_found(sentence),
            FileError::NotAFile => Self::new("not-a-file", "Not a file", 409, sentence),
            FileError::NotAFolder => Self::new("not-a-folder", "Not a folder", 409, sentence),
            FileError::Damaged(_) => Self::new("engine-refused", "The engine refused", 502, sentence),
            FileError::Engine(error) => error.into(),
        }
    }
}
