//! Mounts in the short and the long form of the Compose Specification.

use super::nodes::*;
use super::*;

pub(super) fn plain_mount(kind: MountKind, source: Option<String>, target: String) -> MountRule {
    MountRule {
        kind,
        source,
        target,
        read_only: false,
        make: None,
        propagation: None,
        size: None,
        driver: None,
        options: BTreeMap::new(),
    }
}

pub(super) fn short_mount(item: &Node) -> Result<MountRule> {
    let text = string(item, "volumes")?;
    let mut parts = text.split(':');
    let first = parts.next().unwrap_or_default().to_owned();
    let Some(target) = parts.next() else {
        return Ok(plain_mount(MountKind::Volume, None, first));
    };
    let bind = first.starts_with(['/', '.', '~']);
    if bind && !first.starts_with('/') {
        let sentence = format!(
            "`{}` begins where this text lies, which no host knows; write the whole path from `/`",
            shown(&first, 80)
        );
        return Err(item.wrong(sentence));
    }
    let mut mount =
        plain_mount(if bind { MountKind::Bind } else { MountKind::Volume }, Some(first), target.to_owned());
    for option in parts.next().unwrap_or_default().split(',').filter(|o| !o.is_empty()) {
        match option {
            "ro" => mount.read_only = true,
            "rw" | "z" | "Z" | "nocopy" | "cached" | "delegated" | "consistent" => {}
            "shared" | "slave" | "private" | "rshared" | "rslave" | "rprivate" => {
                mount.propagation = Some(option.to_owned())
            }
            other => return Err(item.wrong(format!("`{}` is not an option of a mount", shown(other, 40)))),
        }
    }
    Ok(mount)
}

pub(super) fn long_mount(item: &Node, entries_of: &[(String, Node)]) -> Result<MountRule> {
    let kind = match item.get("type").and_then(Node::scalar).as_deref() {
        Some("volume") | None => MountKind::Volume,
        Some("bind") => MountKind::Bind,
        Some("tmpfs") => MountKind::Tmpfs,
        Some(other) => {
            return Err(
                item.wrong(format!("`{}` is not a type of mount: volume, bind or tmpfs", shown(other, 40)))
            );
        }
    };
    let mut mount = plain_mount(kind, None, String::new());
    for (k, v) in entries_of {
        match k.as_str() {
            "type" | "consistency" | "volume" => {}
            "source" | "src" => mount.source = Some(string(v, k)?),
            "target" | "destination" | "dst" => mount.target = string(v, k)?,
            "read_only" => mount.read_only = truth(v, k)?,
            "bind" => {
                mount.propagation = v.get("propagation").and_then(Node::scalar);
                let owner = v.get(OWNER_KEY).and_then(Node::scalar);
                let create = v.get("create_host_path").map(|c| truth(c, "create_host_path")).transpose()?;
                if create == Some(true) || owner.is_some() {
                    let owner = owner.unwrap_or_default();
                    let mut parts = owner.split(':');
                    let mut id = || parts.next().filter(|p| !p.is_empty()).map_or(Ok(0), str::parse);
                    let wrong = |_| {
                        v.wrong("the owner of a new folder is `user:group` or `user:group:mode`, in numbers")
                    };
                    let (user, group) = (id().map_err(wrong)?, id().map_err(wrong)?);
                    mount.make = Some(NewFolder { user, group, mode: parts.next().map(str::to_owned) });
                }
            }
            "tmpfs" => mount.size = v.get("size").map(|s| size(s, "size")).transpose()?,
            other => {
                return Err(unknown(
                    v,
                    other,
                    "a mount",
                    &["type", "source", "target", "read_only", "bind", "volume", "tmpfs"],
                ));
            }
        }
    }
    if mount.target.is_empty() {
        return Err(item.wrong("a mount needs a `target`, the path inside the container"));
    }
    Ok(mount)
}
