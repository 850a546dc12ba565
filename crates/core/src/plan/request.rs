//! Requests for a change, without their targets: the kinds, their settings, and which goes with which.

use std::collections::BTreeMap;
use std::fmt;

use serde::{Deserialize, Serialize};

use super::{ObjectKind, signal_name};
use crate::definition::{Definition, JoinedNetwork, PullPolicy};
use crate::image_name::ImageName;

/// The longest grace period that may be asked for, in seconds.
pub const MAX_GRACE_SECONDS: u32 = 3600;
/// The longest time that a new container may be watched, in seconds.
pub const MAX_WATCH_SECONDS: u32 = 3600;
/// The most containers at once of a rolling change.
pub const MAX_AT_ONCE: u32 = 1000;
/// The most pieces of one tidying.
pub const MAX_PIECES: usize = 20_000;

/// The kinds of change.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub enum Kind {
    /// Start what does not run.
    Start,
    /// End the process, first asking, after the grace period by force.
    Stop,
    /// Stop, then start.
    Restart,
    /// Send a signal, SIGKILL unless told otherwise.
    Kill,
    /// Freeze the processes.
    Pause,
    /// Let frozen processes go on.
    Resume,
    /// Take the container away.
    Remove,
    /// Make a container and start it.
    Deploy,
    /// Change the settings of a container.
    Edit,
    /// Put a container on a newer image.
    Update,
    /// Put a container back to what it was before an edit or an update.
    Rollback,
    /// Fetch an image.
    Pull,
    /// Send an image to its registry.
    Push,
    /// Give an image another name.
    Tag,
    /// Take an image away.
    RemoveImage,
    /// Make a volume.
    MakeVolume,
    /// Take a volume and its data away.
    RemoveVolume,
    /// Make a network.
    MakeNetwork,
    /// Take a network away.
    RemoveNetwork,
    /// Put a container into a network.
    Connect,
    /// Take a container out of a network.
    Disconnect,
    /// Take unused things away.
    Tidy,
}

impl Kind {
    /// All of them.
    pub const ALL: [Self; 22] = [
        Self::Start,
        Self::Stop,
        Self::Restart,
        Self::Kill,
        Self::Pause,
        Self::Resume,
        Self::Remove,
        Self::Deploy,
        Self::Edit,
        Self::Update,
        Self::Rollback,
        Self::Pull,
        Self::Push,
        Self::Tag,
        Self::RemoveImage,
        Self::MakeVolume,
        Self::RemoveVolume,
        Self::MakeNetwork,
        Self::RemoveNetwork,
        Self::Connect,
        Self::Disconnect,
        Self::Tidy,
    ];

    /// The word used in the API, the client and the audit log.
    pub fn word(self) -> &'static str {
        match self {
            Self::Start => "start",
            Self::Stop => "stop",
            Self::Restart => "restart",
            Self::Kill => "kill",
            Self::Pause => "pause",
            Self::Resume => "resume",
            Self::Remove => "remove",
            Self::Deploy => "deploy",
            Self::Edit => "edit",
            Self::Update => "update",
            Self::Rollback => "rollback",
            Self::Pull => "pull",
            Self::Push => "push",
            Self::Tag => "tag",
            Self::RemoveImage => "remove-image",
            Self::MakeVolume => "make-volume",
            Self::RemoveVolume => "remove-volume",
            Self::MakeNetwork => "make-network",
            Self::RemoveNetwork => "remove-network",
            Self::Connect => "connect",
            Self::Disconnect => "disconnect",
            Self::Tidy => "tidy",
        }
    }

    /// What its targets are, where that is one kind of thing.
    pub fn object(self) -> ObjectKind {
        match self {
            Self::Pull | Self::Push | Self::Tag | Self::RemoveImage => ObjectKind::Image,
            Self::MakeVolume | Self::RemoveVolume => ObjectKind::Volume,
            Self::MakeNetwork | Self::RemoveNetwork => ObjectKind::Network,
            _ => ObjectKind::Container,
        }
    }

    /// Whether its targets are containers that are there already.
    pub fn is_of_containers(self) -> bool {
        !matches!(self, Self::Deploy | Self::Tidy) && self.object() == ObjectKind::Container
    }

    /// Whether a container is taken down or replaced by it, so that an operation may go one after another.
    pub fn can_roll(self) -> bool {
        matches!(
            self,
            Self::Start
                | Self::Stop
                | Self::Restart
                | Self::Edit
                | Self::Update
                | Self::Rollback
                | Self::Deploy
        )
    }
}

