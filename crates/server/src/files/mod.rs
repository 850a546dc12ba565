//! Files of containers and volumes: archives looked through entry by entry, single files unwrapped from them, uploads that can be
//! resumed. Names and paths are judged by `gubernum_core`.

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
