//! Paths in Compose files, relative to the stack's folder.
//!
//! A text may lie in a folder below; what it names is said from there. Once a text is in its long form, [`anchor`] rewrites
//! its paths so that all of a stack's files mean the same folder. Not here: which files there are ([`super::load`]).

use super::canonical::Findings;
use crate::text::shown;
use crate::yaml::{Key, Node, Value};

/// The folder of a file; empty for the stack's own.
pub(super) fn folder_of(path: &str) -> &str {
    path.rsplit_once('/').map_or("", |(folder, _)| folder)
}

/// A relative path, seen from a folder, as one from the stack's folder: without `.` and `..`. `None` when it leaves that
/// folder or is not relative.
///
/// ```
/// use gubernum_core::compose::joined;
/// assert_eq!(joined("site", "../conf/./a.env").as_deref(), Some("conf/a.env"));
/// assert_eq!(joined("site", "../../a.env"), None);
/// ```
pub fn joined(folder: &str, path: &str) -> Option<String> {
    if path.starts_with(['/', '~']) {
        return None;
    }
    let mut parts: Vec<&str> = Vec::new();
    for part in folder.split('/').chain(path.split('/')) {
        match part {
            "" | "." => {}
            ".." => drop(parts.pop()?),
            part => parts.push(part),
        }
    }
    Some(parts.join("/"))
}

/// Whether a build context is remote: a Git repository or a URL.
pub(super) fn is_remote(context: &str) -> bool {
    ["http://", "https://", "git://", "ssh://", "git@"].iter().any(|begin| context.starts_with(begin))
}

struct Anchor<'a> {
    folder: &'a str,
    findings: &'a mut Findings,
}

impl Anchor<'_> {
    /// Rewrites one path. Absolute ones are the host's where `on_host`; else they cannot be reached.
    fn path(&mut self, node: &mut Node, on_host: bool) {
        let Some(path) = node.scalar().map(std::borrow::Cow::into_owned) else { return };
        if path.starts_with('/') && on_host {
            return;
        }
        let sentence = match joined(self.folder, &path) {
            Some(path) if on_host => return node.value = Value::Text(format!("./{path}")),
            Some(path) => return node.value = Value::Text(path),
            None if path.starts_with('~') => format!(
                "'{}' starts in a home folder, which a host cannot know; write an absolute path",
                shown(&path, 120)
            ),
            None if path.starts_with('/') => format!(
                "'{}' is outside the stack's folder; put the file beside the stack and write a relative path",
                shown(&path, 120)
            ),
            None => format!(
                "'{}' leaves the stack's folder; move it there, or write an absolute path",
                shown(&path, 120)
            ),
        };
        self.findings.tell(node.wrong(sentence));
        // Told once; nobody looks for it any more.
        node.value = Value::Null;
    }

    fn each(&mut self, list: Option<&mut Node>, mut rewrite: impl FnMut(&mut Self, &mut Node)) {
        if let Some(Node { value: Value::List(items), .. }) = list {
            items.iter_mut().for_each(|item| rewrite(self, item));
        }
    }

    fn service(&mut self, service: &mut Node) {
        self.each(field(service, "volumes"), |this, volume| {
            let kind = volume.get("type").and_then(Node::scalar).map(std::borrow::Cow::into_owned);
            if kind.as_deref() == Some("bind")
                && let Some(source) = field(volume, "source")
            {
                this.path(source, true);
            }
        });
        self.each(field(service, "env_file"), |this, file| {
            if let Some(path) = field(file, "path") {
                this.path(path, false);
            }
        });
        self.each(field(service, "label_file"), |this, path| this.path(path, false));
        if let Some(context) = field(service, "build").and_then(|b| field(b, "context"))
            && !context.scalar().is_some_and(|c| is_remote(&c))
        {
            self.path(context, false);
        }
        if let Some(file) = field(service, "extends").and_then(|e| field(e, "file")) {
            self.path(file, false);
        }
    }
}

/// The value of a key that may be changed.
pub(super) fn field<'a>(node: &'a mut Node, name: &str) -> Option<&'a mut Node> {
    match &mut node.value {
        Value::Map(entries) => entries.iter_mut().find(|(key, _)| key.text == name).map(|(_, value)| value),
        _ => None,
    }
}

/// The keys and values of a mapping below a key, to be changed.
pub(super) fn entries_of<'a>(node: &'a mut Node, name: &str) -> &'a mut [(Key, Node)] {
    match field(node, name).map(|n| &mut n.value) {
        Some(Value::Map(entries)) => entries,
        _ => &mut [],
    }
}

/// Rewrites the paths of a text in its long form, which are seen from `folder`.
pub(super) fn anchor(file: &mut Node, folder: &str, findings: &mut Findings) {
    let mut anchor = Anchor { folder, findings };
    for (_, service) in entries_of(file, "services") {
        anchor.service(service);
    }
    for section in ["configs", "secrets"] {
        for (_, source) in entries_of(file, section) {
            if let Some(path) = field(source, "file") {
                anchor.path(path, true);
            }
        }
    }
    if let Some(Node { value: Value::List(includes), .. }) = field(file, "include") {
        for include in includes {
            for name in ["path", "env_file"] {
                anchor.each(field(include, name), |this, path| this.path(path, false));
            }
            if let Some(folder) = field(include, "project_directory") {
                anchor.path(folder, false);
            }
        }
    }
}
