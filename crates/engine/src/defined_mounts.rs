//! From an engine's record of a container back to its mounts. The rest is in [`crate::defined`].

use gubernum_core::definition::{MountKind, MountRule};
use serde_json::Value;

use crate::defined::{map, mount, some, text};

/// Memory that is mounted, from its options. Engines write more into their records, which they set by themselves.
fn of_memory(target: String, options: &str) -> MountRule {
    const KNOWN: [&str; 8] = ["uid", "gid", "nr_inodes", "nr_blocks", "exec", "noexec", "suid", "dev"];
    let mut tmpfs = mount(MountKind::Tmpfs, None, target, false);
    for option in options.split(',') {
        let (name, value) = option.split_once('=').unwrap_or((option, ""));
        match name {
            "size" => tmpfs.size = gubernum_core::definition::units::bytes(value),
            "mode" => tmpfs.mode = Some(value.trim_start_matches('0').to_owned()).filter(|m| !m.is_empty()),
            "ro" => tmpfs.read_only = true,
            name if KNOWN.contains(&name) => drop(tmpfs.options.insert(name.to_owned(), value.to_owned())),
            _ => {}
        }
    }
    tmpfs
}

/// What was requested at a place, in the long form; nothing where it was requested in the short one.
fn asked_for<'a>(host: &'a Value, target: &str) -> &'a Value {
    let all = host["Mounts"].as_array().into_iter().flatten();
    all.into_iter().find(|m| m["Target"] == *target).unwrap_or(&Value::Null)
}

pub(crate) fn mounts(raw: &Value, host: &Value, podman: bool) -> Vec<MountRule> {
    let mut out = Vec::new();
    // Over files that may only be read podman lays these by itself.
    let by_itself = podman && host["ReadonlyRootfs"].as_bool() == Some(true);
    const BY_ITSELF: [&str; 5] = ["/run", "/tmp", "/var/tmp", "/dev", "/dev/shm"];
    for m in raw["Mounts"].as_array().into_iter().flatten() {
        let target = text(&m["Destination"]);
        let read_only = m["RW"].as_bool() == Some(false);
        match m["Type"].as_str() {
            // An anonymous volume is named by its long name, so that its data goes along.
            Some("volume") => {
                let asked = asked_for(host, &target);
                out.push(MountRule {
                    no_copy: asked["VolumeOptions"]["NoCopy"].as_bool().unwrap_or(false),
                    subpath: some(&asked["VolumeOptions"]["Subpath"]),
                    ..mount(MountKind::Volume, some(&m["Name"]), target, read_only)
                });
            }
            Some("bind") => {
                let below = &asked_for(host, &target)["BindOptions"];
                let is = |key: &str| below[key].as_bool() == Some(true);
                let mut bind = mount(MountKind::Bind, some(&m["Source"]), target, read_only);
                bind.propagation = some(&m["Propagation"]).filter(|p| p != "rprivate");
                bind.selinux = m["Mode"]
                    .as_str()
                    .and_then(|mode| mode.split(',').find(|o| matches!(*o, "z" | "Z")).map(str::to_owned));
                bind.below = [
                    ("NonRecursive", "no"),
                    ("ReadOnlyForceRecursive", "readonly"),
                    ("ReadOnlyNonRecursive", "writable"),
                ]
                .into_iter()
                .find(|(key, _)| is(key))
                .map(|(_, word)| word.to_owned());
                out.push(bind);
            }
            Some("image") => {
                let asked = asked_for(host, &target);
                let source = some(&asked["Source"]).or_else(|| some(&m["Source"]));
                out.push(MountRule {
                    subpath: some(&asked["ImageOptions"]["Subpath"]),
                    ..mount(MountKind::Image, source, target, false)
                });
            }
            _ => {}
        }
    }
    for (target, options) in map(&host["Tmpfs"]) {
        let tmpfs = of_memory(target, &options);
        if by_itself && tmpfs.size.is_none() && BY_ITSELF.contains(&tmpfs.target.as_str()) {
            continue;
        }
        out.push(tmpfs);
    }
    for m in host["Mounts"].as_array().into_iter().flatten().filter(|m| m["Type"] == "tmpfs") {
        let mut tmpfs = mount(MountKind::Tmpfs, None, text(&m["Target"]), false);
        tmpfs.size = m["TmpfsOptions"]["SizeBytes"].as_u64().filter(|s| *s > 0);
        tmpfs.mode = m["TmpfsOptions"]["Mode"].as_u64().filter(|m| *m > 0).map(|mode| format!("{mode:o}"));
        out.push(tmpfs);
    }
    out.sort_by(|a, b| a.target.cmp(&b.target));
    out.dedup_by(|a, b| a.target == b.target);
    out
}
