//! What clients send.

use gubernum_core::plan::Kind;
pub use gubernum_core::plan::request::{
    ApplyRequest, ConnectRequest, DeployRequest, DisconnectRequest, EditRequest, KillRequest,
    MakeNetworkRequest, MakeVolumeRequest, Movable, MoveRequest, OnFailure, PullRequest, PushRequest,
    RemoveImageRequest, RemoveRequest, RemoveStackRequest, RemoveVolumeRequest, Request, RestartRequest,
    RollbackRequest, RunRequest, StartRequest, StopRequest, TagRequest, TidyRequest, UpdateRequest,
};
use gubernum_core::rights::Bound;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Claims a fresh service: makes its first member.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Claim {
    /// The code printed where the service was started.
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

/// Makes an API token for the member who asks.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewToken {
    /// What it is for.
    pub name: String,
    /// Days until it ends; it does not end by itself when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub expires_in_days: Option<u32>,
    /// What it is cut down to; it may what its member may when absent. It never may more than its member.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub bounds: Option<Vec<Bound>>,
    /// The addresses and networks that it is good from, such as `192.0.2.7` or `192.0.2.0/24`; from anywhere when empty.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub networks: Vec<String>,
}

/// Certificates and key of a mutual TLS link.
#[derive(Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct TlsFiles {
    /// The authority that signed the engine's certificate, as PEM.
    pub ca: String,
    /// Our certificate, as PEM.
    pub certificate: String,
    /// The key of our certificate, as PEM. It is sealed at rest and never shown again.
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
    /// The name to give it.
    pub name: String,
    /// Its engine's address: `unix:///path` or `tcp://host:port`.
    pub address: String,
    /// For `tcp://`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub tls: Option<TlsFiles>,
    /// The name or address at which people reach what it publishes.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ports_address: Option<String>,
    /// The groups that it is in: grants can be on a group.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub groups: Vec<String>,
}

/// Changes settings of a host.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct SetHost {
    /// The name or address at which people reach what it publishes; absent or empty for none.
    #[serde(default)]
    pub ports_address: Option<String>,
    /// The groups that it is in; as they are when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub groups: Option<Vec<String>>,
}

/// Tries an address without adding it, or the link of a host that is in the fleet.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct TestHost {
    /// A host of the fleet; then nothing else is given.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub name: Option<String>,
    /// An address.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub address: Option<String>,
    /// For `tcp://`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub tls: Option<TlsFiles>,
}

/// Asks for a change, or for its preview.
#[derive(Debug, Clone, PartialEq, Serialize, ToSchema)]
pub struct NewOperation {
    /// What to do, with the settings that go with it.
    #[serde(flatten)]
    pub request: Request,
    /// What it is done to, e.g. `packhouse/frost-api` or `*/frost-*`. For `deploy` the container to be made as
    /// `host/name`; for `pull`, `push`, `tag` and `apply` hosts; for the others `host/` and the thing's name. None for `tidy`.
    pub targets: Vec<String>,
    /// The digest of the preview that was looked at: when it would be another now, the operation is refused.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub digest: Option<String>,
    /// Seconds to wait in line while another operation is at work on the same; at most 3600. The plan is made again when the turn
    /// comes, and `digest` is not looked at.
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
        /// What stands beside every kind.
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

/// Asks to see the value of a masked variable.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Reveal {
    /// The variable's name.
    pub variable: String,
}

/// Asks for a ticket for one download by link.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewTicket {
    /// The path with its query, as it stands in the link.
    pub path: String,
}
