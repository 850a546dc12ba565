//! Requests for a change, without their targets: one variant for each kind, with the settings that go with it.
//!
//! A new kind of change begins here with a variant; the planner and the executor do not compile until they know it. The
//! settings are in `settings`, the words of the kinds in `kind`.

mod apply;
mod kind;
mod moving;
mod settings;

use serde::{Deserialize, Deserializer, Serialize};
use strum::EnumDiscriminants;

use super::signal_name;
use crate::image_name::ImageName;
pub use apply::{ApplyRequest, OnFailure, RemoveStackRequest, RunRequest};
pub use moving::{MoveKind, MoveRequest};
pub use settings::*;

/// The longest grace period that may be asked for, in seconds.
pub const MAX_GRACE_SECONDS: u32 = 3600;
/// The longest time that a new container may be watched, in seconds.
pub const MAX_WATCH_SECONDS: u32 = 3600;
/// The most containers at once of a rolling change.
pub const MAX_AT_ONCE: u32 = 1000;
/// The most pieces of one tidying.
pub const MAX_PIECES: usize = 20_000;

/// A change without its targets. In JSON, `kind` names it, with its settings beside it.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, EnumDiscriminants)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(tag = "kind", rename_all = "kebab-case")]
#[strum_discriminants(
    name(Kind),
    doc = "The kinds of change.",
    derive(PartialOrd, Ord, Hash, Serialize, Deserialize),
    derive(strum::Display, strum::EnumString, strum::IntoStaticStr, strum::VariantArray),
    cfg_attr(feature = "schema", derive(utoipa::ToSchema)),
    serde(rename_all = "kebab-case"),
    strum(serialize_all = "kebab-case"),
    allow(missing_docs)
)]
pub enum Request {
    /// Start stopped containers.
    Start(StartRequest),
    /// Stop gracefully, then kill after the grace period.
    Stop(StopRequest),
    /// Stop, then start.
    Restart(RestartRequest),
    /// Send a signal; SIGKILL by default.
    Kill(KillRequest),
    /// Pause.
    Pause,
    /// Resume.
    Resume,
    /// Remove the container.
    Remove(RemoveRequest),
    /// Create and start a container.
    Deploy(DeployRequest),
    /// Change the settings of a container.
    Edit(EditRequest),
    /// Update a container to a newer image.
    Update(UpdateRequest),
    /// Roll a container back to before an edit or update.
    Rollback(RollbackRequest),
    /// Pull an image.
    Pull(PullRequest),
    /// Push an image to its registry.
    Push(PushRequest),
    /// Tag an image.
    Tag(TagRequest),
    /// Remove an image.
    RemoveImage(RemoveImageRequest),
    /// Create a volume.
    #[serde(alias = "make-volume")]
    #[strum_discriminants(serde(alias = "make-volume"))]
    #[strum_discriminants(strum(to_string = "create-volume", serialize = "make-volume"))]
    CreateVolume(CreateVolumeRequest),
    /// Remove a volume and its data.
    RemoveVolume(RemoveVolumeRequest),
    /// Create a network.
    #[serde(alias = "make-network")]
    #[strum_discriminants(serde(alias = "make-network"))]
    #[strum_discriminants(strum(to_string = "create-network", serialize = "make-network"))]
    CreateNetwork(CreateNetworkRequest),
    /// Remove a network.
    RemoveNetwork,
    /// Connect a container to a network.
    Connect(ConnectRequest),
    /// Disconnect a container from a network.
    Disconnect(DisconnectRequest),
    /// Remove unused objects.
    Tidy(TidyRequest),
    /// Deploy a stack from its files.
    Apply(ApplyRequest),
    /// Remove a stack.
    RemoveStack(RemoveStackRequest),
    /// Move to another host, with data.
    Move(MoveRequest),
    /// Clone to another host, with data.
    Clone(MoveRequest),
    /// Run a job of a stack.
    Run(RunRequest),
}

/// A request that is invalid, with the field at fault.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{sentence}")]
pub struct RequestError {
    /// The field.
    pub field: &'static str,
    /// What is wrong and what to write instead.
    pub sentence: String,
}

