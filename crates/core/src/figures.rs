//! The counts and totals that pages, the client and the API show, each defined once.
//!
//! The lists that they count are in [`crate::inventory`] and [`crate::tidy`].

use std::collections::BTreeSet;

use serde::{Deserialize, Serialize};

use crate::container::{Container, Severity, State};
use crate::fleet::Fleet;
use crate::host::{Host, LinkState};
use crate::inventory::{ImageRow, images};
use crate::tidy::bytes_of_images;

/// Whether a container is up: its process runs. A paused one is not, and one that is about to be restarted is not.
pub fn is_up(c: &Container) -> bool {
    c.state == State::Running
}

/// Whether a container needs attention. That it could have a newer image is only a notice.
pub fn needs_attention(c: &Container) -> bool {
    c.attention.as_ref().is_some_and(|r| r.severity != Severity::Notice)
}

/// Whether a host needs attention itself, whatever its containers do.
pub fn host_needs_attention(host: &Host) -> bool {
    host.attention.as_ref().is_some_and(|r| r.severity != Severity::Notice)
}

/// Whether an image is unused: no container on any host was made from it.
pub fn is_unused(image: &ImageRow) -> bool {
    image.copies.iter().all(|c| c.used_by.is_empty())
}

/// Whether an image fits what somebody looks for: its id, a tag or a host has the text in it, in whatever case.
pub fn image_fits(image: &ImageRow, text: &str) -> bool {
    let text = text.to_lowercase();
    let hosts = image.copies.iter().map(|c| &c.host);
    std::iter::once(&image.id).chain(&image.tags).chain(hosts).any(|t| t.to_lowercase().contains(&text))
}

/// The figures of a fleet, a host or a stack.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct FleetFigures {
    /// Hosts.
    pub hosts: u32,
    /// Hosts whose engine answers.
    pub hosts_live: u32,
    /// Containers, without those an operation holds.
    pub containers: u32,
    /// Containers that are up: [`is_up`].
    pub up: u32,
    /// Paused containers.
    pub paused: u32,
    /// Containers and hosts that need attention.
    pub need_attention: u32,
    /// Containers with a newer image available.
    pub newer_images: u32,
    /// Images; one that several hosts have counts once.
    pub images: u32,
    /// Images that no container uses on any host.
    pub unused_images: u32,
    /// Bytes that removing them everywhere frees; shared layers are not counted.
    pub unused_image_bytes: u64,
}

fn count(n: usize) -> u32 {
    u32::try_from(n).unwrap_or(u32::MAX)
}

/// Works the figures out. `host` and `stack` narrow containers and hosts down, `image` the images.
pub fn figures(fleet: &Fleet, host: Option<&str>, stack: Option<&str>, image: Option<&str>) -> FleetFigures {
    let hosts: Vec<&Host> = fleet.hosts().filter(|h| host.is_none_or(|wanted| h.name == wanted)).collect();
    let of = |c: &&Container| {
        host.is_none_or(|h| c.host == h) && stack.is_none_or(|s| c.stack.as_deref() == Some(s))
    };
    let containers: Vec<&Container> = fleet.containers().filter(of).collect();
    let mut rows = images(fleet);
    if let Some(host) = host {
        rows.retain(|r| r.copies.iter().any(|c| c.host == host));
    }
    if let Some(text) = image {
        rows.retain(|r| image_fits(r, text));
    }
    let unused: Vec<&ImageRow> = rows.iter().filter(|r| is_unused(r)).collect();
    let ids: BTreeSet<&str> = unused.iter().map(|r| r.id.as_str()).collect();
    let bytes =
        hosts.iter().filter_map(|h| fleet.assets_of(&h.name)).map(|a| bytes_of_images(&a.images, &ids)).sum();
    let hosts_in_need =
        if stack.is_some() { 0 } else { hosts.iter().filter(|h| host_needs_attention(h)).count() };
    let with = |fits: fn(&Container) -> bool| count(containers.iter().filter(|c| fits(c)).count());
    FleetFigures {
        hosts: count(hosts.len()),
        hosts_live: count(hosts.iter().filter(|h| h.state == LinkState::Live).count()),
        containers: count(containers.len()),
        up: with(is_up),
        paused: with(|c| c.state == State::Paused),
        need_attention: with(needs_attention).saturating_add(count(hosts_in_need)),
        newer_images: with(|c| c.newer_image),
        images: count(rows.len()),
        unused_images: count(unused.len()),
        unused_image_bytes: bytes,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::container::Reason;
    use rstest::rstest;

    #[rstest]
    #[case(State::Running, true)]
    #[case(State::Paused, false)]
    #[case(State::Restarting, false)]
    #[case(State::Exited, false)]
    fn up_is_running(#[case] state: State, #[case] up: bool) {
        let mut c = Container::blank("packhouse", "x", "a");
        c.state = state;
        assert_eq!(is_up(&c), up);
    }

    #[test]
    fn a_newer_image_is_no_need() {
        let mut c = Container::blank("packhouse", "x", "a");
        let reason = |severity| Reason {
            severity,
            rank: 0,
            because: None,
            code: "x".into(),
            sentence: String::new(),
            advice: String::new(),
            evidence: Vec::new(),
        };
        assert!(!needs_attention(&c));
        c.attention = Some(reason(Severity::Notice));
        assert!(!needs_attention(&c));
        c.attention = Some(reason(Severity::Warning));
        assert!(needs_attention(&c));
    }
}
