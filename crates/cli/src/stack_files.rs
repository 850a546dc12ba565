//! Reads a stack's files from disk: those given, and those that they name.
//!
//! Only files in the folder of the first one are read, and no link leads out of it: what a text names must not bring this
//! machine's other files along. What the texts mean is in core.

use std::collections::{BTreeMap, BTreeSet};
use std::io::Read;
use std::path::{Path, PathBuf};

use gubernum_api::requests::ApplyRequest;
use gubernum_core::compose::load::MOST_FILES;
use gubernum_core::compose::model::{FileSource, Stack};
use gubernum_core::compose::{ReadPurpose, StackInput, missing_files};
use gubernum_core::stack::build::context_folder;
use gubernum_core::yaml::MOST_BYTES;

use crate::arguments_stacks::StackSource;
use crate::exit::Failure;

/// What standard input is called in what is said of it.
const STANDARD_INPUT: &str = "standard input";
/// How often files that were read may name further ones.
const MOST_ROUNDS: usize = 20;

/// A stack's files with what is chosen for them.
pub(crate) struct StackFiles {
    /// The folder of the first file.
    pub(crate) folder: PathBuf,
    files: BTreeMap<String, String>,
    main: Vec<String>,
    name: Option<String>,
    variables: BTreeMap<String, String>,
    profiles: BTreeSet<String>,
}

impl StackFiles {
    /// Reads them.
    pub(crate) fn read(source: &StackSource) -> Result<Self, Failure> {
        let is_input = |path: &Path| path.as_os_str() == "-";
        let first = source.files.first().map_or(Path::new("-"), PathBuf::as_path);
        let folder = match first.parent() {
            Some(parent) if !parent.as_os_str().is_empty() && !is_input(first) => parent.to_owned(),
            _ => PathBuf::from("."),
        };
        let folder = folder
            .canonicalize()
            .map_err(|e| Failure::Said(format!("the folder {} cannot be read: {e}", folder.display())))?;
        let mut stack = Self {
            folder,
            files: BTreeMap::new(),
            main: Vec::new(),
            name: source.name.clone(),
            variables: source.variables.iter().map(|v| variable(v)).collect::<Result<_, _>>()?,
            profiles: source.profiles.iter().cloned().collect(),
        };
        for path in &source.files {
            if is_input(path) {
                let text = limited(std::io::stdin(), STANDARD_INPUT)?;
                stack.files.insert(STANDARD_INPUT.to_owned(), text);
                stack.main.push(STANDARD_INPUT.to_owned());
                continue;
            }
            let whole = path.canonicalize();
            let whole =
                whole.map_err(|e| Failure::Said(format!("{} cannot be read: {e}", path.display())))?;
            let Ok(below) = whole.strip_prefix(&stack.folder) else {
                return Err(Failure::Said(format!(
                    "{} is outside the first file's folder; put the files of a stack into one folder",
                    path.display()
                )));
            };
            let name = below.to_string_lossy().into_owned();
            let Some(text) = stack.file(&name)? else {
                return Err(Failure::Said(format!("{} cannot be read: no such file", path.display())));
            };
            stack.files.insert(name.clone(), text);
            stack.main.push(name);
        }
        stack.read_named()?;
        Ok(stack)
    }

    /// Reads what the files name, until they name nothing that is there and was not read.
    fn read_named(&mut self) -> Result<(), Failure> {
        let mut looked_for = BTreeSet::new();
        for _ in 0..MOST_ROUNDS {
            let named = missing_files(&self.given());
            let new: Vec<String> = named.into_iter().filter(|path| looked_for.insert(path.clone())).collect();
            if new.is_empty() {
                break;
            }
            for path in new {
                if let Some(text) = self.file(&path)? {
                    self.files.insert(path, text);
                }
            }
        }
        Ok(())
    }

    /// A file of the folder; `None` when it is not there.
    fn file(&self, path: &str) -> Result<Option<String>, Failure> {
        let Some(whole) = self.within(path)? else { return Ok(None) };
        let cannot = |e: std::io::Error| Failure::Said(format!("{path} cannot be read: {e}"));
        Ok(Some(limited(std::fs::File::open(whole).map_err(cannot)?, path)?))
    }