impl std::str::FromStr for Kind {
    type Err = ();

    fn from_str(word: &str) -> Result<Self, ()> {
        Self::ALL.into_iter().find(|k| k.word() == word).ok_or(())
    }
}

impl fmt::Display for Kind {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.word())
    }
}

/// One after another instead of all together.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct Rolling {
    /// How many at once, over all hosts.
    #[serde(default = "one")]
    pub at_once: u32,
    /// Continue with the rest after one failed.
    #[serde(default)]
    pub go_on: bool,
}

fn one() -> u32 {
    1
}

/// A volume to be made.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct VolumeWish {
    /// Its driver; `local` when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub driver: Option<String>,
    /// The driver's options.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    #[cfg_attr(feature = "schema", schema(value_type = std::collections::HashMap<String, String>))]
    pub options: BTreeMap<String, String>,
    /// Labels.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    #[cfg_attr(feature = "schema", schema(value_type = std::collections::HashMap<String, String>))]
    pub labels: BTreeMap<String, String>,
}

/// A network to be made.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct NetworkWish {
    /// Its driver; `bridge` when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub driver: Option<String>,
    /// Its addresses in CIDR form; of the engine's choice when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub subnet: Option<String>,
    /// Its gateway.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub gateway: Option<String>,
    /// No way out.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub internal: bool,
    /// It speaks IPv6.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub ipv6: bool,
    /// The driver's options.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    #[cfg_attr(feature = "schema", schema(value_type = std::collections::HashMap<String, String>))]
    pub options: BTreeMap<String, String>,
    /// Labels.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    #[cfg_attr(feature = "schema", schema(value_type = std::collections::HashMap<String, String>))]
    pub labels: BTreeMap<String, String>,
}

/// One thing to tidy away.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct TidyPiece {
    /// Its host.
    pub host: String,
    /// What it is.
    pub object: ObjectKind,
    /// Its id: a container's or network's id, an image's, a volume's name, `cache`.
    pub id: String,
}

/// A requested change without its targets. What is absent is at its default; what does not go with the kind is
/// refused.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Request {
    /// What to do.
    pub kind: Kind,
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

/// A request that makes no sense, with the field at fault.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{sentence}")]
pub struct RequestError {
    /// The field.
    pub field: &'static str,
    /// What is wrong and what to write instead.
    pub sentence: String,
}

fn wrong(field: &'static str, sentence: impl Into<String>) -> Result<(), RequestError> {
    Err(RequestError { field, sentence: sentence.into() })
}

impl Request {
    /// A request of this kind with every setting at its default.
    pub fn of(kind: Kind) -> Self {
        Self {
            kind,
            grace_seconds: None,
            signal: None,
            force: false,
            volumes: false,
            definition: None,
            from: None,
            image: None,
            policy: None,
            platform: None,
            new_name: None,
            keep_parents: false,
            earlier: None,
            watch_seconds: None,
            rolling: None,
            volume: None,
            network: None,
            join: None,
            pieces: Vec::new(),
        }
    }

    /// The same with what looks like a secret hidden, as everybody may see it.
    #[must_use]
    pub fn masked(&self) -> Self {
        let mut masked = self.clone();
        if let Some(definition) = &mut masked.definition {
            **definition = definition.masked();
        }
        masked
    }