impl Request {
    /// The stack that it is about, where it is about one as a whole on the hosts that it is asked for.
    pub fn stack(&self) -> Option<&str> {
        match self {
            Self::Apply(apply) => Some(&apply.stack),
            Self::RemoveStack(remove) => Some(&remove.stack),
            Self::Run(run) => Some(&run.stack),
            _ => None,
        }
    }

    /// Its kind.
    pub fn kind(&self) -> Kind {
        self.into()
    }

    /// Reads the settings of a kind, as they are beside `kind`. What does not go with the kind is skipped; whoever
    /// reads a stranger's words compares with what was understood.
    ///
    /// Unlike the derived `Deserialize` it buffers nothing, so that a deserializer which follows its place can tell
    /// where an error stands.
    ///
    /// # Errors
    /// What the deserializer finds.
    pub fn read_settings<'de, D: Deserializer<'de>>(kind: Kind, settings: D) -> Result<Self, D::Error> {
        Ok(match kind {
            Kind::Start => Self::Start(Deserialize::deserialize(settings)?),
            Kind::Stop => Self::Stop(Deserialize::deserialize(settings)?),
            Kind::Restart => Self::Restart(Deserialize::deserialize(settings)?),
            Kind::Kill => Self::Kill(Deserialize::deserialize(settings)?),
            Kind::Pause => Self::Pause,
            Kind::Resume => Self::Resume,
            Kind::Remove => Self::Remove(Deserialize::deserialize(settings)?),
            Kind::Deploy => Self::Deploy(Deserialize::deserialize(settings)?),
            Kind::Edit => Self::Edit(Deserialize::deserialize(settings)?),
            Kind::Update => Self::Update(Deserialize::deserialize(settings)?),
            Kind::Rollback => Self::Rollback(Deserialize::deserialize(settings)?),
            Kind::Pull => Self::Pull(Deserialize::deserialize(settings)?),
            Kind::Push => Self::Push(Deserialize::deserialize(settings)?),
            Kind::Tag => Self::Tag(Deserialize::deserialize(settings)?),
            Kind::RemoveImage => Self::RemoveImage(Deserialize::deserialize(settings)?),
            Kind::CreateVolume => Self::CreateVolume(Deserialize::deserialize(settings)?),
            Kind::RemoveVolume => Self::RemoveVolume(Deserialize::deserialize(settings)?),
            Kind::CreateNetwork => Self::CreateNetwork(Deserialize::deserialize(settings)?),
            Kind::RemoveNetwork => Self::RemoveNetwork,
            Kind::Connect => Self::Connect(Deserialize::deserialize(settings)?),
            Kind::Disconnect => Self::Disconnect(Deserialize::deserialize(settings)?),
            Kind::Tidy => Self::Tidy(Deserialize::deserialize(settings)?),
            Kind::Apply => Self::Apply(Deserialize::deserialize(settings)?),
            Kind::RemoveStack => Self::RemoveStack(Deserialize::deserialize(settings)?),
            Kind::Move => Self::Move(Deserialize::deserialize(settings)?),
            Kind::Clone => Self::Clone(Deserialize::deserialize(settings)?),
            Kind::Run => Self::Run(Deserialize::deserialize(settings)?),
        })
    }

    /// The same with what looks like a secret hidden, as everybody may see it.
    #[must_use]
    pub fn masked(&self) -> Self {
        let mut masked = self.clone();
        if let Self::Deploy(DeployRequest { definition, .. }) | Self::Edit(EditRequest { definition, .. }) =
            &mut masked
        {
            **definition = definition.masked();
        }
        if let Self::Apply(request) = &mut masked {
            request.hide();
        }
        if let Self::Move(request) | Self::Clone(request) = &mut masked {
            request.hide();
        }
        masked
    }

    /// Whether its targets go one after another, and how; `None` when they go all together.
    pub fn rolling(&self) -> Option<Rolling> {
        match self {
            Self::Start(r) => r.rolling,
            Self::Stop(r) => r.rolling,
            Self::Restart(r) => r.rolling,
            Self::Deploy(r) => r.rolling,
            Self::Edit(r) => r.rolling,
            Self::Update(r) => r.rolling,
            Self::Rollback(r) => r.rolling,
            _ => None,
        }
    }

