//! Plans for what a host holds besides containers: images, volumes, networks, and tidying.

use super::request::{Kind, Request};
use super::{ObjectKind, Step, TargetPlan};
use crate::definition::PullPolicy;

/// What is known of a thing that a request names.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Thing {
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
    /// The engine makes it by itself.
    pub built_in: bool,
    /// Why it may not be touched, e.g. a label that protects it.
    pub protected: Option<String>,
}

/// Plans a request for a thing that is not a container.
pub fn plan_thing(request: &Request, thing: &Thing) -> TargetPlan {
    let mut plan = TargetPlan {
        host: thing.host.clone(),
        object: thing.object,
        id: thing.id.clone(),
        name: thing.name.clone(),
        ..TargetPlan::default()
    };
    match request.kind {
        Kind::Pull => pull(request, thing, &mut plan),
        Kind::Push => push(request, thing, &mut plan),
        Kind::Tag => tag(request, thing, &mut plan),
        Kind::RemoveImage => remove_image(request, thing, &mut plan),
        Kind::MakeVolume | Kind::MakeNetwork => make(request, thing, &mut plan),
        Kind::RemoveVolume => remove_volume(request, thing, &mut plan),
        Kind::RemoveNetwork => remove_network(thing, &mut plan),
        _ => plan.refuse("this cannot be planned for a thing of this kind"),
    }
    plan.finished()
}

fn words(users: &[(String, bool)]) -> String {
    let mut names: Vec<&str> = users.iter().map(|(n, _)| n.as_str()).take(6).collect();
    if users.len() > 6 {
        names.push("others");
    }
    names.join(", ")
}

fn pull(request: &Request, thing: &Thing, plan: &mut TargetPlan) {
    let Some(image) = request.image.clone() else { return };
    let policy = request.policy.unwrap_or(PullPolicy::Always);
    plan.consequence = match (thing.there, policy) {
        (true, PullPolicy::Always) => {
            "It is compared with the registry and fetched if there is a newer one; what runs stays as it is."
                .to_owned()
        }
        (true, _) => "The host has it already; nothing is fetched.".to_owned(),
        (false, PullPolicy::Never) => "The host does not have it, and it is not to be fetched.".to_owned(),
        (false, _) => "It is fetched; nothing that runs changes.".to_owned(),
    };
    plan.creates.push(format!("image {image}"));
    plan.steps.push(Step::Pull { image, policy, platform: request.platform.clone() });
}

fn push(request: &Request, thing: &Thing, plan: &mut TargetPlan) {
    let Some(image) = request.image.clone() else { return };
    if !thing.there {
        plan.refuse(format!("the host does not have the image {image}"));
        return;
    }
    plan.consequence = "Its layers are sent to the registry; a tag that is there is replaced.".to_owned();
    plan.steps.push(Step::Push { image });
}

fn tag(request: &Request, thing: &Thing, plan: &mut TargetPlan) {
    let (Some(image), Some(new_name)) = (request.image.clone(), request.new_name.clone()) else { return };
    if !thing.there {
        plan.refuse(format!("the host does not have the image {image}"));
        return;
    }
    plan.consequence =
        format!("The image gets the name {new_name} too; an image that has that name now loses it.");
    plan.creates.push(format!("the name {new_name}"));
    plan.steps.push(Step::Tag { image, new_name });
}

fn remove_image(request: &Request, thing: &Thing, plan: &mut TargetPlan) {
    if !thing.there {
        plan.refuse("there is no such image on this host");
        return;
    }
    let by_name = !thing.other_names.is_empty() && thing.name != thing.id;
    let running: Vec<(String, bool)> = thing.users.iter().filter(|(_, r)| *r).cloned().collect();
    if !running.is_empty() && !by_name {
        plan.refuse(format!(
            "it is used by {}, which run; stop and remove them, or put them on another image first",
            words(&running)
        ));
        return;
    }
    if !thing.users.is_empty() && !by_name && !request.force {
        plan.refuse(format!("it is used by {}, which have ended; remove them first, or force it: they could not be started again", words(&thing.users)));
        return;
    }
    plan.removes.push(format!("image {}", thing.name));
    plan.bytes = thing.size.filter(|_| !by_name);
    plan.consequence = if by_name {
        format!("Only this name is taken away; the image stays as {}.", thing.other_names.join(", "))
    } else if thing.users.is_empty() {
        "It is taken away with the layers that no other image uses; it can be fetched again as long as its registry has it.".to_owned()
    } else {
        format!("It is taken away by force; {} cannot be started again.", words(&thing.users))
    };
    // An image with one name goes with that name; an untagged one, or by force with all of them, by its id.
    let image = if thing.name.is_empty() || (request.force && !by_name) {
        thing.id.clone()
    } else {
        thing.name.clone()
    };
    plan.steps.push(Step::RemoveImage { image, force: request.force, keep_parents: request.keep_parents });
}

fn make(request: &Request, thing: &Thing, plan: &mut TargetPlan) {
    let what = thing.object.word();
    if !crate::definition::check::is_name(&thing.name) {
        plan.refuse(format!(
            "`{}` is not a {what}'s name: letters, digits, `_`, `.` and `-`, two or more",
            crate::text::shown(&thing.name, 60)
        ));
        return;
    }
    if thing.there {
        plan.refuse(format!("there is a {what} `{}` on this host already", thing.name));
        return;
    }
    plan.creates.push(format!("{what} {}", thing.name));
    plan.consequence = format!("The {what} is made; nothing uses it yet.");
    plan.steps.push(if request.kind == Kind::MakeVolume {
        Step::MakeVolume { name: thing.name.clone(), wish: request.volume.clone().unwrap_or_default() }
    } else {
        Step::MakeNetwork { name: thing.name.clone(), wish: request.network.clone().unwrap_or_default() }
    });
}

fn remove_volume(request: &Request, thing: &Thing, plan: &mut TargetPlan) {
    if !thing.there {
        plan.refuse("there is no such volume on this host");
        return;
    }
    if !thing.users.is_empty() {
        plan.refuse(format!(
            "it is used by {}; remove them, or take the mount away from them, first",
            words(&thing.users)
        ));
        return;
    }
    plan.removes.push(format!("volume {}", thing.name));
    plan.data_at_risk.push(format!("everything in the volume {}", thing.name));
    plan.bytes = thing.size;
    plan.consequence = "Its data is lost; no container uses it.".to_owned();
    plan.steps.push(Step::RemoveVolume { force: request.force });
}

fn remove_network(thing: &Thing, plan: &mut TargetPlan) {
    if !thing.there {
        plan.refuse("there is no such network on this host");
        return;
    }
    if thing.built_in {
        plan.refuse("the engine makes this network by itself; it cannot be removed");
        return;
    }
    if !thing.users.is_empty() {
        plan.refuse(format!("{} are in it; take them out first", words(&thing.users)));
        return;
    }
    plan.removes.push(format!("network {}", thing.name));
    plan.consequence = "It is taken away; no container is in it.".to_owned();
    plan.steps.push(Step::RemoveNetwork);
}

#[cfg(test)]
#[path = "things_tests.rs"]
mod tests;
