//! YAML: texts as trees with places ([`read`]), and both written so that they are read back as the same
//! ([`quoted`], [`document`]).

mod scalars;
mod tree;
mod write;

pub use tree::{
    DEEPEST, Key, MOST_BYTES, MOST_ERRORS, MOST_NODES, MOST_VALUE_BYTES, MergeTag, Node, Place, Value,
    YamlError, YamlErrors, read, read_numbered,
};
pub use write::{document, quoted};
