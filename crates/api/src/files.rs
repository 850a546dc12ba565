//! Files in containers and volumes.

use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// The type of an entry of a folder.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum FileKind {
    /// A file.
    File,
    /// A folder.
    Folder,
    /// A link.
    Link,
    /// A device, a pipe, a socket.
    Other,
}

/// An entry of a folder.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct FileEntry {
    /// Its name.
    pub name: String,
    /// Whether it was added, removed or is context.
    pub kind: FileKind,
    /// Size in bytes.
    pub size: u64,
    /// Modification time.
    #[schema(value_type = String, format = DateTime)]
    pub written: Timestamp,
    /// Permissions in octal digits.
    pub mode: String,
    /// The owner's user id.
    pub user: u64,
    /// The group id.
    pub group: u64,
    /// The target of a symbolic link.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub target: Option<String>,
}

/// The entries of a folder: folders first, then by name.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Folder {
    /// Its path.
    pub path: String,
    /// The entries.
    pub entries: Vec<FileEntry>,
    /// Why the listing is incomplete.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub incomplete: Option<String>,
}

/// The state of an interrupted upload.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Received {
    /// Bytes received; resume from there.
    pub received: u64,
}

/// The engine's answer to an import.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Imported {
    /// The engine's messages.
    pub said: String,
}

/// A piece of build output, or its end.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize, ToSchema)]
pub struct BuildLine {
    /// The output.
    #[serde(default)]
    pub text: String,
    /// The end: the rest of this line tells the outcome.
    #[serde(default)]
    pub ended: bool,
    /// The image that was built.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub image: Option<String>,
    /// Why the build failed.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub problem: Option<String>,
}

/// A change to a container's or volume's files.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(tag = "change", rename_all = "kebab-case", deny_unknown_fields)]
pub enum FileChange {
    /// Creates a folder; its parent must exist.
    #[serde(alias = "make-folder")]
    CreateFolder {
        /// Its path.
        path: String,
    },
    /// Renames or moves a file or folder.
    Rename {
        /// The path.
        path: String,
        /// The new path; it must not exist.
        to: String,
    },
    /// Removes a file, or a folder with its contents.
    Delete {
        /// The path.
        path: String,
    },
    /// Sets permissions and owner.
    SetMode {
        /// The path.
        path: String,
        /// Permissions in octal digits.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        mode: Option<String>,
        /// The owner's user id.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        user: Option<u64>,
        /// The group id.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        group: Option<u64>,
    },
}
