//! Files in containers and volumes.

use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// What something in a folder is.
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

/// Something in a folder.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct FileEntry {
    /// Its name.
    pub name: String,
    /// What it is.
    pub kind: FileKind,
    /// Its bytes.
    pub size: u64,
    /// When it was written.
    #[schema(value_type = String, format = DateTime)]
    pub written: Timestamp,
    /// Its permissions in octal digits.
    pub mode: String,
    /// Its owner's number.
    pub user: u64,
    /// Its group's number.
    pub group: u64,
    /// Where it leads, for a link.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub target: Option<String>,
}

/// What stands in a folder: folders first, then by name.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Folder {
    /// Its path.
    pub path: String,
    /// What is in it.
    pub entries: Vec<FileEntry>,
    /// Why not everything is there.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub incomplete: Option<String>,
}

/// What has come of an interrupted upload.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Received {
    /// So many bytes; it is resumed from there.
    pub received: u64,
}

/// What the engine said of imported images.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Imported {
    /// In its own words.
    pub said: String,
}

/// A piece of what a builder says, or its end.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize, ToSchema)]
pub struct BuildLine {
    /// The piece.
    #[serde(default)]
    pub text: String,
    /// It is over; the rest of this line says how.
    #[serde(default)]
    pub ended: bool,
    /// The image that was built.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub image: Option<String>,
    /// Why none was.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub problem: Option<String>,
}

/// A change of something in a container's files.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(tag = "change", rename_all = "kebab-case", deny_unknown_fields)]
pub enum FileChange {
    /// Makes a folder; those above it must be there.
    MakeFolder {
        /// Its path.
        path: String,
    },
    /// Gives something another name or place.
    Rename {
        /// What.
        path: String,
        /// Its new path; nothing may be there.
        to: String,
    },
    /// Takes something away, a folder with all that is in it.
    Delete {
        /// What.
        path: String,
    },
    /// Sets permissions and owner.
    SetMode {
        /// Of what.
        path: String,
        /// Permissions in octal digits.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        mode: Option<String>,
        /// The owner's number.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        user: Option<u64>,
        /// The group's number.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        group: Option<u64>,
    },
}
