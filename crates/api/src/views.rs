//! Answers of the service beyond the fleet's own records.

use crate::team::{NotedObject, Snooze};
pub use gubernum_core::audit::AuditEntry;
use gubernum_core::container::{Container, Reason};
pub use gubernum_core::credential::{Session, Token};
use gubernum_core::host::{EngineFacts, Host, LinkProblem};
use gubernum_core::logs::{LogLine, Stream};
use gubernum_core::plan::{Kind, TargetPlan};
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// State of the service: whether it is unclaimed, and its version.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ServiceState {
    /// No member exists yet: `POST /api/v1/claim` makes the first.
    pub unclaimed: bool,
    /// The service's version.
    pub version: String,
    /// The label of the OpenID Connect sign-in button, if configured.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub openid: Option<String>,
}

/// The signed-in member.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Me {
    /// The member.
    pub member: String,
    /// `session` or `token`.
    pub by: String,
    /// At sign-in: the session key. Requests with the cookie send it in the `Gubernum-Key` header, so that a program
    /// on another port of this host, which receives the cookie too, cannot use it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub key: Option<String>,
}

/// A ticket for one download by link.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Ticket {
    /// The URL to fetch: valid once, for a minute, in the same session.
    pub address: String,
}

/// A new API token. Its secret is shown only here.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct CreatedToken {
    /// The token.
    #[serde(flatten)]
    pub token: Token,
    /// The secret, sent as `Authorization: Bearer …`.
    pub secret: String,
}

/// The outcome of testing a link.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct HostTest {
    /// Whether a supported engine answers.
    pub ok: bool,
    /// Engine information.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub engine: Option<EngineFacts>,
    /// What went wrong.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub problem: Option<LinkProblem>,
}

/// The fleet at one revision.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct FleetSnapshot {
    /// Changes with each start of the service; revisions are comparable within one epoch.
    pub epoch: String,
    /// The revision.
    pub revision: u64,
    /// All hosts.
    pub hosts: Vec<Host>,
    /// All containers.
    pub containers: Vec<Container>,
}

/// One line of the attention list.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct AttentionItem {
    /// The host.
    pub host: String,
    /// The container's name; absent when the item is about the host.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub container: Option<String>,
    /// The stack's name, for items about a stack.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub stack: Option<String>,
    /// The reason.
    pub reason: Reason,
    /// Who snoozed the item and until when; snoozed items come last.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub snoozed: Option<Snooze>,
}

impl AttentionItem {
    /// What it is on, as notes and snoozes name it.
    pub fn object(&self) -> NotedObject {
        match (&self.container, &self.stack) {
            (Some(name), _) => NotedObject::Container(self.host.clone(), name.clone()),
            (None, Some(stack)) => NotedObject::Stack(self.host.clone(), stack.clone()),
            (None, None) if self.host.is_empty() => NotedObject::Fleet,
            (None, None) => NotedObject::Host(self.host.clone()),
        }
    }
}

/// One environment variable.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Variable {
    /// Its name.
    pub name: String,
    /// Its value, or a mask.
    pub value: String,
    /// Whether the value is masked.
    pub masked: bool,
}

/// One container in full.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ContainerDetail {
    /// The container.
    pub container: Container,
    /// Environment variables, secrets masked.
    pub environment: Vec<Variable>,
    /// The engine's full inspect output, secrets masked.
    #[schema(value_type = Object)]
    pub raw: serde_json::Value,
}

/// One step of an image's build history.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ImageStep {
    /// The command.
    pub command: String,
    /// When.
    #[schema(value_type = String, format = DateTime)]
    pub created: Timestamp,
    /// Size of the layer in bytes; zero for metadata steps.
    pub size: u64,
    /// A comment.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub comment: String,
}

/// One image in full.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ImageDetail {
    /// The image with its hosts and users.
    pub image: gubernum_core::inventory::ImageRow,
    /// The build history, newest first.
    pub steps: Vec<ImageStep>,
    /// Environment variables it sets, secrets masked.
    pub environment: Vec<Variable>,
    /// Entrypoint and command.
    pub command: Vec<String>,
    /// The user; empty for the default.
    pub user: String,
    /// Working directory.
    pub working_folder: String,
    /// Exposed ports, such as `8080/tcp`.
    pub ports: Vec<String>,
    /// The engine's full inspect output, secrets masked.
    #[schema(value_type = Object)]
    pub raw: serde_json::Value,
}

/// The processes of a container.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Processes {
    /// Column names, from the engine.
    pub titles: Vec<String>,
    /// One row for each process.
    pub processes: Vec<Vec<String>>,
}

/// A file that differs from the image.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ChangedFile {
    /// Its path in the container.
    pub path: String,
    /// `changed`, `added` or `deleted`.
    pub change: String,
}

/// The effects of an operation.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Preview {
    /// The kind of change and its settings.
    pub kind: Kind,
    /// What happens to each target.
    pub targets: Vec<TargetPlan>,
    /// A digest of the preview: an operation that names it is refused if its effects have changed.
    pub digest: String,
}

/// Differences between a stack's newest revision and what runs.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Drift {
    /// The revision applied last.
    pub revision: u64,
    /// The changes that would restore it; empty without drift. An `apply` of that revision makes them.
    pub targets: Vec<TargetPlan>,
}

/// A running stack, written as a Compose file.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Adoption {
    /// The Compose file; values that look like secrets are masked.
    pub text: String,
    /// The revision it was saved as; absent in a preview.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub revision: Option<u64>,
}

/// One line of a log on the wire.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Line {
    /// The engine's timestamp.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(value_type = Option<String>, format = DateTime)]
    pub time: Option<Timestamp>,
    /// The output stream.
    pub stream: Stream,
    /// The text; invalid UTF-8 is shown as U+FFFD.
    pub text: String,
    /// The original bytes in base64, if they are not UTF-8.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub bytes: Option<String>,
    /// The line continues in the next one of its stream.
    #[serde(default, skip_serializing_if = "is_false")]
    pub continued: bool,
}

fn is_false(value: &bool) -> bool {
    !value
}

impl From<LogLine> for Line {
    fn from(line: LogLine) -> Self {
        use base64::Engine as _;
        let (text, bytes) = match String::from_utf8(line.bytes) {
            Ok(text) => (text, None),
            Err(e) => {
                let encoded = base64::engine::general_purpose::STANDARD.encode(e.as_bytes());
                (String::from_utf8_lossy(e.as_bytes()).into_owned(), Some(encoded))
            }
        };
        Self { time: line.time, stream: line.stream, text, bytes, continued: line.continued }
    }
}
