//! Interpolates the variables of a whole file, and lists them.
//!
//! Values are filled in, keys are not (Compose Specification, "Interpolation"). How one value is read is in
//! [`super::template`].

use std::collections::BTreeMap;

use super::template::{Operator, Template, Unset};
use crate::yaml::{MOST_ERRORS, MOST_VALUE_BYTES, Node, Place, Value, YamlError};

/// What becomes of a variable that has no value.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Need {
    /// The text demands it; this is what it says then, may be empty.
    Demanded(String),
    /// This is taken instead.
    Default(String),
    /// It is empty, and that is reported: hardly ever is it meant so.
    Empty,
    /// Nothing is missing without it: it stands only where its being set changes something.
    Optional,
}

/// A variable that a text asks for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct AskedVariable {
    /// Where it is first, and what becomes of it there; every further place where that is another.
    pub uses: Vec<(Place, Need)>,
}

/// The variables of a text by name, and the errors in their use.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Interpolation {
    /// The variables.
    pub asked: BTreeMap<String, AskedVariable>,
    /// What could not be filled in.
    pub errors: Vec<YamlError>,
    /// Bytes of what was filled in.
    bytes: usize,
}

impl Interpolation {
    /// Fills the variables of all values of a tree in. `lookup` gives the values that there are.
    ///
    /// Errors are gathered; a value that has one stays as it is.
    pub fn fill(&mut self, node: &mut Node, unset: Unset, lookup: &impl Fn(&str) -> Option<String>) {
        match &mut node.value {
            Value::Text(text) if text.contains('$') => match self.filled(text, node.place, unset, lookup) {
                Ok(filled) => *text = filled,
                Err(error) if self.errors.len() < MOST_ERRORS => self.errors.push(error),
                Err(_) => {}
            },
            Value::List(items) => items.iter_mut().for_each(|item| self.fill(item, unset, lookup)),
            Value::Map(entries) => entries.iter_mut().for_each(|(_, value)| self.fill(value, unset, lookup)),
            _ => {}
        }
    }

    fn filled(
        &mut self,
        text: &str,
        place: Place,
        unset: Unset,
        lookup: &impl Fn(&str) -> Option<String>,
    ) -> Result<String, YamlError> {
        let at = |offset: usize| within(text, place, offset);
        let template =
            Template::read(text).map_err(|e| YamlError { place: at(e.offset), sentence: e.sentence })?;
        self.note(&template, &at);
        let filled =
            template.fill(unset, lookup).map_err(|e| YamlError { place, sentence: e.to_string() })?;
        self.bytes = self.bytes.saturating_add(filled.len());
        if self.bytes > MOST_VALUE_BYTES {
            let sentence = format!("the values exceed {MOST_VALUE_BYTES} bytes after substitution");
            return Err(YamlError { place, sentence });
        }
        Ok(filled)
    }

    fn note(&mut self, template: &Template, at: &impl Fn(usize) -> Place) {
        for variable in template.variables() {
            let need = match &variable.otherwise {
                None => Need::Empty,
                Some((Operator::Default, _, instead)) => Need::Default(instead.to_string()),
                Some((Operator::Require, _, message)) => Need::Demanded(message.to_string()),
                Some((Operator::Replace, ..)) => Need::Optional,
            };
            self.ask(&variable.name, at(variable.offset), need);
        }
    }

    /// Adds what another text asks for.
    pub fn add(&mut self, other: Self) {
        for (name, variable) in other.asked {
            for (place, need) in variable.uses {
                self.ask(&name, place, need);
            }
        }
        let room = MOST_ERRORS.saturating_sub(self.errors.len());
        self.errors.extend(other.errors.into_iter().take(room));
    }

    /// Notes a variable of a container that is only named: it is passed on where it is set.
    pub(super) fn note_passed(&mut self, name: &str, place: Place) {
        self.ask(name, place, Need::Optional);
    }

    fn ask(&mut self, name: &str, place: Place, need: Need) {
        let asked = self.asked.entry(name.to_owned()).or_insert(AskedVariable { uses: Vec::new() });
        if asked.uses.len() < MOST_ERRORS && asked.uses.iter().all(|(_, known)| *known != need) {
            asked.uses.push((place, need));
        }
    }

