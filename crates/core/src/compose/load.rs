//! Loads a stack's files: every file is read, its variables interpolated, `extends` and `include` resolved, and all
//! of them merged into one tree in long form.
//!
//! Files are given, never opened: who calls has them from a member, a folder or a repository. All errors of all files are
//! told at once. What the tree means is in [`super::model`]; variables for containers from files are in [`super::values`].

use std::collections::{BTreeMap, BTreeSet};

use super::canonical::{Findings, WithoutEffect};
use super::interpolate::{AskedVariable, Interpolation};
use super::merge::{merge, untagged};
use super::paths::{anchor, field, folder_of};
use super::schema::{FILE, Shape};
use super::template::Unset;
use super::{dotenv, values};
use crate::definition::compose::NAMELESS;
use crate::text::shown;
use crate::yaml::{self, Key, Node, Place, Value, YamlError};

/// The most files of one stack.
pub const MOST_FILES: usize = 200;
/// How deep files may include each other, and services extend each other.
pub(super) const DEEPEST: usize = 16;
/// The most values of a stack's files together, each time counted that a file, a service that is extended or a file of
/// variables is brought in: a short text may bring the same thing in without end.
pub const MOST_VALUES: usize = 300_000;
/// What is told to a text as the stack's name.
const NAME_VARIABLE: &str = "COMPOSE_PROJECT_NAME";
/// Variables of a folder, read when nothing else is said.
pub(super) const USUAL_VARIABLES: &str = ".env";
/// The sections whose entries have names.
pub(super) const SECTIONS: [&str; 5] = ["services", "networks", "volumes", "configs", "secrets"];

/// What a stack is read from.
#[derive(Debug, Clone, Copy)]
pub struct StackInput<'a> {
    /// Files with their texts, by their paths from the stack's folder, with `/` between the parts.
    pub files: &'a BTreeMap<String, String>,
    /// Which of them are the stack, the later over the earlier; at least one.
    pub main: &'a [String],
    /// The stack's name, where it is chosen already; it counts more than what the text says.
    pub name: Option<&'a str>,
    /// Values of variables. They count more than those in files.
    pub variables: &'a BTreeMap<String, String>,
    /// The profiles that are wanted; `*` for all.
    pub profiles: &'a BTreeSet<String>,
    /// What for.
    pub wanted: ReadPurpose,
}

/// What a text is read for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ReadPurpose {
    /// For all of it: whatever is named must be there.
    Stack,
    /// For its one container. The text may appear alone: what is around it and not given is reported, variables without a value stay
    /// as they are, and a service may appear there without its name.
    Container,
}

/// An error in one of a stack's files.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{file}, line {}, column {}: {sentence}", place.line, place.column)]
pub struct FileError {
    /// The file's path.
    pub file: String,
    /// Where in it.
    pub place: Place,
    /// What is wrong and what to do.
    pub sentence: String,
}

/// A stack's files as one.
#[derive(Debug, Clone, PartialEq)]
pub struct Loaded {
    /// The tree in its long form, with the services of the wanted profiles.
    pub tree: Node,
    /// The stack's name, as far as it is said anywhere.
    pub name: Option<String>,
    /// The files that were read; a place's number is one of these.
    pub files: Vec<String>,
    /// The variables that the texts ask for.
    pub asked: BTreeMap<String, AskedVariable>,
    /// Variables that no one gives a value and that are empty for it, each where it is first asked for.
    pub empty: Vec<(String, Place)>,
    /// The variables that are asked for and have a value.
    pub set: BTreeSet<String>,
    /// Attributes that change nothing here.
    pub without_effect: Vec<WithoutEffect>,
    /// What is named and not given, where that is no error: the place and what becomes of it.
    pub left: Vec<(Place, String)>,
    /// The text was a service without its name.
    pub is_bare: bool,
    /// Whether only one container of it is wanted.
    pub wanted: ReadPurpose,
    /// The services that were left out because nobody wants their profiles.
    pub left_out: BTreeSet<String>,
}

/// Reads a stack's files; what they mean together is not looked at.
///
/// # Errors
/// Every error that was found, in the order of the files and their lines.
pub fn load(given: &StackInput<'_>) -> Result<Loaded, Vec<FileError>> {
    let (loaded, errors) = collect(given);
    if errors.is_empty() { Ok(loaded) } else { Err(named(errors, &loaded.files)) }
}

