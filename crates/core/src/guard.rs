//! Guarded changes: which changes are dangerous, and what a team can require before one is made. Who stepped up, and
//! what was approved, is the service's.

use serde::{Deserialize, Serialize};

use crate::definition::{Definition, MountKind};
use crate::plan::{Kind, Step, TargetPlan};
use crate::preferences::Preferences;
use crate::rights::Right;

/// What a dangerous change requires.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
#[derive(strum::IntoStaticStr, strum::EnumString, strum::VariantArray, strum::Display)]
#[strum(serialize_all = "kebab-case")]
pub enum Guard {
    /// Nothing more than the right.
    #[default]
    None,
    /// The password or a code of the second factor, shown lately.
    StepUp,
    /// The word of a second member who may do it too.
    Approval,
}

/// Why a change is guarded.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
#[derive(strum::IntoStaticStr, strum::EnumString, strum::VariantArray, strum::Display)]
#[strum(serialize_all = "kebab-case")]
pub enum GuardedChange {
    /// Volumes go with their data.
    RemoveVolumes,
    /// A shell or a command as root in a container.
    RootShell,
    /// A container that reaches into its host: privileged, with devices, folders or namespaces of the host.
    HostReach,
    /// Members, roles, invitations and directories change.
    Members,
}

impl GuardedChange {
    /// All of them, in the order in which they are shown.
    pub const ALL: &[Self] = <Self as strum::VariantArray>::VARIANTS;

    /// The word used in the API and the records.
    pub fn word(self) -> &'static str {
        self.into()
    }

    /// What is done, as the beginning of a sentence.
    pub fn deed(self) -> &'static str {
        match self {
            Self::RemoveVolumes => "removing volumes",
            Self::RootShell => "a shell as root",
            Self::HostReach => "a container with access to its host",
            Self::Members => "changing members",
        }
    }

    /// The right that it needs, and that the approver has on the whole fleet.
    pub fn right(self) -> Right {
        match self {
            Self::RemoveVolumes => Right::Remove,
            Self::RootShell => Right::Shell,
            Self::HostReach => Right::Deploy,
            Self::Members => Right::Members,
        }
    }

    /// What a team asks for before it.
    pub fn guard(self, preferences: &Preferences) -> Guard {
        match self {
            Self::RemoveVolumes => preferences.guard_remove_volumes,
            Self::RootShell => preferences.guard_root_shell,
            Self::HostReach => preferences.guard_host_reach,
            Self::Members => preferences.guard_members,
        }
    }
}

/// The dangers of which other settings would ask for less than these do.
pub fn weakened(before: &Preferences, after: &Preferences) -> Vec<GuardedChange> {
    GuardedChange::ALL.iter().copied().filter(|danger| danger.guard(after) < danger.guard(before)).collect()
}

/// Whether a planned change removes volumes that somebody may have put data into.
pub fn removes_volumes(kind: Kind, plan: &TargetPlan) -> bool {
    // What a job or a replacement leaves behind is nobody's.
    let is_wished = matches!(
        kind,
        Kind::Remove | Kind::RemoveVolume | Kind::RemoveStack | Kind::Tidy | Kind::Move | Kind::Apply
    );
    let removes =
        |step: &Step| matches!(step, Step::RemoveVolume { .. } | Step::Remove { volumes: true, .. });
    is_wished && plan.steps.iter().any(removes)
}

/// Whether a program that is started as this user runs as root, where the image or definition says `default` of who does.
pub fn is_root(user: Option<&str>, default: Option<&str>) -> bool {
    let named = user.filter(|u| !u.is_empty()).or(default).unwrap_or_default();
    let name = named.split(':').next().unwrap_or_default();
    // `00` and `+0` are 0 to a number parser.
    name.is_empty() || name == "root" || name.trim_start_matches('+').parse::<u64>().is_ok_and(|id| id == 0)
}

/// What of a container reaches into its host, each as the end of "it asks for …".
pub fn host_reach(definition: &Definition) -> Vec<String> {
    let rights = &definition.rights;
    let mut found = Vec::new();
    if rights.privileged {
        found.push("privileged mode".to_owned());
    }
    if !rights.devices.is_empty() || !rights.device_rules.is_empty() {
        found.push("devices of the host".to_owned());
    }
    for capability in &rights.add {
        found.push(format!("the capability {capability}"));
    }
    for (of, what) in [
        (&rights.processes_of, "processes"),
        (&rights.memory_of, "memory"),
        (&rights.groups_of, "control groups"),
        (&rights.users_of, "users"),
        (&definition.network.mode, "network"),
    ] {
        if of.as_deref() == Some("host") {
            found.push(format!("the {what} of the host"));
        }
    }
    for mount in &definition.mounts {
        let source = mount.source.as_deref().unwrap_or_default();
        if mount.kind == MountKind::Bind {
            found.push(format!("the folder {source} of the host"));
        }
        // The options of a local volume can make it any folder of the host.
        if mount.kind == MountKind::Volume && mount.options.values().any(|value| value.starts_with('/')) {
            found.push(format!("options of the volume {source}"));
        }
    }
    found
}

/// What a planned change asks for that reaches into the host, and did not before. `next` is what the container will be, `current` what
/// it is.
pub fn new_reach(plan: &TargetPlan, next: Option<&Definition>, current: Option<&Definition>) -> Vec<String> {
    let before = current.map(host_reach).unwrap_or_default();
    let mut found = next.map(host_reach).unwrap_or_default();
    for step in &plan.steps {
        if let Step::CreateVolume { name, wish } = step
            && wish.options.values().any(|value| value.starts_with('/'))
        {
            found.push(format!("options of the volume {name}"));
        }
    }
    found.retain(|what| !before.contains(what));
    found
}

#[cfg(test)]
#[path = "guard_tests.rs"]
mod tests;
