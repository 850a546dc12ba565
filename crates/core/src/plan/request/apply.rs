//! The request to deploy a stack from its files.

use std::collections::{BTreeMap, BTreeSet};

use serde::{Deserialize, Serialize};

use super::RequestError;
use crate::compose::load::{MOST_FILES, ReadPurpose, StackInput};
use crate::compose::read::is_stack_name;
use crate::mask::{MASK, looks_secret};

/// The longest comment, in characters.
const LONGEST_COMMENT: usize = 500;
/// The most variables and profiles.
const MOST_NAMES: usize = 1000;

/// What happens when a part of a stack fails.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "lowercase")]
pub enum OnFailure {
    /// All of it becomes what it was.
    #[default]
    Return,
    /// What succeeded stays; the rest is not begun.
    Stop,
}

/// Deploys a stack from its files. The targets are hosts.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ApplyRequest {
    /// The stack's name; takes precedence over the name in the files.
    pub stack: String,
    /// Instead of files: the number of a revision to apply again, with its variables, profiles and scale. `variables`
    /// and `scale` given here take precedence.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub revision: Option<u64>,
    /// Instead of files: the commit of the stack's repository that waits for approval.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub waiting: bool,
    /// The commit the files are from. Set by the service; ignored in requests.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub commit: Option<String>,
    /// File contents by path relative to the stack's folder. Lists of operations omit the contents.
    #[cfg_attr(feature = "schema", schema(value_type = std::collections::HashMap<String, String>))]
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub files: BTreeMap<String, String>,
    /// The Compose files among them; later ones override earlier ones.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub main: Vec<String>,
    /// Values of variables.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    #[cfg_attr(feature = "schema", schema(value_type = std::collections::HashMap<String, String>))]
    pub variables: BTreeMap<String, String>,
    /// Variable values for single hosts, by host name; they take precedence over `variables`.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    #[cfg_attr(feature = "schema", schema(value_type = std::collections::HashMap<String, std::collections::HashMap<String, String>>))]
    pub host_variables: BTreeMap<String, BTreeMap<String, String>>,
    /// The active profiles.
    #[serde(default, skip_serializing_if = "BTreeSet::is_empty")]
    #[cfg_attr(feature = "schema", schema(value_type = Vec<String>))]
    pub profiles: BTreeSet<String>,
    /// Replica counts by service name, overriding the files.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    #[cfg_attr(feature = "schema", schema(value_type = std::collections::HashMap<String, u32>))]
    pub scale: BTreeMap<String, u32>,
    /// What changes and why, in the member's words.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub comment: Option<String>,
    /// Remove orphans: containers of services that the files no longer have.
    #[serde(default)]
    pub remove_rest: bool,
    /// What happens when a part fails.
    #[serde(default)]
    pub on_failure: OnFailure,
    /// Seconds a new container must stay up if it has no health check; 10 when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub watch_seconds: Option<u32>,
}

