//! The steps of a plan: each is one call of an engine, or a wait.

use serde::{Deserialize, Serialize};

use super::{NetworkSettings, VolumeSettings};
use crate::definition::{NetworkConnection, NewFolder, PullPolicy};

/// One step. What a container is created from is not included: it may hold secrets.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(tag = "step", rename_all = "kebab-case")]
pub enum Step {
    /// Start it.
    Start,
    /// Stop it.
    Stop {
        /// Seconds of grace.
        grace_seconds: Option<u32>,
    },
    /// Restart it.
    Restart {
        /// Seconds of grace.
        grace_seconds: Option<u32>,
    },
    /// Send a signal.
    Kill {
        /// The signal's name.
        signal: String,
    },
    /// Pause it.
    Pause,
    /// Resume it.
    Resume,
    /// Remove it.
    Remove {
        /// Even while running.
        force: bool,
        /// With anonymous volumes.
        volumes: bool,
    },
    /// Pull an image.
    Pull {
        /// Its name.
        image: String,
        /// When.
        policy: PullPolicy,
        /// The platform.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        platform: Option<String>,
    },
    /// Push an image to its registry.
    Push {
        /// Its name.
        image: String,
    },
    /// Tag an image.
    Tag {
        /// The image.
        image: String,
        /// The new name.
        new_name: String,
    },
    /// Remove an image.
    RemoveImage {
        /// The tag or id.
        image: String,
        /// Even with several tags or exited containers.
        force: bool,
        /// Leave untagged parents.
        keep_parents: bool,
    },
    /// Create a folder on the host.
    #[serde(alias = "make-folder")]
    CreateFolder {
        /// Its path.
        path: String,
        /// Whose it is.
        folder: NewFolder,
    },
    /// Create a volume.
    #[serde(alias = "make-volume")]
    CreateVolume {
        /// Its name.
        name: String,
        /// The settings.
        wish: VolumeSettings,
    },
    /// Remove a volume.
    RemoveVolume {
        /// Even if the engine refuses.
        force: bool,
    },
    /// Create a network.
    #[serde(alias = "make-network")]
    CreateNetwork {
        /// Its name.
        name: String,
        /// The settings.
        wish: NetworkSettings,
    },
    /// Remove a network.
    RemoveNetwork,
    /// Connect the container to a network.
    Connect {
        /// The network and its settings.
        join: NetworkConnection,
    },
    /// Disconnect the container from a network.
    Disconnect {
        /// Which.
        network: String,
        /// Even if it does not respond.
        force: bool,
    },
    /// Create the container.
    #[serde(alias = "make")]
    Create,
    /// Copy configs and secrets into the created container. Their contents are not included.
    PutFiles {
        /// Paths in the container.
        paths: Vec<String>,
    },
    /// Create the new container beside the old one, under a temporary name.
    #[serde(alias = "make-beside")]
    CreateBeside,
    /// Give the old container's name to the new one; the old one is kept.
    Exchange,
    /// Start the new container.
    StartNew,
    /// Wait until it is healthy or has stayed up; otherwise restore the old container.
    Watch {
        /// Seconds it must stay up, without a health check.
        seconds: u32,
    },
    /// Wait until it exits; exit code 0 is success.
    WaitForEnd,
    /// Wait until a job's container exits, save its output and remove it.
    RunToEnd {
        /// Time limit in seconds; it is then stopped.
        most_seconds: u32,
        /// Number of runs kept of the job.
        keep: u32,
    },
    /// Wait after the previous target.
    Delay {
        /// Seconds.
        seconds: u32,
    },
    /// Build an image.
    Build {
        /// Its name.
        image: String,
    },
    /// Remove the old container.
    Retire,
    /// Change limits and restart policy while it runs.
    ChangeInPlace,
    /// Rename it.
    Rename {
        /// The new name.
        to: String,
    },
    /// Clear the build cache.
    EmptyCache,
    /// Copy an image from another host.
    CopyImage {
        /// The host that has it.
        from: String,
        /// Its name.
        image: String,
    },
    /// Copy the data of a volume of another host into the volume.
    CopyVolume {
        /// The host that has it.
        from: String,
        /// The volume's name there.
        volume: String,
        /// Which data is copied.
        pass: Pass,
        /// Read it back and compare checksums.
        verify: bool,
    },
}

