//! Terminals and one-off commands in containers.

use gubernum_core::definition::Definition;
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// The shells that a container has.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Shells {
    /// Paths, best first.
    pub shells: Vec<String>,
}

/// Opens a terminal.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewTerminal {
    /// The container, such as `packhouse/frost-api`.
    pub container: String,
    /// The shell; the best available when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub shell: Option<String>,
    /// A command instead of a shell, with its arguments.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub command: Vec<String>,
    /// Attach to the main process instead of a shell or a command. Leaving does not stop it.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub attach: bool,
    /// The user; the container's own when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub user: Option<String>,
    /// Working directory; the container's own when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub folder: Option<String>,
    /// Terminal width in columns.
    #[serde(default = "usual_columns")]
    pub columns: u16,
    /// Terminal height in rows.
    #[serde(default = "usual_rows")]
    pub rows: u16,
}

fn usual_columns() -> u16 {
    80
}

fn usual_rows() -> u16 {
    24
}

/// An open terminal.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Terminal {
    /// The terminal's id.
    pub id: String,
    /// The container.
    pub container: String,
    /// The command.
    pub command: Vec<String>,
    /// Attached to the main process.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub attached: bool,
    /// When it was opened.
    #[schema(value_type = String, format = DateTime)]
    pub opened: Timestamp,
}

/// How a terminal ended.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct TerminalEnd {
    /// The shell's exit code, where it is known.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub exit_code: Option<i64>,
    /// The same in words.
    pub sentence: String,
}

/// What is told beside a terminal's text.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum TerminalMessage {
    /// It is shown in another size: columns and rows.
    Resize((u16, u16)),
    /// It is over.
    Ended(TerminalEnd),
}

/// Runs one command.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct RunCommand {
    /// The command with its arguments.
    pub command: Vec<String>,
    /// The user; the container's own when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub user: Option<String>,
    /// Working directory; the container's own when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub folder: Option<String>,
    /// Additional variables as `NAME=value`.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub environment: Vec<String>,
    /// Time limit in seconds, after which the command is detached; 300 when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub limit_seconds: Option<u32>,
}

/// A piece of a command's output, or its end.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize, ToSchema)]
pub struct CommandLine {
    /// From standard error.
    #[serde(default)]
    pub stderr: bool,
    /// The output.
    #[serde(default)]
    pub text: String,
    /// The end: the rest of this line tells the outcome.
    #[serde(default)]
    pub ended: bool,
    /// Its exit code.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub exit_code: Option<i64>,
    /// A problem besides the exit code.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub problem: Option<String>,
    /// Progress before the command runs, such as pulling the image.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub note: Option<String>,
}

/// Runs one command in a new container that is removed afterwards.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewOneOff {
    /// The host.
    pub host: String,
    /// The container's settings: at least image and command. The service names the container.
    pub definition: Definition,
    /// Time limit in seconds; 300 when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub limit_seconds: Option<u32>,
}
