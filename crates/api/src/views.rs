//! What the service answers, beyond the fleet's own records.

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
    /// What stands on the button that signs in by OpenID Connect, when that is set up.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub openid: Option<String>,
}

/// Who one is signed in as.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Me {
    /// The member.
    pub member: String,
    /// `session` or `token`.
    pub by: String,
    /// At sign-in: the session's key. With the cookie it goes into the header `Gubernum-Key`, so that a program on
    /// another port of this host, to which browsers send the cookie too, can do nothing with it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub key: Option<String>,
}

/// A ticket for one download by link.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Ticket {
    /// The address to fetch: good for a minute, once, with the session that asked for it.
    pub address: String,
}

/// A new API token: the only time that its text is shown.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct MadeToken {
    /// The token.
    #[serde(flatten)]
    pub token: Token,
    /// Its text, to be sent as `Authorization: Bearer …`.
    pub secret: String,
}

/// The outcome of testing a link.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct HostTest {
    /// Whether a supported engine answers.
    pub ok: bool,
    /// What it says of itself.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub engine: Option<EngineFacts>,
    /// What stands in the way.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub problem: Option<LinkProblem>,
}

/// The fleet at one revision.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct FleetSnapshot {
    /// Changes with every start of the service: revisions only compare within one.
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
    /// The container's name; absent when it is about the host.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub container: Option<String>,
    /// The stack's name, where it is about one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub stack: Option<String>,
    /// Why.
    pub reason: Reason,
    /// Who set it aside until when; such an item comes last.
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
    /// The record.
    pub container: Container,
    /// Its environment, secrets masked.
    pub environment: Vec<Variable>,
    /// The engine's whole record, secrets masked.
    #[schema(value_type = Object)]
    pub raw: serde_json::Value,
}

/// One step that made an image.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ImageStep {
    /// The command.
    pub command: String,
    /// When.
    #[schema(value_type = String, format = DateTime)]
    pub created: Timestamp,
    /// Bytes of its layer; zero for steps that only set something.
    pub size: u64,
    /// A remark.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub comment: String,
}

/// One image in full.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ImageDetail {
    /// Where it is and who uses it.
    pub image: gubernum_core::inventory::ImageRow,
    /// What made it, the newest first.
    pub steps: Vec<ImageStep>,
    /// The environment that it sets, secrets masked.
    pub environment: Vec<Variable>,
    /// What it runs: entry point and command.
    pub command: Vec<String>,
    /// The user that it runs as; empty for the default.
    pub user: String,
    /// The folder that it starts in.
    pub working_folder: String,
    /// The ports that it says it listens on, e.g. `8080/tcp`.
    pub ports: Vec<String>,
    /// The engine's whole record, secrets masked.
    #[schema(value_type = Object)]
    pub raw: serde_json::Value,
}

/// The processes of a container.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Processes {
    /// What the columns are, in the engine's words.
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

/// What an operation would do.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Preview {
    /// What was requested.
    pub kind: Kind,
    /// What happens to each target.
    pub targets: Vec<TargetPlan>,
    /// Stands for all of it: an operation that names it is refused when something would be different by then.
    pub digest: String,
}

/// What differs between a stack as it was applied last and what runs.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Drift {
    /// The revision that was applied last.
    pub revision: u64,
    /// What would have to be done to have that again; empty when nothing differs. An operation to `apply` that revision does it.
    pub targets: Vec<TargetPlan>,
}

/// A stack that runs, written down as a text.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Adoption {
    /// The text, with values that look like secrets hidden.
    pub text: String,
    /// The revision under which it is kept; absent when it was only asked for.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub revision: Option<u64>,
}

/// One line of a log on the wire.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Line {
    /// When the engine got it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(value_type = Option<String>, format = DateTime)]
    pub time: Option<Timestamp>,
    /// Where it came from.
    pub stream: Stream,
    /// Its text; bytes that are not UTF-8 are shown as U+FFFD.
    pub text: String,
    /// The very bytes in base64, when they are not UTF-8.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub bytes: Option<String>,
    /// The line goes on in the next one of its stream.
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
