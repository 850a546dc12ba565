//! Plans for images, volumes and networks. One function for each kind.

use super::request::{
    CreateNetworkRequest, CreateVolumeRequest, PullRequest, PushRequest, RemoveImageRequest,
    RemoveVolumeRequest, TagRequest,
};
use super::{ObjectKind, Step, TargetPlan};
use crate::definition::PullPolicy;

/// What is known of an object that a request names.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct KnownObject {
    /// The host.
    pub host: String,
    /// What it is.
    pub object: ObjectKind,
    /// Its id, where it is there.
    pub id: String,
    /// Its name.
    pub name: String,
    /// Whether it is there.
    pub there: bool,
    /// References of the containers that use it, with whether they run.
    pub users: Vec<(String, bool)>,
    /// Its other names.
    pub other_names: Vec<String>,
    /// Bytes that go with it.
    pub size: Option<u64>,
    /// Built-in network of the engine.
    pub built_in: bool,
    /// Why it may not be touched, e.g. a label that protects it.
    pub protected: Option<String>,
}

impl KnownObject {
    /// A plan with nothing in it yet.
    fn blank(&self) -> TargetPlan {
        TargetPlan {
            host: self.host.clone(),
            object: self.object,
            id: self.id.clone(),
            name: self.name.clone(),
            ..TargetPlan::default()
        }
    }

    fn refused(&self, why: impl Into<String>) -> TargetPlan {
        let mut plan = self.blank();
        plan.refuse(why);
        plan
    }
}

fn words(users: &[(String, bool)]) -> String {
    let mut names: Vec<&str> = users.iter().map(|(n, _)| n.as_str()).take(6).collect();
    if users.len() > 6 {
        names.push("others");
    }
    names.join(", ")
}

/// Plans that an image is fetched.
pub fn plan_pull(request: &PullRequest, known: &KnownObject) -> TargetPlan {
    let policy = request.policy.unwrap_or(PullPolicy::Always);
    let consequence = match (known.there, policy) {
        (true, PullPolicy::Always) => {
            "Pulls a newer image if the registry has one; running containers stay as they are."
        }
        (true, _) => "Already on the host; nothing is pulled.",
        (false, PullPolicy::Never) => "Not on the host, and the pull policy is never.",
        (false, _) => "Pulls it; running containers stay as they are.",
    };
    let image = request.image.clone();
    TargetPlan {
        consequence: consequence.to_owned(),
        creates: vec![format!("image {image}")],
        steps: vec![Step::Pull { image, policy, platform: request.platform.clone() }],
        ..known.blank()
    }
    .finished()
}

/// Plans that an image is sent to its registry.
pub fn plan_push(request: &PushRequest, known: &KnownObject) -> TargetPlan {
    if !known.there {
        return known.refused(format!("the host does not have the image {}", request.image));
    }
    TargetPlan {
        consequence: "Pushes its layers to the registry; an existing tag is replaced.".to_owned(),
        steps: vec![Step::Push { image: request.image.clone() }],
        ..known.blank()
    }
    .finished()
}

/// Plans that an image gets another name.
pub fn plan_tag(request: &TagRequest, known: &KnownObject) -> TargetPlan {
    let TagRequest { image, new_name } = request.clone();
    if !known.there {
        return known.refused(format!("the host does not have the image {image}"));
    }
    TargetPlan {
        consequence: format!("Adds the tag {new_name}; an image that has this tag now loses it."),
        creates: vec![format!("the name {new_name}")],
        steps: vec![Step::Tag { image, new_name }],
        ..known.blank()
    }
    .finished()
}

