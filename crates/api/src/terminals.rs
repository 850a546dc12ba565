//! Terminals and one-off commands in containers.

use gubernum_core::definition::Definition;
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// The shells that a container has.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Shells {
    /// Their paths, the most comfortable first.
    pub shells: Vec<String>,
}

/// Opens a terminal.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewTerminal {
    /// The container, e.g. `packhouse/frost-api`.
    pub container: String,
    /// The shell; the most comfortable that is there when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub shell: Option<String>,
    /// A command instead of a shell, with its arguments.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub command: Vec<String>,
    /// No shell and no command: join the container's own process. Leaving does not end it.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub attach: bool,
    /// As whom; the container's own user when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub user: Option<String>,
    /// Where it begins; the container's own folder when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub folder: Option<String>,
    /// How wide it is shown.
    #[serde(default = "usual_columns")]
    pub columns: u16,
    /// How tall it is shown.
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
    /// Its id, under which it is held.
    pub id: String,
    /// The container.
    pub container: String,
    /// What runs in it.
    pub command: Vec<String>,
    /// It is joined to the container's own process.
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
    /// As whom; the container's own user when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub user: Option<String>,
    /// Where it begins; the container's own folder when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub folder: Option<String>,
    /// `NAME=value`, beside the container's own.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub environment: Vec<String>,
    /// Time limit in seconds, after which the command is detached; 300 when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub limit_seconds: Option<u32>,
}

/// A piece of what a command says, or its end.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize, ToSchema)]
pub struct CommandLine {
    /// It came on standard error.
    #[serde(default)]
    pub stderr: bool,
    /// The piece.
    #[serde(default)]
    pub text: String,
    /// It is over; the rest of this line says how.
    #[serde(default)]
    pub ended: bool,
    /// Its exit code.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub exit_code: Option<i64>,
    /// What went wrong beside it.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub problem: Option<String>,
    /// What is done before it runs, such as fetching its image.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub note: Option<String>,
}

/// Runs one command in a container that is made for it and removed afterwards.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewOneOff {
    /// On which host.
    pub host: String,
    /// What the container is: its image and command at least. Its name is given by the service.
    pub definition: Definition,
    /// After so many seconds it is ended; 300 when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub limit_seconds: Option<u32>,
}