/// What could be read of a stack's files, and every error in them. With errors, parts of the tree are missing or as they
/// were written.
pub(super) fn collect(given: &StackInput<'_>) -> (Loaded, Vec<YamlError>) {
    let mut loader = Loader::new(given);
    let (tree, name, left_out) = loader.root();
    let Loader { names: files, findings, asked, mut empty, set, left, is_bare, .. } = loader;
    let mut errors = findings.errors;
    errors.extend(asked.errors);
    empty.sort_by_key(|(_, place)| *place);
    let mut without_effect = findings.without_effect;
    without_effect.sort_by_key(|w| w.place);
    without_effect.dedup_by_key(|w| w.place);
    let (asked, wanted) = (asked.asked, given.wanted);
    let loaded =
        Loaded { tree, name, files, asked, empty, set, without_effect, left, is_bare, wanted, left_out };
    (loaded, errors)
}

/// The files that a stack names and that are not among those given, whether they must be there or not. What they name in turn
/// shows once they are given.
pub fn missing_files(given: &StackInput<'_>) -> BTreeSet<String> {
    let mut loader = Loader::new(given);
    loader.root();
    loader.missing
}

/// Errors with the names of their files, in order.
pub(super) fn named(mut errors: Vec<YamlError>, names: &[String]) -> Vec<FileError> {
    errors.sort_by(|a, b| (a.place, &a.sentence).cmp(&(b.place, &b.sentence)));
    errors.dedup();
    errors.truncate(yaml::MOST_ERRORS);
    let file = |place: Place| names.get(usize::from(place.file)).cloned().unwrap_or_default();
    errors
        .into_iter()
        .map(|e| FileError { file: file(e.place), place: e.place, sentence: e.sentence })
        .collect()
}

/// Where texts stand that belong together: their folder, and what their variables are.
pub(super) struct LoadContext {
    pub(super) folder: String,
    pub(super) values: BTreeMap<String, String>,
}

impl LoadContext {
    /// The value of a variable.
    pub(super) fn get(&self, name: &str) -> Option<String> {
        self.values.get(name).cloned()
    }
}

pub(super) struct Loader<'a> {
    pub(super) given: &'a StackInput<'a>,
    pub(super) names: Vec<String>,
    pub(super) findings: Findings,
    pub(super) asked: Interpolation,
    empty: Vec<(String, Place)>,
    set: BTreeSet<String>,
    left: Vec<(Place, String)>,
    is_bare: bool,
    missing: BTreeSet<String>,
    /// Values brought in so far.
    values: usize,
}

fn blank(place: Place) -> Node {
    Node::new(Value::Map(Vec::new()), place)
}

impl<'a> Loader<'a> {
    fn new(given: &'a StackInput<'a>) -> Self {
        Self {
            given,
            names: Vec::new(),
            findings: Findings::default(),
            asked: Interpolation::default(),
            empty: Vec::new(),
            set: BTreeSet::new(),
            left: Vec::new(),
            is_bare: false,
            missing: BTreeSet::new(),
            values: 0,
        }
    }

    /// Counts values that are brought in; `false`, and told once, when they are too many.
    pub(super) fn bring(&mut self, values: usize, place: Place) -> bool {
        let before = self.values;
        self.values = self.values.saturating_add(values);
        if before <= MOST_VALUES && self.values > MOST_VALUES {
            let sentence = format!(
                "with its included files, the stack has more than {MOST_VALUES} values; include less"
            );
            self.findings.tell(YamlError { place, sentence });
        }
        self.values <= MOST_VALUES
    }

    /// Notes what is left out where one container is wanted of a text; `false` where the whole stack is.
    pub(super) fn leave(&mut self, place: Place, sentence: impl FnOnce() -> String) -> bool {
        let leaves = self.given.wanted == ReadPurpose::Container;
        if leaves && self.left.len() < yaml::MOST_ERRORS {
            self.left.push((place, sentence()));
        }
        leaves
    }

