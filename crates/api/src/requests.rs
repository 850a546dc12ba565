//! What clients send.

use gubernum_core::definition::{Definition, JoinedNetwork, PullPolicy};
use gubernum_core::plan::{Kind, NetworkWish, Request, Rolling, TidyPiece, VolumeWish};
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
    pub public_address: Option<String>,
}

/// Changes settings of a host.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct SetHost {
    /// The name or address at which people reach what it publishes; absent or empty for none.
    #[serde(default)]
    pub public_address: Option<String>,
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
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewOperation {
    /// What to do.
    pub kind: Kind,
    /// What it is done to, e.g. `packhouse/frost-api` or `*/frost-*`. For `deploy` the container to be made as
    /// `host/name`; for `pull`, `push` and `tag` hosts; for the others `host/` and the thing's name. None for `tidy`.
    pub targets: Vec<String>,
    /// The digest of the preview that was looked at: when it would be another now, the operation is refused.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub digest: Option<String>,
    /// For `stop`, `restart`, and when a container is replaced: seconds between asking and forcing. The container's
    /// own setting (usually 10) when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub grace_seconds: Option<u32>,
    /// For `kill`: the signal, e.g. `SIGHUP`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub signal: Option<String>,
    /// For `remove`: end it first if it runs. For `remove-image`: even when it has several tags or ended containers use
    /// it. For `disconnect`: even when the container does not answer.
    #[serde(default)]
    pub force: bool,
    /// For `remove`: take its anonymous volumes away too.
    #[serde(default)]
    pub volumes: bool,
    /// For `deploy` and `edit`: what the container is to be.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub definition: Option<Box<Definition>>,
    /// For `deploy`: the container whose hidden values are meant by hidden ones of the definition.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub from: Option<String>,
    /// For `update`: another image or tag. For `pull`, `push` and `tag`: the image.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub image: Option<String>,
    /// For `pull` and `update`: when it is fetched; `always` when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub policy: Option<PullPolicy>,
    /// For `pull`: the platform, e.g. `linux/arm64`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub platform: Option<String>,
    /// For `tag`: the new name.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub new_name: Option<String>,
    /// For `remove-image`: leave untagged parents where they are.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub keep_parents: bool,
    /// For `rollback`: which earlier state; the last when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub earlier: Option<u64>,
    /// When a container is made or replaced: seconds that it must stay up, when it has no health check; 10 when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub watch_seconds: Option<u32>,
    /// One after another, with a wait for health between.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub rolling: Option<Rolling>,
    /// For `make-volume`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub volume: Option<VolumeWish>,
    /// For `make-network`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub network: Option<NetworkWish>,
    /// For `connect` and `disconnect`: the network, with aliases and addresses.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub join: Option<JoinedNetwork>,
    /// For `tidy`: what to take away.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub pieces: Vec<TidyPiece>,
}

impl NewOperation {
    /// The request without its targets.
    pub fn request(&self) -> Request {
        Request {
            kind: self.kind,
            grace_seconds: self.grace_seconds,
            signal: self.signal.clone(),
            force: self.force,
            volumes: self.volumes,
            definition: self.definition.clone(),
            from: self.from.clone(),
            image: self.image.clone(),
            policy: self.policy,
            platform: self.platform.clone(),
            new_name: self.new_name.clone(),
            keep_parents: self.keep_parents,
            earlier: self.earlier,
            watch_seconds: self.watch_seconds,
            rolling: self.rolling,
            volume: self.volume.clone(),
            network: self.network.clone(),
            join: self.join.clone(),
            pieces: self.pieces.clone(),
        }
    }

    /// A request of this kind with every setting at its default.
    pub fn new(kind: Kind, targets: Vec<String>) -> Self {
        Self::of(Request::of(kind), targets)
    }

    /// A request with its targets.
    pub fn of(request: Request, targets: Vec<String>) -> Self {
        Self {
            kind: request.kind,
            targets,
            digest: None,
            grace_seconds: request.grace_seconds,
            signal: request.signal,
            force: request.force,
            volumes: request.volumes,
            definition: request.definition,
            from: request.from,
            image: request.image,
            policy: request.policy,
            platform: request.platform,
            new_name: request.new_name,
            keep_parents: request.keep_parents,
            earlier: request.earlier,
            watch_seconds: request.watch_seconds,
            rolling: request.rolling,
            volume: request.volume,
            network: request.network,
            join: request.join,
            pieces: request.pieces,
        }
    }
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
