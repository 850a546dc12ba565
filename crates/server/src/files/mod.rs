//! Files of containers and volumes: archives checked entry by entry, single files, resumable uploads. Names and paths
//! are checked by `gubernum_core`.

mod context;
mod error;
pub(crate) mod http;
pub(crate) mod single_file;
pub(crate) mod streams;
pub(crate) mod unpacking;
mod uploads;
pub(crate) use context::{FilesContext, start};
pub(crate) use error::FileError;
pub(crate) use streams::{pieces, reader};
pub use unpacking::judged as judged_archive;
pub(crate) use uploads::Uploads;