/// Plans that an image, or one of its names, is removed.
pub fn plan_remove_image(request: &RemoveImageRequest, known: &KnownObject) -> TargetPlan {
    if !known.there {
        return known.refused("no such image on this host");
    }
    let by_name = !known.other_names.is_empty() && known.name != known.id;
    let running: Vec<(String, bool)> = known.users.iter().filter(|(_, r)| *r).cloned().collect();
    if !running.is_empty() && !by_name {
        return known.refused(format!(
            "in use by running containers ({}); stop and remove them, or change their image first",
            words(&running)
        ));
    }
    if !known.users.is_empty() && !by_name && !request.force {
        return known.refused(format!("in use by exited containers ({}); remove them first, or use force: they could not be started again", words(&known.users)));
    }
    let consequence = if by_name {
        format!("Removes only this tag; the image stays as {}.", known.other_names.join(", "))
    } else if known.users.is_empty() {
        "Removes it with the layers that no other image uses; it can be pulled again while its registry has it.".to_owned()
    } else {
        format!("Removes it by force; {} cannot be started again.", words(&known.users))
    };
    // An image with one name goes with that name; an untagged one, or by force with all of them, by its id.
    let image = if known.name.is_empty() || (request.force && !by_name) {
        known.id.clone()
    } else {
        known.name.clone()
    };
    TargetPlan {
        consequence,
        removes: vec![format!("image {}", known.name)],
        bytes: known.size.filter(|_| !by_name),
        steps: vec![Step::RemoveImage { image, force: request.force, keep_parents: request.keep_parents }],
        ..known.blank()
    }
    .finished()
}

/// Plans that a volume is made.
pub fn plan_create_volume(request: &CreateVolumeRequest, known: &KnownObject) -> TargetPlan {
    let wish = request.volume.clone().unwrap_or_default();
    make(known, Step::CreateVolume { name: known.name.clone(), wish })
}

/// Plans that a network is made.
pub fn plan_create_network(request: &CreateNetworkRequest, known: &KnownObject) -> TargetPlan {
    let wish = request.network.clone().unwrap_or_default();
    make(known, Step::CreateNetwork { name: known.name.clone(), wish })
}

fn make(known: &KnownObject, step: Step) -> TargetPlan {
    let what = known.object.word();
    if !crate::definition::check::is_name(&known.name) {
        return known.refused(format!(
            "'{}' is not a {what}'s name: letters, digits, '_', '.' and '-', two or more",
            crate::text::shown(&known.name, 60)
        ));
    }
    if known.there {
        return known.refused(format!("this host already has a {what} '{}'", known.name));
    }
    TargetPlan {
        consequence: format!("Creates the {what}; nothing uses it yet."),
        creates: vec![format!("{what} {}", known.name)],
        steps: vec![step],
        ..known.blank()
    }
    .finished()
}

/// Plans that a volume is removed with its data.
pub fn plan_remove_volume(request: &RemoveVolumeRequest, known: &KnownObject) -> TargetPlan {
    if !known.there {
        return known.refused("no such volume on this host");
    }
    if !known.users.is_empty() {
        return known
            .refused(format!("in use by {}; remove them or their mounts first", words(&known.users)));
    }
    TargetPlan {
        consequence: "Its data is lost. No container uses it.".to_owned(),
        removes: vec![format!("volume {}", known.name)],
        data_at_risk: vec![format!("everything in the volume {}", known.name)],
        bytes: known.size,
        steps: vec![Step::RemoveVolume { force: request.force }],
        ..known.blank()
    }
    .finished()
}

/// Plans that a network is removed.
pub fn plan_remove_network(known: &KnownObject) -> TargetPlan {
    if !known.there {
        return known.refused("no such network on this host");
    }
    if known.built_in {
        return known.refused("a built-in network cannot be removed");
    }
    if !known.users.is_empty() {
        return known.refused(format!("{} are connected to it; disconnect them first", words(&known.users)));
    }
    TargetPlan {
        consequence: "Removes it; no container is connected to it.".to_owned(),
        removes: vec![format!("network {}", known.name)],
        steps: vec![Step::RemoveNetwork],
        ..known.blank()
    }
    .finished()
}

#[cfg(test)]
#[path = "objects_tests.rs"]
mod tests;