    /// Whether a file is among those given.
    pub(super) fn has(&mut self, path: &str) -> bool {
        let has = self.given.files.contains_key(path);
        if !has && self.missing.len() < MOST_FILES {
            self.missing.insert(path.to_owned());
        }
        has
    }

    /// The number of a file and its text. `from` is where it is named.
    pub(super) fn open(&mut self, path: &str, from: Option<Place>) -> Option<(u16, String)> {
        let Some(text) = self.given.files.get(path) else {
            self.has(path);
            let sentence = format!("the file '{}' is missing; add it", shown(path, 120));
            self.findings.tell(YamlError { place: from.unwrap_or(Place::START), sentence });
            return None;
        };
        let number = self.names.iter().position(|name| name == path).unwrap_or_else(|| {
            self.names.push(path.to_owned());
            self.names.len() - 1
        });
        if number >= MOST_FILES {
            let sentence = format!("the stack has more than {MOST_FILES} files");
            self.findings.tell(YamlError { place: from.unwrap_or(Place::START), sentence });
            return None;
        }
        Some((u16::try_from(number).ok()?, text.clone()))
    }

    fn root(&mut self) -> (Node, Option<String>, BTreeSet<String>) {
        let folder = self.given.main.first().map_or("", |path| folder_of(path)).to_owned();
        let mut context = LoadContext { folder, values: BTreeMap::new() };
        let usual = context_path(&context.folder, USUAL_VARIABLES);
        if self.has(&usual) {
            self.variables(&usual, None, &mut context);
        }
        context.values.extend(self.given.variables.clone());
        let chosen = self.given.name.map(str::to_owned).or_else(|| self.said_name(&context));
        if let Some(name) = &chosen {
            context.values.insert(NAME_VARIABLE.to_owned(), name.clone());
        }
        let main: Vec<(String, Option<Place>)> =
            self.given.main.iter().map(|path| (path.clone(), None)).collect();
        let mut tree = self.project(&main, &context, &mut Vec::new());
        let left_out = self.keep_wanted(&mut tree);
        (tree, chosen, left_out)
    }

    /// The name that the last of the main files gives. What is wrong with them is reported when they are read in full.
    fn said_name(&mut self, context: &LoadContext) -> Option<String> {
        self.given.main.iter().rev().find_map(|path| {
            let mut tree = yaml::read(self.given.files.get(path)?).ok()?;
            let name = field(&mut tree, "name")?;
            Interpolation::default().fill(name, Unset::Empty, &|n| context.get(n));
            name.scalar().filter(|text| !text.is_empty()).map(std::borrow::Cow::into_owned)
        })
    }

    /// Adds the variables of a file to what is around; what is there already stays.
    pub(super) fn variables(&mut self, path: &str, from: Option<Place>, context: &mut LoadContext) {
        let Some((number, text)) = self.open(path, from) else { return };
        let given = self.given.variables;
        match dotenv::read(&text, number, &|name| given.get(name).cloned().or_else(|| context.get(name))) {
            Ok(all) => context.values.extend(all.into_iter().filter_map(|v| Some((v.name, v.value?)))),
            Err(errors) => errors.into_iter().for_each(|e| self.findings.tell(e)),
        }
    }

    /// Files that are merged, with what they include.
    pub(super) fn project(
        &mut self,
        files: &[(String, Option<Place>)],
        context: &LoadContext,
        above: &mut Vec<String>,
    ) -> Node {
        let mut whole: Option<Node> = None;
        for (path, from) in files {
            let Some(tree) = self.file(path, *from, context, &context.folder) else { continue };
            let tree = self.extended(tree, path, context);
            whole = Some(match whole {
                Some(whole) => merge(whole, tree, &Shape::Record(&FILE)),
                None => untagged(tree, &Shape::Record(&FILE)),
            });
        }
        let mut whole = whole.unwrap_or_else(|| blank(Place::START));
        values::fill_from_files(self, &mut whole, context);
        let includes =
            field(&mut whole, "include").map(|node| std::mem::replace(&mut node.value, Value::Null));
        if let Some(Value::List(includes)) = includes {
            if let Value::Map(entries) = &mut whole.value {
                entries.retain(|(key, _)| key.text != "include");
            }
            above.extend(files.iter().map(|(path, _)| path.clone()));
            for include in includes {
                self.include(&mut whole, &include, context, above);
            }
            above.truncate(above.len() - files.len());
        }
        whole
    }

