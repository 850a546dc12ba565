//! What a definition asks for beyond the container itself: access to its host or to other containers. A member who
//! may deploy only a stack or a label may not ask for it, as it would give them the whole host.

use crate::definition::{Definition, MountKind};

/// Security options that only restrict.
const HARMLESS_SECURITY: [&str; 2] = ["no-new-privileges", "no-new-privileges:true"];

/// What of a definition reaches beyond the container, each as the end of "it asks for …". `owns` says of a volume (`true`) or
/// network (`false`) of that name whether it may be used: it belongs to the same part of the fleet, or is not there
/// yet.
pub fn host_access(definition: &Definition, owns: impl Fn(bool, &str) -> bool) -> Vec<String> {
    let rights = &definition.rights;
    let mut found = Vec::new();
    let mut note = |is_so: bool, what: String| {
        if is_so {
            found.push(what);
        }
    };
    note(rights.privileged, "privileged mode".to_owned());
    note(!rights.add.is_empty(), format!("the capabilities {}", rights.add.join(", ")));
    note(
        !rights.devices.is_empty() || !rights.device_rules.is_empty() || rights.gpus.is_some(),
        "devices of the host".to_owned(),
    );
    let loosened = rights.security.iter().find(|option| !HARMLESS_SECURITY.contains(&option.as_str()));
    note(loosened.is_some(), format!("the security option {}", loosened.map_or("", String::as_str)));
    for (of, what) in [
        (&rights.processes_of, "processes"),
        (&rights.memory_of, "memory"),
        (&rights.hostname_of, "host name"),
        (&rights.groups_of, "control groups"),
        (&rights.users_of, "users"),
        (&definition.network.mode, "network"),
    ] {
        if let Some(of) = of.as_deref().filter(|of| is_anothers(of)) {
            note(true, format!("the {what} of {of}"));
        }
    }
    note(definition.runtime.is_some(), "another runtime".to_owned());
    note(definition.log.driver.is_some(), "another log driver".to_owned());
    for mount in &definition.mounts {
        let source = mount.source.as_deref().unwrap_or_default();
        match mount.kind {
            MountKind::Bind => note(true, format!("the folder {source} of the host")),
            MountKind::Volume => {
                // The options of a local volume can make it any folder or share.
                note(
                    !mount.options.is_empty() || mount.driver.as_deref().is_some_and(|d| d != "local"),
                    format!("options of the volume {source}"),
                );
                note(!source.is_empty() && !owns(true, source), format!("the volume {source}"));
            }
            MountKind::Tmpfs | MountKind::Image => {}
        }
    }
    for network in &definition.network.networks {
        note(!owns(false, &network.name), format!("the network {}", network.name));
    }
    found
}

/// Whether a namespace is the host's or another container's.
fn is_anothers(of: &str) -> bool {
    of == "host" || of.starts_with("container:") || of.starts_with("ns:")
}
