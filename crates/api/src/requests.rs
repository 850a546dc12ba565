//! Request bodies.

use gubernum_core::plan::Kind;
pub use gubernum_core::plan::request::{
    ApplyRequest, ConnectRequest, CreateNetworkRequest, CreateVolumeRequest, DeployRequest,
    DisconnectRequest, EditRequest, KillRequest, MoveKind, MoveRequest, OnFailure, PullRequest, PushRequest,
    RemoveImageRequest, RemoveRequest, RemoveStackRequest, RemoveVolumeRequest, Request, RestartRequest,
    RollbackRequest, RunRequest, StartRequest, StopRequest, TagRequest, TidyRequest, UpdateRequest,
};
use gubernum_core::rights::Bound;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Claims a new service: creates the first member.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Claim {
    /// The claim code, printed by the service at its start.
    pub code: String,
    /// The new member's name.
    pub member: String,
    /// The new member's password.
    pub password: String,
}

/// Signs in.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct SignIn {
    /// The member's name.
    pub member: String,
    /// The password.
    pub password: String,
    /// A code of the member's second factor, or a recovery code.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub code: Option<String>,
}

/// Creates an API token for the caller.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewToken {
    /// What it is for.
    pub name: String,
    /// Days until it expires; never when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub expires_in_days: Option<u32>,
    /// Restrictions; all of the member's rights when absent. A token never has more rights than its member.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub bounds: Option<Vec<Bound>>,
    /// Client addresses and networks it is accepted from, such as `192.0.2.7` or `192.0.2.0/24`; any when empty.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub networks: Vec<String>,
}

/// Certificates and key of a mutual TLS link.
#[derive(Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct TlsFiles {
    /// CA certificate of the engine, in PEM.
    pub ca: String,
    /// Client certificate, in PEM.
    pub certificate: String,
    /// Client key, in PEM. Sealed at rest and never shown.
    pub key: String,
}

impl std::fmt::Debug for TlsFiles {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("TlsFiles(…)")
    }
}

/// Adds a host.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewHost {
    /// The host's name in the fleet.
    pub name: String,
    /// The engine's address: `unix:///path` or `tcp://host:port`.
    pub address: String,
    /// Certificates and key, for `tcp://`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub tls: Option<TlsFiles>,
    /// Address for published ports.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ports_address: Option<String>,
    /// Host groups; grants can be scoped to a group.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub groups: Vec<String>,
}

/// Changes a host's settings.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct SetHost {
    /// Address for published ports; absent or empty for none.
    #[serde(default)]
    pub ports_address: Option<String>,
    /// Host groups; unchanged when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub groups: Option<Vec<String>>,
}

/// Tests an address without adding it, or the link of an existing host.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct TestHost {
    /// An existing host; then nothing else is given.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub name: Option<String>,
    /// An address.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub address: Option<String>,
    /// Certificates and key, for `tcp://`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub tls: Option<TlsFiles>,
}

/// Requests a change or its preview.
#[derive(Debug, Clone, PartialEq, Serialize, ToSchema)]
pub struct NewOperation {
    /// The kind of change and its settings.
    #[serde(flatten)]
    pub request: Request,
    /// The targets, such as `packhouse/frost-api` or `*/frost-*`. For `deploy` the new container as `host/name`; for
    /// `pull`, `push`, `tag` and `apply` hosts; otherwise `host/` and the object's name. None for `tidy`.
    pub targets: Vec<String>,
    /// The digest of the preview; the operation is refused if its effects have changed since.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub digest: Option<String>,
    /// Seconds to queue behind another operation that changes the same target, at most 3600. The plan is made again
    /// afterwards, and `digest` is ignored.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub wait_seconds: Option<u32>,
}

/// A body that cannot be taken.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum BodyError {
    /// It cannot be read.
    #[error("{sentence}")]
    Malformed {
        /// The place, in the words of `serde_path_to_error`, e.g. `targets[1]`; `.` or empty for the whole.
        path: String,
        /// What is wrong.
        sentence: String,
    },
    /// A setting of other kinds of change.
    #[error("'{setting}' does not go with '{kind}', only with {}; leave it out", words(.others))]
    Misplaced {
        /// The setting.
        setting: String,
        /// The kind that was requested.
        kind: Kind,
        /// The kinds that have it.
        others: Vec<Kind>,
    },
}

fn words(kinds: &[Kind]) -> String {
    kinds.iter().map(|kind| format!("'{kind}'")).collect::<Vec<_>>().join(", ")
}