/// How much of a volume's data is copied.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "lowercase")]
pub enum Pass {
    /// All of it, while it may still change.
    First,
    /// What changed since the first pass.
    Rest,
    /// All of it, while nothing changes it.
    Whole,
}

impl Step {
    /// The step in words, for a target of this name.
    pub fn words(&self, name: &str) -> String {
        let grace = |g: &Option<u32>| {
            g.map_or_else(|| "its usual grace period".to_owned(), |s| format!("{s} s of grace"))
        };
        match self {
            Self::Start => "Start it.".to_owned(),
            Self::Stop { grace_seconds } => format!("Stop it, with {}.", grace(grace_seconds)),
            Self::Restart { grace_seconds } => format!("Restart it, with {}.", grace(grace_seconds)),
            Self::Kill { signal } => format!("Send {signal}."),
            Self::Pause => "Pause its processes.".to_owned(),
            Self::Resume => "Resume its processes.".to_owned(),
            Self::Remove { volumes: true, .. } => "Remove it with its anonymous volumes.".to_owned(),
            Self::Remove { .. } => "Remove it.".to_owned(),
            Self::Pull { image, policy: PullPolicy::Missing, .. } => {
                format!("Pull {image} if the host does not have it.")
            }
            Self::Pull { image, policy: PullPolicy::Never, .. } => {
                format!("Check that {image} is on the host.")
            }
            Self::Pull { image, .. } => format!("Pull {image}."),
            Self::Push { image } => format!("Push {image} to its registry."),
            Self::Tag { image, new_name } => format!("Tag {image} as {new_name}."),
            Self::RemoveImage { image, .. } => format!("Remove the image {image}."),
            Self::CreateFolder { path, folder } => {
                format!("Create the folder {path} on the host for user {}.", folder.user)
            }
            Self::CreateVolume { name, .. } => format!("Create the volume {name}."),
            Self::RemoveVolume { .. } => format!("Remove the volume {name} and the data in it."),
            Self::CreateNetwork { name, .. } => format!("Create the network {name}."),
            Self::RemoveNetwork => format!("Remove the network {name}."),
            Self::Connect { join } => format!("Connect it to the network {}.", join.name),
            Self::Disconnect { network, .. } => format!("Disconnect it from the network {network}."),
            Self::Create => format!("Create the container {name}."),
            Self::PutFiles { paths } => format!("Copy {} into it.", paths.join(", ")),
            Self::WaitForEnd => "Wait until it exits with code 0.".to_owned(),
            Self::RunToEnd { most_seconds, .. } => {
                format!("Wait until it exits (at most {most_seconds} s), save its output, and remove it.")
            }
            Self::Delay { seconds } => format!("Wait {seconds} s after the previous one."),
            Self::Build { image } => format!("Build {image}."),
            Self::CreateBeside => "Create the new container beside the old one.".to_owned(),
            Self::Exchange => "Rename the new one; keep the old one aside.".to_owned(),
            Self::StartNew => "Start the new one.".to_owned(),
            Self::Watch { seconds } => {
                format!(
                    "Wait until it is healthy (without a check: up for {seconds} s); otherwise roll back."
                )
            }
            Self::Retire => "Remove the old one; its settings are saved for a rollback.".to_owned(),
            Self::ChangeInPlace => "Change limits and restart policy while it runs.".to_owned(),
            Self::Rename { to } => format!("Rename it to {to}."),
            Self::EmptyCache => "Empty the build cache.".to_owned(),
            Self::CopyImage { from, image } => format!("Copy the image {image} from {from}."),
            Self::CopyVolume { from, volume, pass, verify } => {
                let what = match pass {
                    Pass::First => "Copy its data a first time, while it is in use",
                    Pass::Rest => "Copy what has changed since",
                    Pass::Whole => "Copy its data",
                };
                let end = if *verify { ", read it back and compare checksums" } else { "" };
                format!("{what}, from the volume {volume} of {from}{end}.")
            }
        }
    }
}

/// The name of the old container while the new one is tried.
pub fn aside_name(name: &str, operation: u64) -> String {
    format!("{name}-before-{operation}")
}

/// The name of the new container before it takes over.
pub fn beside_name(name: &str, operation: u64) -> String {
    format!("{name}-next-{operation}")
}

#[cfg(test)]
#[path = "steps_tests.rs"]
mod tests;
