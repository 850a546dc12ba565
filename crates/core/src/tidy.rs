//! Unused objects of a fleet: why and since when, the bytes they take, their last user, and whether removing them is
//! safe.
//!
//! Pure views over [`Fleet`]. What is kept (by label, by age, for a rollback) comes in with [`Rules`]. The bytes of
//! several images together are worked out layer by layer, because they share some.

mod safe;

use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet};

use jiff::{SignedDuration, Timestamp};
use serde::{Deserialize, Serialize};

use crate::assets::{AssetKind, Assets, Image, bare_id};
use crate::container::{Container, STACK_LABEL, State};
use crate::fleet::Fleet;
use crate::plan::{ObjectKind, Step, TargetPlan, TidyPiece};

/// The label that keeps a thing from being tidied away.
pub const KEEP_LABEL: &str = "gubernum.keep";
/// The label of one-off runs of a stack's service.
const ONE_OFF_LABEL: &str = "com.docker.compose.oneoff";
/// Labels by which stacks mark their volumes and networks.
const STACK_THING_LABEL: &str = STACK_LABEL;
/// A container that ended this long ago is not about to be looked at any more.
const LONG_AGO: SignedDuration = SignedDuration::from_hours(24 * 7);

/// The kind of unused object.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
#[derive(strum::IntoStaticStr)]
#[strum(serialize_all = "kebab-case")]
pub enum Leftover {
    /// A container that does not run.
    StoppedContainer,
    /// An image with a name that nothing uses.
    UnusedImage,
    /// An untagged image.
    UntaggedImage,
    /// An unused anonymous volume.
    AnonymousVolume,
    /// A named volume that nothing mounts.
    NamedVolume,
    /// A network that nothing is in.
    UnusedNetwork,
    /// What builds left.
    BuildCache,
}

impl Leftover {
    /// The word used everywhere.
    pub fn word(self) -> &'static str {
        self.into()
    }
}

/// How safe removal is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub enum Grade {
    /// Nothing is lost that cannot be had again.
    Safe,
    /// Something may be lost: look first.
    LookFirst,
}

/// An unused object that could be removed.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Suggestion {
    /// How to name it in an operation.
    #[serde(flatten)]
    pub piece: TidyPiece,
    /// Its name, for people.
    pub name: String,
    /// What kind of leftover it is.
    pub leftover: Leftover,
    /// How safe its removal is.
    pub grade: Grade,
    /// Why it is suggested, and what would be lost.
    pub reason: String,
    /// Unused since, as far as observed.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    #[cfg_attr(feature = "schema", schema(value_type = Option<String>, format = DateTime))]
    pub since: Option<Timestamp>,
    /// Bytes freed by removing it alone; images with shared layers free more together.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub size: Option<u64>,
    /// The container that last used it, as far as observed.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub last_user: Option<String>,
    /// The stack, from labels.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub stack: Option<String>,
    /// Why it is protected, if it is.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub protected: Option<String>,
}

/// What protects things.
#[derive(Debug, Clone, Default)]
pub struct Rules {
    /// What has been unused for less is not offered.
    pub youngest: SignedDuration,
    /// What has been unused for less is never safe.
    pub unused_for: SignedDuration,
    /// The same for what builds left.
    pub cache_unused_for: SignedDuration,
    /// What registries that were asked lately said of a digest, as `name@sha256:…`: whether they have it.
    pub registry_has: HashMap<String, bool>,
    /// Images that earlier states need, as host and id.
    pub needed: HashSet<(String, String)>,
    /// What members wrote that is to be kept, with their words.
    pub notes: BTreeMap<TidyPiece, String>,
}