    /// The kinds with which each given setting goes.
    fn placed(&self) -> [(&'static str, bool, &'static [Kind]); 16] {
        use Kind::*;
        const REPLACES: &[Kind] = &[Stop, Restart, Edit, Update, Rollback];
        const MAKES: &[Kind] = &[Deploy, Edit, Update, Rollback];
        [
            ("grace_seconds", self.grace_seconds.is_some(), REPLACES),
            ("signal", self.signal.is_some(), &[Kill]),
            ("force", self.force, &[Remove, RemoveImage, Disconnect, RemoveVolume]),
            ("volumes", self.volumes, &[Remove]),
            ("definition", self.definition.is_some(), &[Deploy, Edit]),
            ("from", self.from.is_some(), &[Deploy]),
            ("image", self.image.is_some(), &[Update, Pull, Push, Tag]),
            ("policy", self.policy.is_some(), &[Pull, Update]),
            ("platform", self.platform.is_some(), &[Pull]),
            ("new_name", self.new_name.is_some(), &[Tag]),
            ("keep_parents", self.keep_parents, &[RemoveImage]),
            ("earlier", self.earlier.is_some(), &[Rollback]),
            ("watch_seconds", self.watch_seconds.is_some(), MAKES),
            ("volume", self.volume.is_some(), &[MakeVolume]),
            ("network", self.network.is_some(), &[MakeNetwork]),
            ("pieces", !self.pieces.is_empty(), &[Tidy]),
        ]
    }

    /// Checks that the settings fit the kind and are within their limits.
    ///
    /// # Errors
    /// The first field at fault.
    pub fn check(&self) -> Result<(), RequestError> {
        for (field, given, kinds) in self.placed() {
            if given && !kinds.contains(&self.kind) {
                let words: Vec<String> = kinds.iter().map(|k| format!("`{k}`")).collect();
                let sentence = format!(
                    "`{field}` does not go with `{}`, only with {}; leave it out",
                    self.kind,
                    words.join(", ")
                );
                return wrong(field, sentence);
            }
        }
        if self.join.is_some() && !matches!(self.kind, Kind::Connect | Kind::Disconnect) {
            return wrong(
                "join",
                format!("`join` does not go with `{}`, only with `connect` and `disconnect`", self.kind),
            );
        }
        if let Some(grace) = self.grace_seconds.filter(|g| *g > MAX_GRACE_SECONDS) {
            return wrong(
                "grace_seconds",
                format!("`grace_seconds` is {grace}, the most is {MAX_GRACE_SECONDS} (an hour)"),
            );
        }
        if let Some(watch) = self.watch_seconds.filter(|w| *w > MAX_WATCH_SECONDS) {
            return wrong(
                "watch_seconds",
                format!("`watch_seconds` is {watch}, the most is {MAX_WATCH_SECONDS} (an hour)"),
            );
        }
        if let Some(signal) = self.signal.as_deref().filter(|s| signal_name(s).is_none()) {
            let sentence = format!(
                "`{}` is not a signal; write a name such as `SIGHUP` or a number from 1 to 64",
                crate::text::shown(signal, 40)
            );
            return wrong("signal", sentence);
        }
        if let Some(rolling) = self.rolling {
            if !self.kind.can_roll() {
                return wrong("rolling", format!("`{}` cannot be done rolling", self.kind));
            }
            if !(1..=MAX_AT_ONCE).contains(&rolling.at_once) {
                return wrong("rolling", format!("`at_once` is from 1 to {MAX_AT_ONCE}"));
            }
        }
        for (field, name) in [("image", &self.image), ("new_name", &self.new_name)] {
            if let Some(Err(error)) = name.as_deref().map(str::parse::<ImageName>) {
                return wrong(field, error.to_string());
            }
        }
        self.complete()
    }

    fn complete(&self) -> Result<(), RequestError> {
        match self.kind {
            Kind::Deploy | Kind::Edit if self.definition.is_none() => wrong(
                "definition",
                format!("`{}` needs a `definition`: what the container is to be", self.kind),
            ),
            Kind::Pull | Kind::Push | Kind::Tag if self.image.is_none() => {
                wrong("image", format!("`{}` needs an `image`", self.kind))
            }
            Kind::Tag if self.new_name.is_none() => wrong("new_name", "`tag` needs the `new_name`"),
            Kind::Connect | Kind::Disconnect if self.join.is_none() => {
                wrong("join", format!("`{}` needs the network: `join` with its `name`", self.kind))
            }
            Kind::Tidy if self.pieces.is_empty() => {
                wrong("pieces", "`tidy` needs `pieces`: what is to be taken away, as the suggestions list it")
            }
            Kind::Tidy if self.pieces.len() > MAX_PIECES => wrong(
                "pieces",
                format!("{} pieces are too many, the most is {MAX_PIECES}", self.pieces.len()),
            ),
            _ => Ok(()),
        }
    }
}

#[cfg(test)]
#[path = "request_tests.rs"]
mod tests;
