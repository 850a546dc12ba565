//! Converts files of the old format without `services` to the present one.
//!
//! Their services are at the top, some attributes have other names, and volumes with names are declared nowhere. Comments and
//! anchors are not kept: what comes out says the same, in the order of the file.

use std::collections::BTreeSet;

use super::load::is_before_services;
use crate::yaml::{Key, Node, Place, Value, YamlErrors, document, read_numbered};

/// A file in its new form, and what of it has no new form.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Converted {
    /// The new text.
    pub text: String,
    /// What is left out, each with its place in the old text.
    pub left: Vec<(Place, String)>,
}

/// Converts a file; `None` when it has `services` already.
///
/// # Errors
/// When it is no YAML, or nothing in it looks like a service.
pub fn convert(text: &str) -> Result<Option<Converted>, YamlErrors> {
    let tree = read_numbered(text, 0).map_err(YamlErrors)?;
    if tree.get("services").is_some() {
        return Ok(None);
    }
    if !is_before_services(&tree) {
        let sentence = "not a Compose file: no entry has an 'image' or a 'build'";
        return Err(YamlErrors(vec![tree.wrong(sentence)]));
    }
    let place = tree.place;
    let Value::Map(services) = tree.value else { return Ok(None) };
    let mut converter = Converter { left: Vec::new(), volumes: BTreeSet::new() };
    let services: Vec<(Key, Node)> =
        services.into_iter().map(|(key, service)| (key, converter.service(service))).collect();
    let mut whole = vec![(key("services", place), Node::new(Value::Map(services), place))];
    if !converter.volumes.is_empty() {
        // They were not the stack's own: each was made under its plain name.
        let volume = |name: String| {
            let named = (key("name", place), text_node(&name, place));
            (key(&name, place), Node::new(Value::Map(vec![named]), place))
        };
        let volumes = converter.volumes.into_iter().map(volume).collect();
        whole.push((key("volumes", place), Node::new(Value::Map(volumes), place)));
    }
    let text = document(&Node::new(Value::Map(whole), place));
    Ok(Some(Converted { text, left: converter.left }))
}

fn key(text: &str, place: Place) -> Key {
    Key { text: text.to_owned(), place }
}

fn text_node(text: &str, place: Place) -> Node {
    Node::new(Value::Text(text.to_owned()), place)
}

struct Converter {
    left: Vec<(Place, String)>,
    /// Names of volumes that are mounted.
    volumes: BTreeSet<String>,
}

impl Converter {
    fn service(&mut self, service: Node) -> Node {
        let Value::Map(entries) = service.value else { return service };
        let mut new: Vec<(Key, Node)> = Vec::new();
        let (mut build, mut steps) = (None, None);
        let mut logging: Vec<(Key, Node)> = Vec::new();
        for (name, value) in entries {
            match name.as_str() {
                "net" => new.push((key("network_mode", name.place), value)),
                "build" if value.scalar().is_some() => build = Some((name, value)),
                "dockerfile" => steps = Some((name, value)),
                "log_driver" => logging.push((key("driver", name.place), value)),
                "log_opt" => logging.push((key("options", name.place), value)),
                "volume_driver" => {
                    let sentence = "'volume_driver' is dropped; set 'driver' on each volume under 'volumes'";
                    self.left.push((name.place, sentence.to_owned()));
                }
                "volumes" => {
                    self.note_volumes(&value);
                    new.push((name, value));
                }
                _ => new.push((name, value)),
            }
        }
        match (build, steps) {
            (Some((name, context)), Some((file, steps))) => {
                let fields = vec![(key("context", name.place), context), (file, steps)];
                new.push((name.clone(), Node::new(Value::Map(fields), name.place)));
            }
            (Some(build), None) => new.push(build),
            (None, Some((file, _))) => {
                let sentence = "'dockerfile' is dropped: the service has no 'build'";
                self.left.push((file.place, sentence.to_owned()));
            }
            (None, None) => {}
        }
        if let Some((first, _)) = logging.first() {
            let place = first.place;
            new.push((key("logging", place), Node::new(Value::Map(logging), place)));
        }
        Node { value: Value::Map(new), ..service }
    }

    fn note_volumes(&mut self, volumes: &Node) {
        let Value::List(items) = &volumes.value else { return };
        for item in items {
            let Some(written) = item.scalar() else { continue };
            if let Some((source, _)) = written.split_once(':')
                && !source.starts_with(['/', '.', '~', '$'])
                && !source.is_empty()
            {
                self.volumes.insert(source.to_owned());
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use std::collections::{BTreeMap, BTreeSet};

    use rstest::rstest;

    use super::*;
    use crate::compose::{ReadPurpose, StackInput, read};

    const OLD: &str = "\
# The old stack.
store:
  image: registry.tarnvalley.example/store:1
  volumes: [\"data:/data\", \"/srv/store:/etc/store\"]
  log_driver: json-file
  log_opt: {max-size: 10m}
api:
  build: ./api
  dockerfile: Steps
  links: [store]
  net: host
  volume_driver: other
";

    #[test]
    fn an_old_file_is_a_stack_afterwards() {
        let converted = convert(OLD).unwrap().unwrap();
        assert_eq!(converted.left.len(), 1);
        assert_eq!(converted.left[0].0.line, 12);
        let files = BTreeMap::from([("stack.yaml".to_owned(), converted.text.clone())]);
        let given = StackInput {
            files: &files,
            main: &["stack.yaml".to_owned()],
            name: None,
            variables: &BTreeMap::new(),
            profiles: &BTreeSet::new(),
            wanted: ReadPurpose::Stack,
        };
        let (_, stack) = read::read(&given).unwrap_or_else(|e| panic!("{e:?}\n{}", converted.text));
        assert_eq!(stack.volumes["data"].name.as_deref(), Some("data"));
        let api = &stack.services["api"];
        assert_eq!(api.build.as_ref().unwrap().file.as_deref(), Some("Steps"));
        assert_eq!(api.container.network.mode.as_deref(), Some("host"));
        assert_eq!(stack.services["store"].container.log.options["max-size"], "10m");
        assert_eq!(convert(&converted.text), Ok(None));
    }

    #[rstest]
    #[case("a: 1\n", "not a Compose file")]
    #[case("", "not a Compose file")]
    #[case("a: [1\n", "invalid YAML")]
    fn what_is_no_old_file_is_reported(#[case] text: &str, #[case] words: &str) {
        let told = convert(text).unwrap_err().to_string();
        assert!(told.contains(words), "{told}");
    }
}