/// All leftovers of the fleet, by host, kind and size.
pub fn suggestions(fleet: &Fleet, rules: &Rules, now: Timestamp) -> Vec<Suggestion> {
    let mut found = Vec::new();
    for host in fleet.hosts() {
        let name = host.name.as_str();
        found.extend(fleet.containers_of(name).filter_map(|c| container(fleet, c, now)));
        let Some(assets) = fleet.assets_of(name) else { continue };
        images(fleet, name, assets, rules, &mut found);
        resources(fleet, name, assets, &mut found);
        if let Some(size) = host.disk.build_cache.filter(|s| *s > 0) {
            found.push(Suggestion {
                piece: TidyPiece { host: name.to_owned(), object: ObjectKind::Cache, id: "cache".to_owned() },
                name: "build cache".to_owned(),
                leftover: Leftover::BuildCache,
                grade: Grade::Safe,
                reason: "Cached steps of earlier builds, which speed up the next one.".to_owned(),
                since: host.disk.cache_used,
                size: Some(size),
                last_user: None,
                stack: None,
                protected: None,
            });
        }
    }
    for s in &mut found {
        if let Some(note) = rules.notes.get(&s.piece) {
            s.protected = Some(note.clone());
        }
        let young = s.since.is_some_and(|since| now.duration_since(since) < rules.youngest);
        if s.protected.is_none() && young && s.leftover != Leftover::BuildCache {
            let hours = rules.youngest.as_hours();
            s.protected = Some(format!("unused for less than {hours} h"));
        }
        safe::wait_for_age(s, rules, now);
    }
    found.sort_by(|a, b| {
        let key =
            |s: &Suggestion| (s.piece.host.clone(), s.leftover, std::cmp::Reverse(s.size), s.name.clone());
        key(a).cmp(&key(b))
    });
    found
}

fn kept_by_label(labels: &BTreeMap<String, String>) -> Option<String> {
    let value = labels.get(KEEP_LABEL).filter(|v| *v != "false")?;
    let why = if value.is_empty() || value == "true" {
        String::new()
    } else {
        format!(": {}", crate::text::shown(value, 120))
    };
    Some(format!("kept by its label '{KEEP_LABEL}'{why}"))
}

fn container(fleet: &Fleet, c: &Container, now: Timestamp) -> Option<Suggestion> {
    if !matches!(c.state, State::Exited | State::Created | State::Dead) || c.is_self {
        return None;
    }
    let since = c.finished.or(Some(c.created));
    let long = since.is_some_and(|s| now.duration_since(s) > LONG_AGO);
    let one_off = c.labels.get(ONE_OFF_LABEL).is_some_and(|v| v.eq_ignore_ascii_case("true"));
    let has_data = c.mounts.iter().any(|m| m.anonymous);
    let fine = c.exit_code == Some(0) || c.state == State::Created || long;
    let restarts = !matches!(c.restart_policy.as_str(), "no" | "");
    let safe = fine && !has_data && !restarts && (c.stack.is_none() || one_off);
    let how = match (c.state, c.exit_code) {
        (State::Created, _) => "Created and never started".to_owned(),
        (_, Some(code)) => format!("Exited with code {code}"),
        _ => "Exited".to_owned(),
    };
    let look = if has_data {
        "; an anonymous volume would be left unused"
    } else if c.stack.is_some() && !one_off {
        "; it is part of a stack"
    } else if restarts {
        "; its restart policy would keep it running"
    } else if !fine {
        "; its log may still be needed"
    } else {
        ""
    };
    let written = fleet.assets_of(&c.host).and_then(|a| a.written.get(&c.id)).copied();
    Some(Suggestion {
        piece: TidyPiece { host: c.host.clone(), object: ObjectKind::Container, id: c.id.clone() },
        name: c.name.clone(),
        leftover: Leftover::StoppedContainer,
        grade: if safe { Grade::Safe } else { Grade::LookFirst },
        reason: format!("{how}{look}."),
        since,
        size: written,
        last_user: None,
        stack: c.stack.clone(),
        protected: kept_by_label(&c.labels),
    })
}

fn images(fleet: &Fleet, host: &str, assets: &Assets, rules: &Rules, found: &mut Vec<Suggestion>) {
    let used: HashSet<&str> = fleet.users_of(host).map(|c| bare_id(&c.image_id)).collect();
    for image in assets.images.iter().filter(|i| !used.contains(i.id.as_str())) {
        let untagged = image.tags.is_empty();
        let (grade, again) = safe::backed(image, rules);
        let why = if untagged {
            "Untagged: a newer image took its tag, or a build left it"
        } else {
            "No container uses it"
        };
        let needed = rules.needed.contains(&(host.to_owned(), image.id.clone()));
        found.push(Suggestion {
            piece: TidyPiece { host: host.to_owned(), object: ObjectKind::Image, id: image.id.clone() },
            name: image.tags.first().cloned().unwrap_or_else(|| image.id.chars().take(12).collect()),
            leftover: if untagged { Leftover::UntaggedImage } else { Leftover::UnusedImage },
            grade,
            reason: format!("{why}; {again}."),
            since: fleet.unused_since(host, AssetKind::Image, &image.id),
            size: Some(image.size.saturating_sub(image.shared.unwrap_or(0))),
            last_user: fleet.last_user(host, AssetKind::Image, &image.id),
            stack: image.labels.get(STACK_THING_LABEL).cloned(),
            protected: kept_by_label(&image.labels)
                .or_else(|| needed.then(|| "kept for rolling a container back".to_owned())),
        });
    }
}