    /// The variables that have no value in `lookup` and are empty for it, with the first place of each.
    pub fn empty(&self, lookup: &impl Fn(&str) -> Option<String>) -> Vec<(&str, Place)> {
        let unset = |(name, asked): (&'_ String, &'_ AskedVariable)| {
            let place = asked.uses.iter().find(|(_, need)| *need == Need::Empty)?.0;
            lookup(name).is_none().then_some(place)
        };
        self.asked.iter().filter_map(|entry| unset(entry).map(|place| (entry.0.as_str(), place))).collect()
    }
}

/// The place of an offset in a value. Of one that goes over several lines, or may be written otherwise than it reads, only
/// the beginning is known.
fn within(text: &str, place: Place, offset: usize) -> Place {
    let before = &text[..offset];
    if text.contains(['\n', '\\', '"', '\'']) {
        return place;
    }
    Place { column: place.column + before.chars().count() as u64, ..place }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::yaml::read;

    const TEXT: &str = "\
services:
  ${NAME}:
    image: registry.example/api:${TAG:-2.4}
    hostname: $HOST
    environment:
      - LEVEL=${LEVEL:?say how much is logged}
      - COST=$$5
      - MORE=${EXTRA:+yes}
      - AGAIN=${TAG}
    privileged: true
";

    fn lookup(name: &str) -> Option<String> {
        match name {
            "LEVEL" => Some("info".to_owned()),
            "NAME" => Some("never in a key".to_owned()),
            _ => None,
        }
    }

    #[test]
    fn values_are_filled_in_and_keys_are_not() {
        let mut tree = read(TEXT).unwrap();
        let mut found = Interpolation::default();
        found.fill(&mut tree, Unset::Empty, &lookup);
        assert_eq!(found.errors, []);
        let service = tree.get("services").unwrap().get("${NAME}").unwrap();
        let text = |key: &str| service.get(key).unwrap().scalar().unwrap().into_owned();
        assert_eq!((text("image").as_str(), text("hostname").as_str()), ("registry.example/api:2.4", ""));
        let Value::List(lines) = &service.get("environment").unwrap().value else { panic!("a list") };
        let lines: Vec<_> = lines.iter().map(|l| l.scalar().unwrap().into_owned()).collect();
        assert_eq!(lines, ["LEVEL=info", "COST=$5", "MORE=", "AGAIN="]);
    }

    #[test]
    fn variables_are_listed_with_what_becomes_of_them() {
        let mut found = Interpolation::default();
        found.fill(&mut read(TEXT).unwrap(), Unset::Empty, &lookup);
        let told: Vec<String> = found
            .asked
            .iter()
            .flat_map(|(name, asked)| {
                asked.uses.iter().map(move |(p, need)| format!("{name} {}:{} {need:?}", p.line, p.column))
            })
            .collect();
        assert_eq!(
            told,
            [
                "EXTRA 8:14 Optional",
                "HOST 4:15 Empty",
                "LEVEL 6:15 Demanded(\"say how much is logged\")",
                "TAG 3:33 Default(\"2.4\")",
                "TAG 9:15 Empty"
            ]
        );
        let empty: Vec<_> =
            found.empty(&lookup).into_iter().map(|(name, place)| (name, place.line)).collect();
        assert_eq!(empty, [("HOST", 4), ("TAG", 9)]);
    }

    #[test]
    fn every_error_is_reported_and_what_has_one_stays() {
        let mut tree = read("a: x${B:?needed}\nb:\n  - \"$\"\n  - x${C, $D\n").unwrap();
        let mut found = Interpolation::default();
        found.fill(&mut tree, Unset::Empty, &|_| None);
        let told: Vec<String> = found.errors.iter().map(ToString::to_string).collect();
        assert_eq!(told.len(), 3, "{told:?}");
        assert!(told[0].starts_with("line 1, column 4: 'B' must be set: needed"), "{told:?}");
        assert!(told[1].starts_with("line 3, column 5: no variable name after '$'"), "{told:?}");
        assert!(told[2].starts_with("line 4, column 9: after '${C' write '}'"), "{told:?}");
        assert_eq!(tree.get("a").unwrap().scalar().as_deref(), Some("x${B:?needed}"));
    }
}