impl NewOperation {
    /// A request with its targets, without a preview.
    pub fn new(request: Request, targets: Vec<String>) -> Self {
        Self { request, targets, digest: None, wait_seconds: None }
    }

    /// Reads the JSON of a body. The members may come in any order; one that does not go with the kind is refused, unless
    /// it says nothing (`null`, `false`, or empty): clients of the first releases sent some beside every kind.
    ///
    /// ```
    /// use gubernum_api::requests::NewOperation;
    /// let stop = br#"{"grace_seconds": 5, "kind": "stop", "targets": ["packhouse/frost-api"]}"#;
    /// assert_eq!(NewOperation::read(stop).unwrap().targets, ["packhouse/frost-api"]);
    /// let odd = br#"{"kind": "stop", "targets": [], "signal": "SIGHUP"}"#;
    /// let error = NewOperation::read(odd).unwrap_err().to_string();
    /// assert_eq!(error, "'signal' does not go with 'stop', only with 'kill'; leave it out");
    /// ```
    ///
    /// # Errors
    /// When it is no JSON, or a member is missing, unknown, or of another type.
    pub fn read(body: &[u8]) -> Result<Self, BodyError> {
        /// What is beside every kind.
        #[derive(Deserialize)]
        struct Envelope {
            kind: Kind,
            targets: Vec<String>,
            #[serde(default)]
            digest: Option<String>,
            #[serde(default)]
            wait_seconds: Option<u32>,
        }
        let members: serde_json::Map<String, serde_json::Value> =
            serde_json::from_slice(body).map_err(|e| BodyError::malformed("", &e))?;
        let Envelope { kind, targets, digest, wait_seconds } =
            tracked(body, |members| Envelope::deserialize(members))?;
        let request = tracked(body, |settings| Request::read_settings(kind, settings))?;
        let understood = serde_json::to_value(&request).unwrap_or_default();
        let is_envelope = |name: &str| matches!(name, "kind" | "targets" | "digest" | "wait_seconds");
        let stray = members.iter().find(|(name, value)| {
            !is_envelope(name) && !says_nothing(value) && understood.get(name).is_none()
        });
        match stray {
            Some((name, value)) => Err(stray_member(kind, name, value)),
            None => Ok(Self { request, targets, digest, wait_seconds }),
        }
    }
}

impl BodyError {
    fn malformed(path: &str, error: &serde_json::Error) -> Self {
        Self::Malformed { path: path.to_owned(), sentence: error.to_string() }
    }
}

/// A member that the kind does not know: of another kind, or of none.
fn stray_member(kind: Kind, name: &str, value: &serde_json::Value) -> BodyError {
    // What no kind can do without, so that each is read whole.
    let mut settings = serde_json::json!({
        "definition": {"image": "a"}, "image": "a", "new_name": "a", "join": {"name": "a"}, "pieces": [], "stack": "a", "to": "a",
    });
    settings[name] = value.clone();
    let takes = |other: &Kind| {
        let read = Request::read_settings(*other, settings.clone()).ok();
        read.and_then(|request| serde_json::to_value(request).ok()?.get(name).cloned()).is_some()
    };
    let others: Vec<Kind> = Kind::ALL.iter().copied().filter(takes).collect();
    if others.is_empty() {
        return BodyError::Malformed {
            path: name.to_owned(),
            sentence: format!("unknown field '{name}'; leave it out"),
        };
    }
    BodyError::Misplaced { setting: name.to_owned(), kind, others }
}

fn says_nothing(value: &serde_json::Value) -> bool {
    use serde_json::Value;
    match value {
        Value::Null | Value::Bool(false) => true,
        Value::Array(list) => list.is_empty(),
        Value::Object(members) => members.is_empty(),
        _ => false,
    }
}

/// A JSON deserializer that follows its place.
type Tracked<'t, 'b> = serde_path_to_error::Deserializer<
    't,
    't,
    &'t mut serde_json::Deserializer<serde_json::de::SliceRead<'b>>,
>;

fn tracked<'b, T>(
    body: &'b [u8],
    read: impl for<'t> FnOnce(Tracked<'t, 'b>) -> Result<T, serde_json::Error>,
) -> Result<T, BodyError> {
    let mut json = serde_json::Deserializer::from_slice(body);
    let mut track = serde_path_to_error::Track::new();
    let outcome = read(serde_path_to_error::Deserializer::new(&mut json, &mut track));
    outcome.map_err(|error| BodyError::malformed(&track.path().to_string(), &error))
}

/// Reveals the value of a masked variable.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Reveal {
    /// The variable's name.
    pub variable: String,
}

/// Requests a ticket for one download by link.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewTicket {
    /// The path and query of the link.
    pub path: String,
}
