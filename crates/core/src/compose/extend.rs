//! `extends`: a service with the attributes of another one, in the same file or in another.

use std::collections::BTreeMap;

use super::load::{DEEPEST, LoadContext, Loader};
use super::merge::{merge, untagged};
use super::paths::{entries_of, field, folder_of};
use super::schema::{SERVICE, Shape};
use crate::text::shown;
use crate::yaml::{Node, Value, YamlError};

impl Loader<'_> {
    /// Brings in what services of a file extend.
    pub(super) fn extended(&mut self, mut tree: Node, path: &str, context: &LoadContext) -> Node {
        let names: Vec<String> =
            entries_of(&mut tree, "services").iter().map(|(key, _)| key.text.clone()).collect();
        let mut done: BTreeMap<(String, String), Node> = BTreeMap::new();
        let mut others: BTreeMap<String, Option<Node>> =
            BTreeMap::from([(path.to_owned(), Some(tree.clone()))]);
        for name in names {
            let at = (path.to_owned(), name.clone());
            let service = self.service(&at, &mut Vec::new(), &mut done, &mut others, context);
            if let (Some(service), Some(services)) = (service, field(&mut tree, "services"))
                && let Some(own) = field(services, &name)
            {
                *own = service;
            }
        }
        tree
    }

    /// A service with what it extends, each done once.
    fn service(
        &mut self,
        at: &(String, String),
        below: &mut Vec<(String, String)>,
        done: &mut BTreeMap<(String, String), Node>,
        files: &mut BTreeMap<String, Option<Node>>,
        context: &LoadContext,
    ) -> Option<Node> {
        if let Some(service) = done.get(at) {
            return Some(service.clone());
        }
        let mut service = files.get(&at.0)?.as_ref()?.get("services")?.get(&at.1)?.clone();
        let Value::Map(entries) = &mut service.value else { return Some(service) };
        let Some(n) = entries.iter().position(|(key, _)| key.text == "extends") else {
            done.insert(at.clone(), service.clone());
            return Some(service);
        };
        let (key, extends) = entries.remove(n);
        let text = |name: &str| extends.get(name).and_then(Node::scalar).map(std::borrow::Cow::into_owned);
        let Some(base) = text("service") else {
            if extends.value != Value::Null {
                self.findings.tell(key.wrong("'extends' needs a 'service'"));
            }
            return Some(service);
        };
        let file = match extends.get("file") {
            Some(_) => text("file")?,
            None => at.0.clone(),
        };
        let place = extends.get("service").map_or(extends.place, |n| n.place);
        let next = (file, base);
        below.push(at.clone());
        if let Some(n) = below.iter().position(|known| *known == next) {
            let circle: Vec<&str> = below[n..].iter().chain([&next]).map(|(_, name)| name.as_str()).collect();
            let sentence = format!("'extends' is circular: {}", shown(&circle.join(" → "), 200));
            self.findings.tell(YamlError { place, sentence });
            return None;
        }
        if below.len() > DEEPEST {
            let sentence = format!("'extends' is nested more than {DEEPEST} deep");
            self.findings.tell(YamlError { place, sentence });
            return None;
        }
        if !files.contains_key(&next.0) {
            let place = extends.get("file").map(|n| n.place);
            let tree = self.file(&next.0, place, context, folder_of(&next.0));
            files.insert(next.0.clone(), tree);
        }
        let tree = files.get(&next.0)?.as_ref()?;
        if tree.get("services").and_then(|s| s.get(&next.1)).is_none() {
            let sentence = format!("no service '{}' in {}", shown(&next.1, 60), shown(&next.0, 120));
            self.findings.tell(YamlError { place, sentence });
            return None;
        }
        let base = self.service(&next, below, done, files, context)?;
        below.pop();
        let shape = Shape::Record(&SERVICE);
        if !self.bring(base.count(), place) {
            return None;
        }
        let whole = merge(untagged(base, &shape), service, &shape);
        done.insert(at.clone(), whole.clone());
        Some(whole)
    }
}