    /// One file in its long form, its variables filled in and its paths seen from the stack's folder.
    pub(super) fn file(
        &mut self,
        path: &str,
        from: Option<Place>,
        context: &LoadContext,
        folder: &str,
    ) -> Option<Node> {
        let (number, text) = self.open(path, from)?;
        let mut tree = match yaml::read_numbered(&text, number) {
            Ok(tree) => tree,
            Err(errors) => {
                errors.into_iter().for_each(|e| self.findings.tell(e));
                return None;
            }
        };
        if !self.bring(tree.count(), from.unwrap_or(tree.place)) {
            return None;
        }
        if self.given.wanted == ReadPurpose::Container {
            self.name_bare_service(&mut tree);
        }
        let unset = match self.given.wanted {
            ReadPurpose::Stack => Unset::Empty,
            ReadPurpose::Container => Unset::Kept,
        };
        let mut asked = Interpolation::default();
        asked.fill(&mut tree, unset, &|name| context.get(name));
        let empty =
            asked.empty(&|name| context.get(name)).into_iter().map(|(name, place)| (name.to_owned(), place));
        for (name, place) in empty.collect::<Vec<_>>() {
            if !self.empty.iter().any(|(known, _)| *known == name) {
                self.empty.push((name, place));
            }
        }
        self.set.extend(asked.asked.keys().filter(|name| context.get(name).is_some()).cloned());
        self.asked.add(asked);
        if tree.get("services").is_none() && tree.get("include").is_none() && is_before_services(&tree) {
            let sentence = "this file is in the old format without 'services'; convert it with 'gubernum check --convert', or put 'services:' before it and indent the rest";
            self.findings.tell(tree.wrong(sentence));
            return None;
        }
        let mut tree = self.findings.canonical(tree, &Shape::Record(&FILE), "");
        anchor(&mut tree, folder, &mut self.findings);
        Some(tree)
    }

    /// Puts a name before a service that stands alone.
    fn name_bare_service(&mut self, tree: &mut Node) {
        if tree.get("services").is_some() || tree.get("image").is_none() || is_before_services(tree) {
            return;
        }
        let place = tree.place;
        let key = |text: &str| Key { text: text.to_owned(), place };
        let service = Node { value: std::mem::replace(&mut tree.value, Value::Null), ..tree.clone() };
        let services = Node::new(Value::Map(vec![(key(NAMELESS), service)]), place);
        tree.value = Value::Map(vec![(key("services"), services)]);
        self.is_bare = true;
    }

    /// Leaves out the services of whose profiles none is wanted; gives their names.
    fn keep_wanted(&self, tree: &mut Node) -> BTreeSet<String> {
        let wanted = self.given.profiles;
        let is_wanted = |service: &Node| match service.get("profiles").map(|p| &p.value) {
            Some(Value::List(profiles)) if !profiles.is_empty() => {
                wanted.contains("*") || profiles.iter().filter_map(Node::scalar).any(|p| wanted.contains(&*p))
            }
            _ => true,
        };
        let mut left_out = BTreeSet::new();
        if let Some(Node { value: Value::Map(services), .. }) = field(tree, "services") {
            services.retain(|(key, service)| {
                let stays = is_wanted(service);
                if !stays {
                    left_out.insert(key.text.clone());
                }
                stays
            });
        }
        left_out
    }
}

/// A file in a folder.
pub(super) fn context_path(folder: &str, name: &str) -> String {
    if folder.is_empty() { name.to_owned() } else { format!("{folder}/{name}") }
}

/// Whether a text has services at its top, as the first files of this kind had.
pub(super) fn is_before_services(tree: &Node) -> bool {
    let is_service = |(_, node): &(Key, Node)| node.get("image").is_some() || node.get("build").is_some();
    let known = |key: &Key| FILE.field(key).is_some() || key.starts_with("x-");
    let mut others = tree.entries().iter().filter(|(key, _)| !known(key)).peekable();
    others.peek().is_some() && others.all(is_service)
}

#[cfg(test)]
#[path = "load_tests.rs"]
mod tests;