impl ApplyRequest {
    /// What the stack is read from.
    pub fn given(&self) -> StackInput<'_> {
        StackInput {
            files: &self.files,
            main: &self.main,
            name: Some(&self.stack),
            variables: &self.variables,
            profiles: &self.profiles,
            wanted: ReadPurpose::Stack,
        }
    }

    /// What is asked for of one host: its own values are among the variables.
    #[must_use]
    pub fn for_host(&self, host: &str) -> Self {
        let mut wish = self.clone();
        let own = std::mem::take(&mut wish.host_variables).remove(host);
        wish.variables.extend(own.unwrap_or_default());
        wish
    }

    /// Whether another request has the same files, variables, profiles and scale.
    pub fn is_same_text(&self, other: &Self) -> bool {
        (&self.files, &self.main, &self.variables, &self.profiles, &self.scale)
            == (&other.files, &other.main, &other.variables, &other.profiles, &other.scale)
    }

    /// A request that names a revision, with what that one has.
    #[must_use]
    pub fn with_revision(self, kept: Self) -> Self {
        let (mut variables, mut scale) = (kept.variables, kept.scale);
        variables.extend(self.variables);
        scale.extend(self.scale);
        let (files, main, profiles) = (kept.files, kept.main, kept.profiles);
        let commit = kept.commit;
        Self { revision: None, waiting: false, commit, files, main, variables, profiles, scale, ..self }
    }

    /// Leaves out what is not for everybody: the texts, and values that look like secrets.
    pub(super) fn hide(&mut self) {
        self.files.values_mut().for_each(String::clear);
        let of_hosts = self.host_variables.values_mut().flatten();
        for (name, value) in self.variables.iter_mut().chain(of_hosts) {
            if looks_secret(name, value) {
                MASK.clone_into(value);
            }
        }
    }

    fn limits(&self) -> Result<(), RequestError> {
        let wrong = |field: &'static str, sentence: String| Err(RequestError { field, sentence });
        for (field, count) in [
            ("variables", self.variables.len()),
            ("profiles", self.profiles.len()),
            ("scale", self.scale.len()),
            ("host_variables", self.host_variables.values().map(BTreeMap::len).sum::<usize>()),
        ] {
            if count > MOST_NAMES {
                return wrong(field, format!("{count} {field}; the limit is {MOST_NAMES}"));
            }
        }
        let hidden = self.host_variables.values().flatten().find(|(_, value)| value.contains(MASK));
        if let Some((name, _)) = hidden {
            let name = crate::text::shown(name, 60);
            return wrong("host_variables", format!("the value of '{name}' is masked; enter it"));
        }
        if self.comment.as_ref().is_some_and(|c| c.chars().count() > LONGEST_COMMENT) {
            return wrong("comment", format!("the comment is longer than {LONGEST_COMMENT} characters"));
        }
        Ok(())
    }

    pub(super) fn check(&self) -> Result<(), RequestError> {
        let wrong = |field: &'static str, sentence: String| Err(RequestError { field, sentence });
        stack_name(&self.stack)?;
        self.limits()?;
        if self.waiting && (self.revision.is_some() || !self.files.is_empty() || !self.main.is_empty()) {
            return wrong("waiting", "a waiting commit already has files; give one of the two".to_owned());
        }
        if self.waiting {
            return Ok(());
        }
        if self.revision.is_some() {
            if !self.files.is_empty() || !self.main.is_empty() {
                return wrong("revision", "a revision already has files; give one of the two".to_owned());
            }
            return Ok(());
        }
        if self.main.is_empty() {
            return wrong("main", "'main' must name at least one Compose file".to_owned());
        }
        if let Some(missing) = self.main.iter().find(|path| !self.files.contains_key(*path)) {
            let path = crate::text::shown(missing, 100);
            return wrong("main", format!("'{path}' is missing in 'files'; add it"));
        }
        if self.files.len() > MOST_FILES {
            return wrong("files", format!("{} files; the limit is {MOST_FILES}", self.files.len()));
        }
        Ok(())
    }
}

/// Removes a stack from hosts. Its revisions are kept for a later deployment.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct RemoveStackRequest {
    /// The stack's name.
    pub stack: String,
    /// Remove volumes with their data, anonymous ones included.
    #[serde(default)]
    pub volumes: bool,
    /// Remove images that nothing else uses.
    #[serde(default)]
    pub images: bool,
}

/// Runs a job of a stack once, from its newest revision: a service with a schedule, or one that runs to its end. The
/// target is a host.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct RunRequest {
    /// The stack's name.
    pub stack: String,
    /// The service.
    pub service: String,
    /// The scheduled time; absent for a manual run.
    #[cfg_attr(feature = "schema", schema(value_type = Option<String>, format = DateTime))]
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub due: Option<jiff::Timestamp>,
}

impl RunRequest {
    pub(super) fn check(&self) -> Result<(), RequestError> {
        stack_name(&self.stack)?;
        if crate::compose::read::is_key(&self.service) {
            return Ok(());
        }
        let sentence = format!("'{}' is not a valid service name", crate::text::shown(&self.service, 60));
        Err(RequestError { field: "service", sentence })
    }
}

/// Checks that a text can be the name of a stack.
pub(super) fn stack_name(stack: &str) -> Result<(), RequestError> {
    if is_stack_name(stack) {
        return Ok(());
    }
    let sentence = format!(
        "'{}' is not a valid stack name; use lower-case letters, digits, '-' and '_', starting with a letter or digit",
        crate::text::shown(stack, 60)
    );
    Err(RequestError { field: "stack", sentence })
}