fn resources(fleet: &Fleet, host: &str, assets: &Assets, found: &mut Vec<Suggestion>) {
    let mounted: HashSet<&str> = fleet
        .users_of(host)
        .flat_map(|c| &c.mounts)
        .filter(|m| m.kind == "volume")
        .map(|m| m.source.as_str())
        .collect();
    for v in assets.volumes.iter().filter(|v| !mounted.contains(v.name.as_str())) {
        let empty = v.size == Some(0);
        let kind =
            if v.anonymous { "Anonymous volume of a removed container" } else { "No container mounts it" };
        let data = if empty { "it is empty" } else { "its data would be lost" };
        found.push(Suggestion {
            piece: TidyPiece { host: host.to_owned(), object: ObjectKind::Volume, id: v.name.clone() },
            name: if v.anonymous { v.name.chars().take(12).collect() } else { v.name.clone() },
            leftover: if v.anonymous { Leftover::AnonymousVolume } else { Leftover::NamedVolume },
            grade: if empty { Grade::Safe } else { Grade::LookFirst },
            reason: format!("{kind}; {data}."),
            since: fleet.unused_since(host, AssetKind::Volume, &v.name),
            size: v.size,
            last_user: fleet.last_user(host, AssetKind::Volume, &v.name),
            stack: v.labels.get(STACK_THING_LABEL).cloned(),
            protected: kept_by_label(&v.labels),
        });
    }
    let joined: HashSet<&str> = fleet.users_of(host).flat_map(|c| &c.networks).map(String::as_str).collect();
    for n in assets.networks.iter().filter(|n| !n.is_built_in() && !joined.contains(n.name.as_str())) {
        let stack = n.labels.get(STACK_THING_LABEL).cloned();
        found.push(Suggestion {
            piece: TidyPiece { host: host.to_owned(), object: ObjectKind::Network, id: n.id.clone() },
            name: n.name.clone(),
            leftover: Leftover::UnusedNetwork,
            grade: if stack.is_some() { Grade::LookFirst } else { Grade::Safe },
            reason: if stack.is_some() {
                "No container is connected; its stack creates it again when started.".to_owned()
            } else {
                "No container is connected.".to_owned()
            },
            since: fleet.unused_since(host, AssetKind::Network, &n.id),
            size: None,
            last_user: fleet.last_user(host, AssetKind::Network, &n.id),
            stack,
            protected: kept_by_label(&n.labels),
        });
    }
}

/// Bytes that are won when these images of one host go together: the layers that no image which stays has.
pub fn bytes_of_images(images: &[Image], gone: &BTreeSet<&str>) -> u64 {
    let stays: HashSet<&str> = images
        .iter()
        .filter(|i| !gone.contains(i.id.as_str()))
        .flat_map(|i| i.layers.iter().map(|l| l.id.as_str()))
        .collect();
    let mut counted: HashSet<&str> = HashSet::new();
    let mut bytes = 0;
    for image in images.iter().filter(|i| gone.contains(i.id.as_str())) {
        if image.layers.is_empty() {
            bytes += image.size.saturating_sub(image.shared.unwrap_or(0));
        }
        for layer in &image.layers {
            if !stays.contains(layer.id.as_str()) && counted.insert(&layer.id) {
                bytes += layer.size;
            }
        }
    }
    bytes
}

/// Plans the tidying of pieces. What is not a leftover any more, or is protected, is refused. Containers go before the
/// images that they use.
pub fn plan_tidy(fleet: &Fleet, pieces: &[TidyPiece], rules: &Rules, now: Timestamp) -> Vec<TargetPlan> {
    let offered: BTreeMap<TidyPiece, Suggestion> =
        suggestions(fleet, rules, now).into_iter().map(|s| (s.piece.clone(), s)).collect();
    let wanted: BTreeSet<&TidyPiece> = pieces.iter().collect();
    let mut plans: Vec<TargetPlan> =
        wanted.iter().map(|p| plan_piece(fleet, p, offered.get(*p), &wanted)).collect();
    share_bytes(fleet, &mut plans);
    plans
}

