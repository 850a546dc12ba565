//! The labels that mark containers, networks and volumes of a stack.
//!
//! Those that tools for the Compose Specification have in common are written and read, so that each finds the other's
//! stacks; what only Gubernum needs has a prefix of its own.

use serde::{Deserialize, Serialize};

/// What all labels begin with that the tools have in common.
pub const COMMON: &str = "com.docker.compose.";
/// The number of a container among those of its service.
pub const NUMBER: &str = "com.docker.compose.container-number";
/// Whether a container was run manually, beside those of its service.
pub const ONE_OFF: &str = "com.docker.compose.oneoff";
/// What a container's service needs, as `service:condition:restart`, with commas between.
pub const DEPENDS_ON: &str = "com.docker.compose.depends_on";
/// The name that a network has in its stack.
pub const NETWORK: &str = "com.docker.compose.network";
/// The name that a volume has in its stack.
pub const VOLUME: &str = "com.docker.compose.volume";
/// Gubernum's own: which files were put into a container, and what stands for their contents.
pub const FILES: &str = "gubernum.files";

/// Gubernum's own: settings that the text says and that some engines fill in by themselves where it says nothing, so that one
/// which is taken out of the text is noticed.
pub const SET: &str = "gubernum.set";

/// Gubernum's own: the commands that are run at moments of a container's life.
pub const HOOKS: &str = "gubernum.hooks";

/// What the label [`FILES`] says.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct FilesMark {
    /// Stands for the contents; another when one of them is another.
    pub mark: String,
    /// Where they are inside.
    pub paths: Vec<String>,
}

impl FilesMark {
    /// The label's value.
    pub fn text(&self) -> String {
        serde_json::to_string(self).unwrap_or_default()
    }

    /// Reads the label's value; nothing when somebody else wrote it.
    pub fn read(text: &str) -> Option<Self> {
        serde_json::from_str(text).ok()
    }
}
