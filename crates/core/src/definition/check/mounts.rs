//! Checks the mounts of a definition.

use super::*;
use crate::definition::NewFolder;

impl Checker<'_> {
    pub(super) fn mounts(&mut self) {
        let mut targets = BTreeSet::new();
        for (n, m) in self.d.mounts.iter().enumerate() {
            let field = format!("/mounts/{n}");
            if !m.target.starts_with('/') || m.target == "/" || m.target.split('/').any(|p| p == "..") {
                self.error(
                    format!("{field}/target"),
                    format!(
                        "'{}' is not a path in the container: start it with '/', not '/' alone, without '..'",
                        shown(&m.target, 80)
                    ),
                );
            } else if !targets.insert(m.target.trim_end_matches('/')) {
                self.error(
                    format!("{field}/target"),
                    format!("'{}' already has a mount", shown(&m.target, 80)),
                );
            }
            match (m.kind, m.source.as_deref()) {
                (MountKind::Volume, Some(name)) => self.volume(&field, n, name),
                (MountKind::Bind, Some(path)) => self.bind(&field, n, path),
                (MountKind::Bind, None) => {
                    self.error(format!("{field}/source"), "a bind mount needs a path on the host")
                }
                _ => {}
            }
        }
    }

    fn volume(&mut self, field: &str, n: usize, name: &str) {
        let m = &self.d.mounts[n];
        if !is_name(name) {
            let sentence = if name.contains('/') {
                format!(
                    "'{}' is a path, not a volume's name; choose a folder of the host instead of a volume",
                    shown(name, 80)
                )
            } else {
                format!("'{}' is not a volume's name", shown(name, 80))
            };
            return self.error(format!("{field}/source"), sentence);
        }
        let Some(there) = self.context.assets.and_then(|a| a.volumes.iter().find(|v| v.name == name)) else {
            return;
        };
        let driver = m.driver.as_deref().unwrap_or(&there.driver);
        let other_options = !m.options.is_empty() && m.options != there.options;
        if driver != there.driver || other_options {
            let sentence = format!(
                "the volume '{name}' already exists with other options (driver {}{}); leave the options out to use it as it is, or choose another name",
                there.driver,
                options_words(&there.options)
            );
            self.error(format!("{field}/source"), sentence);
        }
        let users: Vec<&str> = self
            .context
            .containers
            .iter()
            .filter(|c| Some(c.id.as_str()) != self.context.replaces && c.state.is_alive())
            .filter(|c| c.mounts.iter().any(|x| x.kind == "volume" && x.source == name && !x.read_only))
            .map(|c| c.name.as_str())
            .collect();
        if !users.is_empty() && !m.read_only {
            let sentence = format!("the volume '{name}' is also written by {}", users.join(", "));
            self.warn(format!("{field}/source"), sentence);
        }
    }

    fn bind(&mut self, field: &str, n: usize, path: &str) {
        let m = &self.d.mounts[n];
        let at = format!("{field}/source");
        if !path.starts_with('/') || path.split('/').any(|p| p == "..") {
            return self.error(
                at,
                format!(
                    "'{}' is not an absolute path on the host: start it with '/', without '..'",
                    shown(path, 80)
                ),
            );
        }
        if let Some(mode) = m.make.as_ref().and_then(|x| x.mode.as_deref())
            && !(matches!(mode.len(), 3 | 4) && mode.bytes().all(|b| (b'0'..=b'7').contains(&b)))
        {
            self.error(
                format!("{field}/make/mode"),
                format!("'{}' is not a mode: three or four digits from 0 to 7, e.g. 755", shown(mode, 20)),
            );
        }
        match self.context.paths.get(path) {
            Some(PathEntry::Nothing) if m.make.is_none() => {
                let sentence = format!(
                    "'{}' does not exist on {}; create the folder, or correct the path",
                    shown(path, 120),
                    self.host_name()
                );
                self.say(Weight::Error, at, sentence, None);
            }
            // Who asks for a folder of a certain owner means no file.
            Some(PathEntry::File)
                if m.target.ends_with('/')
                    || m.make.as_ref().is_some_and(|make| *make != NewFolder::default()) =>
            {
                self.error(
                    at,
                    format!("'{}' is a file on {}, a folder is needed", shown(path, 120), self.host_name()),
                );
            }
            Some(PathEntry::File)
                if !m.target.rsplit('/').next().unwrap_or_default().contains('.')
                    && !path.rsplit('/').next().unwrap_or_default().contains('.') =>
            {
                self.warn(
                    at,
                    format!(
                        "'{}' is a file on {}; it is mounted as a file",
                        shown(path, 120),
                        self.host_name()
                    ),
                );
            }
            _ => {}
        }
        if matches!(path, "/" | "/etc" | "/root" | "/proc" | "/sys") && !m.read_only {
            self.warn(
                format!("{field}/source"),
                format!("with '{path}' writable the container can change the whole host"),
            );
        }
    }
}

fn options_words(options: &BTreeMap<String, String>) -> String {
    let words: Vec<String> = options.iter().map(|(k, v)| format!("{k}={}", shown(v, 40))).collect();
    if words.is_empty() { String::new() } else { format!(", {}", words.join(", ")) }
}
