//! Configs and secrets of a service, with their contents.

use super::desired::{LARGEST_FILE, Maker, PlacedFile};
use crate::compose::model::{FileSource, FileUse, Service};
use crate::text::shown;

impl Maker<'_> {
    /// Its configs and secrets with what is in them.
    pub(super) fn files(&mut self, key: &str, service: &Service) -> Vec<PlacedFile> {
        let stack = self.wish.stack;
        let mut all = Vec::new();
        for (section, uses, sources) in
            [("configs", &service.configs, &stack.configs), ("secrets", &service.secrets, &stack.secrets)]
        {
            for used in uses {
                let Some(source) = sources.get(&used.source) else { continue };
                if let Some(content) = self.content(section, &used.source, source) {
                    all.push(placed(used, content));
                } else if self.errors.is_empty() {
                    self.cannot(&["services", key, section], "its content is unknown");
                }
            }
        }
        if !all.is_empty() && service.container.rights.read_only {
            self.cannot(
                &["services", key, "read_only"],
                "configs and secrets are copied into the container, whose root filesystem is read-only; remove 'read_only', or mount a volume",
            );
        }
        all.sort_by(|a, b| a.path.cmp(&b.path));
        all
    }

    fn content(&mut self, section: &'static str, key: &str, source: &FileSource) -> Option<Vec<u8>> {
        let given = self.wish.given;
        let found = match source {
            FileSource::Content(text) => Ok(text.clone()),
            FileSource::Environment(name) => given.variables.get(name).cloned().ok_or_else(|| {
                let name = shown(name, 60);
                format!("the variable '{name}' has no value; set it with '--variable {name}=…'")
            }),
            FileSource::File(path) => {
                let path = path.strip_prefix("./").unwrap_or(path);
                given
                    .files
                    .get(path)
                    .cloned()
                    .ok_or_else(|| format!("the file '{}' is missing; add it", shown(path, 100)))
            }
            FileSource::External(name) => Err(format!(
                "external configs and secrets are not supported; set 'file', 'content' or 'environment' on '{}'",
                shown(name, 60)
            )),
        };
        match found {
            Ok(text) if text.len() > LARGEST_FILE => {
                let sentence = format!(
                    "'{}' is larger than {LARGEST_FILE} bytes; mount a volume instead",
                    shown(key, 60)
                );
                self.cannot(&[section, key], sentence);
                None
            }
            Ok(text) => Some(text.into_bytes()),
            Err(sentence) => {
                self.cannot(&[section, key], sentence);
                None
            }
        }
    }
}

fn placed(used: &FileUse, content: Vec<u8>) -> PlacedFile {
    PlacedFile {
        path: used.target.clone(),
        user: used.user.unwrap_or(0),
        group: used.group.unwrap_or(0),
        mode: used.mode.unwrap_or(0o444),
        content,
    }
}
