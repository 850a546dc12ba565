//! YAML: text as trees with places ([`read`]), and values and trees written so that they read back the same
//! ([`quoted`], [`document`]).

mod scalars;
mod tree;
mod write;

pub use tree::{
    DEEPEST, Key, MOST_BYTES, MOST_ERRORS, MOST_NODES, MOST_VALUE_BYTES, MergeTag, Node, Place, Value,
    YamlError, YamlErrors, read, read_numbered,
};
pub use write::{document, quoted};