fn plan_piece(
    fleet: &Fleet,
    piece: &TidyPiece,
    offered: Option<&Suggestion>,
    wanted: &BTreeSet<&TidyPiece>,
) -> TargetPlan {
    let mut plan = TargetPlan {
        host: piece.host.clone(),
        object: piece.object,
        id: piece.id.clone(),
        name: offered.map_or_else(|| crate::text::shown(&piece.id, 60), |s| s.name.clone()),
        ..TargetPlan::default()
    };
    let Some(s) = offered else {
        // An image whose only users go in the same tidying is free by then.
        match freed_image(fleet, piece, wanted) {
            Some(image) => {
                plan.name = image.tags.first().cloned().unwrap_or_else(|| plan.name.clone());
                plan.consequence = "Removed after the containers that use it.".to_owned();
                plan.removes.push(format!("image {}", plan.name));
                plan.steps = remove_names(image);
                return plan.finished();
            }
            None => {
                plan.refuse("in use or removed meanwhile; skipped");
                return plan;
            }
        }
    };
    if let Some(why) = &s.protected {
        plan.refuse(format!("it is {why}"));
        return plan;
    }
    plan.consequence.clone_from(&s.reason);
    plan.bytes = s.size;
    plan.removes.push(format!("{} {}", piece.object.word(), s.name));
    if matches!(s.leftover, Leftover::AnonymousVolume | Leftover::NamedVolume) && s.grade == Grade::LookFirst
    {
        plan.data_at_risk.push(format!("everything in the volume {}", s.name));
    }
    plan.steps = match piece.object {
        ObjectKind::Container => vec![Step::Remove { force: false, volumes: false }],
        ObjectKind::Image => {
            let images = fleet.assets_of(&piece.host).map_or(&[][..], |a| &a.images);
            images.iter().find(|i| i.id == piece.id).map(remove_names).unwrap_or_default()
        }
        ObjectKind::Volume => vec![Step::RemoveVolume { force: false }],
        ObjectKind::Network => vec![Step::RemoveNetwork],
        ObjectKind::Cache => vec![Step::EmptyCache],
    };
    plan.finished()
}

/// Removes an image name by name: by its id, an engine takes one with several names only by force, and by force some
/// take its containers too.
fn remove_names(image: &Image) -> Vec<Step> {
    let names = if image.tags.is_empty() { std::slice::from_ref(&image.id) } else { &image.tags[..] };
    let remove = |name: &String| Step::RemoveImage { image: name.clone(), force: false, keep_parents: false };
    names.iter().map(remove).collect()
}

fn freed_image<'a>(fleet: &'a Fleet, piece: &TidyPiece, wanted: &BTreeSet<&TidyPiece>) -> Option<&'a Image> {
    if piece.object != ObjectKind::Image {
        return None;
    }
    let image = fleet.assets_of(&piece.host)?.images.iter().find(|i| i.id == piece.id)?;
    let mut users = fleet.users_of(&piece.host).filter(|c| bare_id(&c.image_id) == image.id);
    let all_go = users.all(|c| {
        !c.state.is_alive()
            && wanted.contains(&TidyPiece {
                host: c.host.clone(),
                object: ObjectKind::Container,
                id: c.id.clone(),
            })
    });
    all_go.then_some(image)
}

/// The bytes that each of these images of one host wins when it goes after those before it.
pub fn shares_of_images(images: &[Image], gone: &[String]) -> Vec<u64> {
    let mut ids = BTreeSet::new();
    let mut before = 0;
    let mut shares = Vec::with_capacity(gone.len());
    for id in gone {
        ids.insert(id.as_str());
        let all = bytes_of_images(images, &ids);
        shares.push(all.saturating_sub(before));
        before = all;
    }
    shares
}

/// Gives each image of a tidying the bytes that are won when it goes after those before it.
fn share_bytes(fleet: &Fleet, plans: &mut [TargetPlan]) {
    let mut by_host: BTreeMap<String, Vec<&mut TargetPlan>> = BTreeMap::new();
    for plan in plans.iter_mut().filter(|p| p.object == ObjectKind::Image && p.refused.is_none()) {
        by_host.entry(plan.host.clone()).or_default().push(plan);
    }
    for (host, plans) in by_host {
        let Some(assets) = fleet.assets_of(&host) else { continue };
        let gone: Vec<String> = plans.iter().map(|p| p.id.clone()).collect();
        for (plan, share) in plans.into_iter().zip(shares_of_images(&assets.images, &gone)) {
            plan.bytes = Some(share);
        }
    }
}

#[cfg(test)]
#[path = "tidy_tests.rs"]
mod tests;