    /// Checks that the settings are within their limits.
    ///
    /// # Errors
    /// The first field at fault.
    pub fn check(&self) -> Result<(), RequestError> {
        at_once(self.rolling())?;
        match self {
            Self::Start(_)
            | Self::Pause
            | Self::Resume
            | Self::Remove(_)
            | Self::RemoveImage(_)
            | Self::CreateVolume(_)
            | Self::RemoveVolume(_)
            | Self::CreateNetwork(_)
            | Self::RemoveNetwork
            | Self::Connect(_)
            | Self::Disconnect(_) => Ok(()),
            Self::Stop(r) => grace(r.grace_seconds),
            Self::Restart(r) => grace(r.grace_seconds),
            Self::Kill(r) => signal(r.signal.as_deref()),
            Self::Deploy(r) => watch(r.watch_seconds),
            Self::Edit(r) => grace(r.grace_seconds).and(watch(r.watch_seconds)),
            Self::Update(r) => {
                grace(r.grace_seconds)?;
                watch(r.watch_seconds)?;
                r.image.as_deref().map_or(Ok(()), |image| image_name("image", image))
            }
            Self::Rollback(r) => grace(r.grace_seconds).and(watch(r.watch_seconds)),
            Self::Pull(r) => image_name("image", &r.image),
            Self::Push(r) => image_name("image", &r.image),
            Self::Tag(r) => image_name("image", &r.image).and(image_name("new_name", &r.new_name)),
            Self::Tidy(r) => pieces(&r.pieces),
            Self::Apply(r) => watch(r.watch_seconds).and(r.check()),
            Self::RemoveStack(r) => apply::stack_name(&r.stack),
            Self::Move(r) => watch(r.watch_seconds).and(r.check(true)),
            Self::Clone(r) => watch(r.watch_seconds).and(r.check(false)),
            Self::Run(r) => r.check(),
        }
    }
}

fn wrong(field: &'static str, sentence: impl Into<String>) -> Result<(), RequestError> {
    Err(RequestError { field, sentence: sentence.into() })
}

fn at_once(rolling: Option<Rolling>) -> Result<(), RequestError> {
    match rolling {
        Some(rolling) if !(1..=MAX_AT_ONCE).contains(&rolling.at_once) => {
            wrong("rolling", format!("'at_once' must be from 1 to {MAX_AT_ONCE}"))
        }
        _ => Ok(()),
    }
}

fn grace(seconds: Option<u32>) -> Result<(), RequestError> {
    match seconds {
        Some(seconds) if seconds > MAX_GRACE_SECONDS => wrong(
            "grace_seconds",
            format!("'grace_seconds' is {seconds}; the limit is {MAX_GRACE_SECONDS} (1 h)"),
        ),
        _ => Ok(()),
    }
}

fn watch(seconds: Option<u32>) -> Result<(), RequestError> {
    match seconds {
        Some(seconds) if seconds > MAX_WATCH_SECONDS => wrong(
            "watch_seconds",
            format!("'watch_seconds' is {seconds}; the limit is {MAX_WATCH_SECONDS} (1 h)"),
        ),
        _ => Ok(()),
    }
}

fn signal(signal: Option<&str>) -> Result<(), RequestError> {
    match signal {
        Some(signal) if signal_name(signal).is_none() => wrong(
            "signal",
            format!(
                "'{}' is not a signal; write a name such as 'SIGHUP' or a number from 1 to 64",
                crate::text::shown(signal, 40)
            ),
        ),
        _ => Ok(()),
    }
}

fn image_name(field: &'static str, name: &str) -> Result<(), RequestError> {
    name.parse::<ImageName>().map(drop).or_else(|error| wrong(field, error.to_string()))
}

fn pieces(pieces: &[TidyPiece]) -> Result<(), RequestError> {
    match pieces.len() {
        0 => wrong("pieces", "'tidy' needs 'pieces': the objects to remove, from the suggestions"),
        n if n > MAX_PIECES => wrong("pieces", format!("{n} pieces; the limit is {MAX_PIECES}")),
        _ => Ok(()),
    }
}

#[cfg(test)]
mod tests;
