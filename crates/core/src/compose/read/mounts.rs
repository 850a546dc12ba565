//! Reads the mounts of a service.

use super::fields::{file_mode, flag, items, pairs, size, text, texts};
use super::{OWNER_KEY, Reader};
use crate::definition::{MountKind, MountRule, NewFolder};
use crate::text::shown;
use crate::yaml::Node;

impl Reader {
    pub(super) fn mounts(&mut self, node: &Node) -> Vec<MountRule> {
        let mut all: Vec<MountRule> = items(node, "volumes").iter().filter_map(|m| self.mount(m)).collect();
        for (item, written) in items(node, "tmpfs").iter().zip(texts(node, "tmpfs")) {
            let (target, options) = written.split_once(':').unwrap_or((&written, ""));
            let mut mount =
                MountRule { kind: MountKind::Tmpfs, target: target.to_owned(), ..MountRule::default() };
            for option in options.split(',').filter(|o| !o.is_empty()) {
                let fits = match option.split_once('=') {
                    Some(("size", size)) => {
                        mount.size = crate::definition::units::bytes(size);
                        mount.size.is_some()
                    }
                    Some(("mode", mode)) => {
                        mount.mode = crate::compose::canonical::mode(mode).map(|mode| format!("{mode:o}"));
                        mount.mode.is_some()
                    }
                    Some((name, value)) => {
                        mount.options.insert(name.to_owned(), value.to_owned());
                        true
                    }
                    None if option == "ro" => {
                        mount.read_only = true;
                        true
                    }
                    None => {
                        mount.options.insert(option.to_owned(), String::new());
                        true
                    }
                };
                if !fits {
                    let sentence = format!(
                        "'{}' is not a valid tmpfs option; write for example 'size=64m'",
                        shown(option, 60)
                    );
                    self.tell(item.wrong(sentence));
                }
            }
            if !target.starts_with('/') {
                let sentence = format!("'{}' is not an absolute path in the container", shown(target, 80));
                self.tell(item.wrong(sentence));
            }
            all.push(mount);
        }
        all
    }

    fn mount(&mut self, node: &Node) -> Option<MountRule> {
        let Some(target) = text(node, "target") else {
            self.tell(node.wrong("a service's volume needs a 'target', its path in the container"));
            return None;
        };
        let kind = match text(node, "type").as_deref() {
            Some("volume") | None => MountKind::Volume,
            Some("bind") => MountKind::Bind,
            Some("tmpfs") => MountKind::Tmpfs,
            Some("image") => MountKind::Image,
            Some(other) => {
                let place = node.get("type").unwrap_or(node);
                self.tell(place.wrong(format!(
                    "mounts of type '{}' do not work with Linux containers; use 'volume' or 'bind'",
                    shown(other, 40)
                )));
                return None;
            }
        };
        let mut mount = MountRule {
            kind,
            source: text(node, "source"),
            target,
            read_only: flag(node, "read_only").unwrap_or(false),
            ..MountRule::default()
        };
        if let (MountKind::Volume, Some(name)) = (kind, &mount.source)
            && !super::is_key(name)
        {
            let place = node.get("source").unwrap_or(node);
            self.tell(place.wrong(format!(
                "'{}' is not a valid volume name; use letters, digits, '.', '-' and '_', or an absolute path on the host",
                shown(name, 60)
            )));
        }
        if matches!(kind, MountKind::Bind | MountKind::Image) && mount.source.is_none() {
            let what = if kind == MountKind::Bind { "a path on the host" } else { "an image" };
            self.tell(node.wrong(format!("'source' is missing, {what}")));
        }
        if let Some(bind) = node.get("bind") {
            mount.propagation = text(bind, "propagation");
            mount.selinux = text(bind, "selinux");
            mount.below = self.below(bind);
        }
        if kind == MountKind::Bind {
            mount.make = self.new_folder(node.get("bind"));
        }
        if let Some(volume) = node.get("volume") {
            mount.no_copy = flag(volume, "nocopy").unwrap_or(false);
            mount.subpath = text(volume, "subpath");
            mount.labels = pairs(volume, "labels");
        }
        if let Some(image) = node.get("image") {
            mount.subpath = text(image, "subpath");
        }
        if let Some(tmpfs) = node.get("tmpfs") {
            mount.size = size(tmpfs, "size");
            mount.mode = file_mode(tmpfs, "mode").map(|mode| format!("{mode:o}"));
        }
        Some(mount)
    }

    /// What becomes of what is mounted below a bind mount.
    fn below(&mut self, bind: &Node) -> Option<String> {
        match text(bind, "recursive")?.as_str() {
            "enabled" => None,
            "disabled" => Some("no".to_owned()),
            "readonly" => Some("readonly".to_owned()),
            "writable" => Some("writable".to_owned()),
            other => {
                let place = bind.get("recursive").unwrap_or(bind);
                self.tell(place.wrong(format!(
                    "'recursive' must be enabled, disabled, writable or readonly, not '{}'",
                    shown(other, 40)
                )));
                None
            }
        }
    }

    /// The folder that is made for a bind mount where there is nothing; unless the text says otherwise there is one.
    fn new_folder(&mut self, bind: Option<&Node>) -> Option<NewFolder> {
        let Some(bind) = bind else { return Some(NewFolder::default()) };
        let owner = text(bind, OWNER_KEY);
        if !flag(bind, "create_host_path").unwrap_or(true) && owner.is_none() {
            return None;
        }
        let owner = owner.unwrap_or_default();
        let mut parts = owner.split(':');
        let mut id = || parts.next().filter(|p| !p.is_empty()).map_or(Ok(0), str::parse::<u32>);
        let (Ok(user), Ok(group)) = (id(), id()) else {
            let place = bind.get(OWNER_KEY).unwrap_or(bind);
            self.tell(
                place.wrong("the owner of a new folder is 'user:group' or 'user:group:mode', in numbers"),
            );
            return None;
        };
        Some(NewFolder { user, group, mode: parts.next().map(str::to_owned) })
    }
}
