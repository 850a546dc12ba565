//! Differences between engines, and how they are evened out. Every decision by kind of engine is here.
//!
//! Seen on dockerd 20.10 and podman 4.3.1:
//! - podman answers a conflict (a signal to what does not run, removing what runs) with 500 and a
//!   text, dockerd with 409. We say 409.
//! - podman answers a stop of what is stopped and sometimes a start of what runs with 204, as if it
//!   had done something, dockerd with 304. We look first on podman.
//! - podman says `remove` where dockerd says `destroy`, and adds `init` and `cleanup`.
//! - podman's terminal logs put a time before every piece of a long line, at no fixed distance, but
//!   always at the beginning of an HTTP chunk; dockerd after every 16 KiB.
//! - podman's times of log lines are whole seconds and its `since` and `until` as coarse.
//! - podman fills an empty health record where there is no health check.
//! - podman's list of images with digests is empty where dockerd's is whole; without the wish it has them.
//! - podman tells the disk's size, free memory and uptime over its own interface only; dockerd not at all.
//! - podman samples all containers in one call and does not tell the page cache apart; dockerd answers
//!   one container at a time, at once when asked for one shot.
//! - podman writes disk use with bare ids, and layers that are shared count for each image.
//! - podman's list of processes answers nothing over the common interface; its own does.
//! - podman 4.3 changes no limits of what runs, dockerd does.
//! - podman sends the head of a quiet followed log only with its first line.

use gubernum_core::logs::Pieces;

use crate::wire;

/// The family an engine belongs to.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Dialect {
    /// dockerd, and whatever does not say otherwise.
    Dockerd,
    /// podman's service.
    Podman,
}

impl Dialect {
    pub(crate) fn from_version(version: &wire::Version) -> Self {
        let podman = version.components.iter().any(|c| c.name.to_ascii_lowercase().contains("podman"));
        if podman { Self::Podman } else { Self::Dockerd }
    }

    /// What the engine is called.
    pub fn name(self) -> &'static str {
        match self {
            Self::Dockerd => "dockerd",
            Self::Podman => "podman",
        }
    }

    /// The status that stands for the same refusal on every engine.
    pub(crate) fn even_status(self, status: u16, message: &str) -> u16 {
        let conflict = [
            "container state improper",
            "can only kill running",
            "cannot remove container",
            "is running or paused",
            "already in use",
        ];
        match self {
            Self::Podman if status == 500 && conflict.iter().any(|c| message.contains(c)) => 409,
            Self::Podman if status == 500 && message.contains("invalid signal") => 400,
            // What is removed while it is looked at.
            Self::Podman if status == 500 && message.contains("no such container") => 404,
            Self::Podman if status == 500 && message.contains("layer not known") => 404,
            _ => status,
        }
    }

    /// Whether a call that changes nothing is told apart by its status.
    pub(crate) fn says_unchanged(self) -> bool {
        self == Self::Dockerd
    }

    /// Whether an event means that the container is gone.
    pub(crate) fn is_gone(self, action: &str) -> bool {
        action == "destroy" || (self == Self::Podman && action == "remove")
    }

    /// Whether the engine has podman's own interface besides the common one.
    pub(crate) fn has_own_interface(self) -> bool {
        self == Self::Podman
    }

    /// Whether limits and the restart policy of what runs can be changed.
    pub(crate) fn changes_in_place(self) -> bool {
        self == Self::Dockerd
    }

    /// Where the pieces of a long terminal line begin.
    pub(crate) fn pieces(self) -> Pieces {
        match self {
            Self::Dockerd => Pieces::Every16K,
            Self::Podman => Pieces::AtReads,
        }
    }

    /// Whether the chunks of an answer must be kept apart to read a terminal's log.
    pub(crate) fn needs_chunks(self, terminal: bool) -> bool {
        terminal && self == Self::Podman
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn podman_conflicts_become_409() {
        let text = "can only kill running containers. 97 is in state created: container state improper";
        assert_eq!(Dialect::Podman.even_status(500, text), 409);
        assert_eq!(Dialect::Podman.even_status(500, "disk is full"), 500);
        assert_eq!(Dialect::Dockerd.even_status(500, text), 500);
    }
}
