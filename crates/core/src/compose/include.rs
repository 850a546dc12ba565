//! `include`: files of other stacks as parts of this one, each with its own folder and variables.

use std::collections::BTreeMap;

use super::load::{DEEPEST, LoadContext, Loader, SECTIONS, USUAL_VARIABLES, context_path};
use super::paths::folder_of;
use crate::text::shown;
use crate::yaml::{Node, Place, Value, YamlError};

impl Loader<'_> {
    /// Brings in what an `include` names. What it has must not be there already.
    pub(super) fn include(
        &mut self,
        whole: &mut Node,
        include: &Node,
        context: &LoadContext,
        above: &mut Vec<String>,
    ) {
        let texts = |name: &str| -> Vec<(String, Place)> {
            let items = match include.get(name).map(|n| &n.value) {
                Some(Value::List(items)) => &items[..],
                _ => &[],
            };
            items.iter().filter_map(|n| Some((n.scalar()?.into_owned(), n.place))).collect()
        };
        let paths = texts("path");
        let Some((first, _)) = paths.first() else {
            if include.get("path").is_none_or(|path| path.value == Value::List(Vec::new())) {
                self.findings.tell(include.wrong("'include' needs a 'path'"));
            }
            return;
        };
        for (path, place) in &paths {
            if above.contains(path) {
                let sentence =
                    format!("'{}' includes itself, directly or through other files", shown(path, 120));
                return self.findings.tell(YamlError { place: *place, sentence });
            }
        }
        if above.len() > DEEPEST {
            let sentence = format!("'include' is nested more than {DEEPEST} deep");
            return self.findings.tell(include.wrong(sentence));
        }
        let folder = include.get("project_directory").and_then(Node::scalar);
        let folder = folder.map_or_else(|| folder_of(first).to_owned(), std::borrow::Cow::into_owned);
        let mut inner = LoadContext { folder, values: BTreeMap::new() };
        let usual = context_path(&inner.folder, USUAL_VARIABLES);
        let files = texts("env_file");
        if files.is_empty() && self.has(&usual) {
            self.variables(&usual, None, &mut inner);
        }
        for (file, place) in files {
            self.variables(&file, Some(place), &mut inner);
        }
        inner.values.extend(context.values.clone());
        let paths: Vec<(String, Option<Place>)> =
            paths.into_iter().map(|(path, place)| (path, Some(place))).collect();
        let part = self.project(&paths, &inner, above);
        self.bring_in(whole, part, include.place);
    }

    fn bring_in(&mut self, whole: &mut Node, part: Node, place: Place) {
        let Value::Map(sections) = part.value else { return };
        for (section, content) in sections.into_iter().filter(|(key, _)| SECTIONS.contains(&key.as_str())) {
            let Value::Map(mut all) = content.value else { continue };
            let Value::Map(own) = &mut whole.value else { return };
            let known = match own.iter_mut().find(|(key, _)| *key == section) {
                Some((_, Node { value: Value::Map(known), .. })) => known,
                Some(_) => continue,
                None => {
                    own.push((section, Node::new(Value::Map(all), content.place)));
                    continue;
                }
            };
            all.retain(|(key, node)| {
                let other = known.iter().find(|(k, _)| k == key);
                if let Some((other, what)) = other
                    && what != node
                {
                    let file = self.names.get(usize::from(key.place.file)).cloned().unwrap_or_default();
                    let sentence = format!(
                        "'{section}.{}' is also defined in {}, differently; keep one",
                        shown(other, 60),
                        shown(&file, 120)
                    );
                    self.findings.tell(YamlError { place, sentence });
                }
                other.is_none()
            });
            known.extend(all);
        }
    }
}
