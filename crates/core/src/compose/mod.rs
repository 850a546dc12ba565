//! The Compose Specification: files of stacks, read with every error at its place.
//!
//! In this order: [`crate::yaml`] reads a text, [`interpolate`] fills its variables in, [`canonical`] checks it and brings it
//! into its long form, [`merge`] puts files together, and [`load`] does all of this for the files of a stack. [`schema`] says
//! what may appear where and what comes of it.

pub mod canonical;
pub mod convert;
pub mod dotenv;
mod extend;
mod include;
pub mod interpolate;
pub mod load;
pub mod merge;
pub mod model;
mod paths;
pub mod read;
pub mod report;
pub mod schema;
mod short;
pub mod template;
mod values;

pub use load::{FileError, Loaded, ReadPurpose, StackInput, load, missing_files};
pub use paths::joined;