    /// Where a path of the folder leads; `None` when nothing is there.
    pub(crate) fn within(&self, path: &str) -> Result<Option<PathBuf>, Failure> {
        let whole = match self.folder.join(path).canonicalize() {
            Ok(whole) => whole,
            Err(e) if e.kind() == std::io::ErrorKind::NotFound => return Ok(None),
            Err(e) => return Err(Failure::Said(format!("{path} cannot be read: {e}"))),
        };
        if !whole.starts_with(&self.folder) {
            let text = format!("{path} is a link that leaves the stack's folder; put the file itself there");
            return Err(Failure::Said(text));
        }
        Ok(Some(whole))
    }

    /// The files that were named, with their texts.
    pub(crate) fn main(&self) -> Vec<(&str, &str)> {
        let text = |name: &String| self.files.get(name).map_or("", String::as_str);
        self.main.iter().map(|name| (name.as_str(), text(name))).collect()
    }

    /// Puts the files, variables and profiles into a request, and the configs and secrets that lie beside the stack.
    pub(crate) fn read_sources(&self, stack: &Stack, request: &mut ApplyRequest) -> Result<(), Failure> {
        request.files.clone_from(&self.files);
        request.main.clone_from(&self.main);
        request.variables.clone_from(&self.variables);
        request.profiles.clone_from(&self.profiles);
        for source in stack.configs.values().chain(stack.secrets.values()) {
            let FileSource::File(path) = source else { continue };
            let path = path.strip_prefix("./").unwrap_or(path);
            if let Some(text) = self.file(path)? {
                request.files.insert(path.to_owned(), text);
            }
        }
        for build in stack.services.values().filter_map(|service| service.build.as_ref()) {
            if let Some(folder) = context_folder(&build.context) {
                self.read_context(&folder, request)?;
            }
        }
        Ok(())
    }

    /// Reads the folder that an image is built from.
    fn read_context(&self, folder: &str, request: &mut ApplyRequest) -> Result<(), Failure> {
        let Some(whole) = self.within(if folder.is_empty() { "." } else { folder })? else { return Ok(()) };
        for below in crate::commands::files_of_context(&whole)? {
            let name = if folder.is_empty() { below.clone() } else { format!("{folder}/{below}") };
            if request.files.len() >= MOST_FILES {
                return Err(Failure::Said(format!(
                    "with the folder '{folder}', the stack has more than {MOST_FILES} files; list what is not needed in its .containerignore, or build the image with 'gubernum build'"
                )));
            }
            let text = self.file(&name).map_err(|error| match error {
                Failure::Said(why) => Failure::Said(format!(
                    "{why}; a stack's build folder takes text files only: build this image with 'gubernum build', and set it as 'image'"
                )),
                other => other,
            })?;
            request.files.extend(text.map(|text| (name, text)));
        }
        Ok(())
    }

    /// What core reads a stack from.
    pub(crate) fn given(&self) -> StackInput<'_> {
        StackInput {
            files: &self.files,
            main: &self.main,
            name: self.name.as_deref(),
            variables: &self.variables,
            profiles: &self.profiles,
            wanted: ReadPurpose::Stack,
        }
    }
}

pub(crate) fn variable(text: &str) -> Result<(String, String), Failure> {
    match text.split_once('=') {
        Some((name, value)) if !name.is_empty() => Ok((name.to_owned(), value.to_owned())),
        _ => Err(Failure::Usage(format!("'--variable {text}' has no '='; write NAME=VALUE"))),
    }
}

/// A text of at most as many bytes as core reads.
fn limited(from: impl Read, name: &str) -> Result<String, Failure> {
    let mut bytes = Vec::new();
    let cannot = |e: std::io::Error| Failure::Said(format!("{name} cannot be read: {e}"));
    from.take(MOST_BYTES as u64 + 1).read_to_end(&mut bytes).map_err(cannot)?;
    if bytes.len() > MOST_BYTES {
        let most = MOST_BYTES >> 20;
        return Err(Failure::Said(format!("{name} is larger than {most} MiB; choose a Compose file")));
    }
    String::from_utf8(bytes).map_err(|e| {
        let line = e.as_bytes()[..e.utf8_error().valid_up_to()].iter().filter(|b| **b == b'\n').count() + 1;
        Failure::Said(format!("{name}, line {line}: not UTF-8 text"))
    })
}
