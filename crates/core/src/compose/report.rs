//! The report on a stack's files for their author: each error and note at its place, the variables, and the services
//! as they were read.
//!
//! It may be asked while somebody types: a text with errors has a report too, as far as it could be read.

use serde::{Deserialize, Serialize};

use super::interpolate::{AskedVariable, Need};
use super::load::{FileError, Loaded, StackInput, collect};
use super::model::{Condition, Service, Stack};
use super::read::read;
use crate::definition::PortRule;
use crate::jobs::Schedule;
use crate::text::shown;
use crate::yaml::Place;

/// An error or note at a place in a file.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct FileNote {
    /// The file, as a path relative to the stack's folder.
    pub file: String,
    /// The line, from 1.
    pub line: u64,
    /// The column, from 1.
    pub column: u64,
    /// What is wrong and what to do.
    pub sentence: String,
}

/// The state of a variable.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "lowercase")]
pub enum VariableState {
    /// It has a value.
    Set,
    /// It has none, and the text demands one.
    Required,
    /// It has none; the text says what is taken instead.
    Default,
    /// It has none and is empty, which is hardly ever meant.
    Empty,
    /// It has none, and nothing is missing without it.
    Optional,
}

/// A variable used in the files.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct VariableNote {
    /// Its name.
    pub name: String,
    /// The state.
    pub state: VariableState,
    /// The default value.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub default: Option<String>,
    /// The file that uses it first.
    pub file: String,
    /// The line, from 1.
    pub line: u64,
    /// The column, from 1.
    pub column: u64,
}

/// A dependency of a service.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ServiceDependency {
    /// The service.
    pub service: String,
    /// The required state: `started`, `healthy` or `completed`.
    pub until: String,
}

/// A service of the checked files.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ServiceNote {
    /// Its name.
    pub name: String,
    /// The image, or its build folder.
    pub image: String,
    /// Number of replicas.
    pub containers: u32,
    /// A job: runs to its end and is not restarted.
    pub job: bool,
    /// The schedule, such as `30 2 * * * (Europe/Lisbon)` or `manual only`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub schedule: Option<String>,
    /// Dependencies.
    pub needs: Vec<ServiceDependency>,
    /// Published ports: `8080→80`.
    pub ports: Vec<String>,
    /// Networks, by their names in the files.
    pub networks: Vec<String>,
    /// Volumes, by their names in the files.
    pub volumes: Vec<String>,
    /// The file that defines it.
    pub file: String,
    /// The line, from 1.
    pub line: u64,
}

/// The result of checking a stack's files.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct StackReport {
    /// Whether there are no errors.
    pub valid: bool,
    /// The stack's name, if set.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub name: Option<String>,
    /// All errors.
    pub errors: Vec<FileNote>,
    /// Variables used in the files, by name.
    pub variables: Vec<VariableNote>,
    /// Attributes without effect.
    pub without_effect: Vec<FileNote>,
    /// Services by name; none if there are errors.
    pub services: Vec<ServiceNote>,
    /// Services left out because their profiles are not active.
    pub left_out: Vec<String>,
}

impl From<&FileError> for FileNote {
    fn from(error: &FileError) -> Self {
        let FileError { file, place, sentence } = error;
        Self { file: file.clone(), line: place.line, column: place.column, sentence: sentence.clone() }
    }
}

/// Reads a stack's files and tells what there is to report about them; with what they mean, where they are right.
pub fn report(given: &StackInput<'_>) -> (StackReport, Option<(Loaded, Stack)>) {
    match read(given) {
        Ok((loaded, stack)) => (of(given, &loaded, Some(&stack), &[]), Some((loaded, stack))),
        Err(errors) => (of(given, &collect(given).0, None, &errors), None),
    }
}

fn of(given: &StackInput<'_>, loaded: &Loaded, stack: Option<&Stack>, errors: &[FileError]) -> StackReport {
    let without_effect = loaded.without_effect.iter().map(|w| {
        let sentence = format!("'{}' has no effect: {}", w.attribute, w.why);
        FileNote { file: file(loaded, w.place), line: w.place.line, column: w.place.column, sentence }
    });
    let variables = loaded.asked.iter();
    StackReport {
        valid: errors.is_empty(),
        name: loaded.name.clone(),
        errors: errors.iter().map(FileNote::from).collect(),
        variables: variables.filter_map(|(name, asked)| variable(given, loaded, name, asked)).collect(),
        without_effect: without_effect.collect(),
        services: stack.into_iter().flat_map(|s| &s.services).map(|(n, s)| service(loaded, n, s)).collect(),
        left_out: loaded.left_out.iter().cloned().collect(),
    }
}

fn file(loaded: &Loaded, place: Place) -> String {
    loaded.files.get(usize::from(place.file)).cloned().unwrap_or_default()
}

fn variable(
    given: &StackInput<'_>,
    loaded: &Loaded,
    name: &str,
    asked: &AskedVariable,
) -> Option<VariableNote> {
    let has_value = given.variables.contains_key(name) || loaded.set.contains(name);
    // What one place can do without another may demand; a value is worth most where it is demanded.
    let weight = |need: &Need| match need {
        Need::Demanded(_) => 0,
        Need::Empty => 1,
        Need::Default(_) => 2,
        Need::Optional => 3,
    };
    let (place, need) = asked.uses.iter().min_by_key(|(_, need)| weight(need))?;
    let state = match need {
        _ if has_value => VariableState::Set,
        Need::Demanded(_) => VariableState::Required,
        Need::Default(_) => VariableState::Default,
        Need::Empty => VariableState::Empty,
        Need::Optional => VariableState::Optional,
    };
    let default = asked.uses.iter().find_map(|(_, need)| match need {
        Need::Default(text) => Some(text.clone()),
        _ => None,
    });
    let (line, column) = (place.line, place.column);
    Some(VariableNote { name: name.to_owned(), state, default, file: file(loaded, *place), line, column })
}

/// A published port in words.
pub fn port_words(port: &PortRule) -> String {
    match (port.host_port, port.host_port_to) {
        (Some(from), Some(to)) => format!("{from}-{to}→{}", port.container_port),
        (Some(one), None) => format!("{one}→{}", port.container_port),
        (None, _) => format!("any→{}", port.container_port),
    }
}

fn service(loaded: &Loaded, name: &str, service: &Service) -> ServiceNote {
    let place =
        loaded.tree.get("services").and_then(|s| s.entries().iter().find(|(k, _)| k.as_str() == name));
    let place = place.map_or(Place::START, |(key, _)| key.place);
    let until = |condition| match condition {
        Condition::ServiceStarted => "started",
        Condition::ServiceHealthy => "healthy",
        Condition::ServiceCompletedSuccessfully => "completed",
    };
    let needs = service.needs.iter().map(|(other, need)| ServiceDependency {
        service: other.clone(),
        until: until(need.condition).to_owned(),
    });
    let image = match &service.build {
        Some(build) if service.container.image.is_empty() => match build.context.as_str() {
            "" | "." => "built here".to_owned(),
            context => format!("built from {}", shown(context, 60)),
        },
        _ => service.container.image.clone(),
    };
    let container = &service.container;
    let volumes = container.mounts.iter().filter(|m| m.kind == crate::definition::MountKind::Volume);
    ServiceNote {
        name: name.to_owned(),
        image,
        containers: service.replicas,
        job: service.is_job,
        schedule: service.schedule.as_ref().map(Schedule::words),
        needs: needs.collect(),
        ports: container.ports.iter().map(port_words).collect(),
        networks: container.network.networks.iter().map(|n| n.name.clone()).collect(),
        volumes: volumes.filter_map(|m| m.source.clone()).collect(),
        file: file(loaded, place),
        line: place.line,
    }
}

#[cfg(test)]
mod tests {
    use std::collections::{BTreeMap, BTreeSet};

    use super::*;
    use crate::compose::ReadPurpose;

    const TEXT: &str = "\
name: frostwatch
services:
  store:
    image: registry.tarnvalley.example/store:${TAG:?say which}
    volumes: [readings:/data]
  api:
    image: registry.tarnvalley.example/api:${TAG}
    depends_on: {store: {condition: service_healthy}}
    ports: ['8080:80']
    environment: {LEVEL: '${LEVEL:-2}', SITE: '${SITE}'}
volumes: {readings: {}}
";

    fn told(text: &str, variables: &[(&str, &str)]) -> StackReport {
        let files = BTreeMap::from([("stack.yaml".to_owned(), text.to_owned())]);
        let variables = variables.iter().map(|(k, v)| ((*k).to_owned(), (*v).to_owned())).collect();
        let (main, profiles) = (["stack.yaml".to_owned()], BTreeSet::new());
        report(&StackInput {
            files: &files,
            main: &main,
            name: None,
            variables: &variables,
            profiles: &profiles,
            wanted: ReadPurpose::Stack,
        })
        .0
    }

    #[test]
    fn what_is_demanded_is_reported_where_the_text_has_errors_too() {
        let report = told(TEXT, &[]);
        assert!(!report.valid && report.services.is_empty());
        assert_eq!((report.errors[0].file.as_str(), report.errors[0].line), ("stack.yaml", 4));
        let states: Vec<(&str, VariableState)> =
            report.variables.iter().map(|v| (v.name.as_str(), v.state)).collect();
        let expected = [
            ("LEVEL", VariableState::Default),
            ("SITE", VariableState::Empty),
            ("TAG", VariableState::Required),
        ];
        assert_eq!(states, expected);
        assert_eq!(report.variables[0].default.as_deref(), Some("2"));
    }

    #[test]
    fn services_are_reported_as_they_were_understood() {
        let report = told(TEXT, &[("TAG", "2"), ("SITE", "tarn")]);
        assert!(report.valid, "{report:#?}");
        let api = &report.services[0];
        assert_eq!((api.name.as_str(), api.line, api.containers), ("api", 6, 1));
        assert_eq!(api.needs, [ServiceDependency { service: "store".into(), until: "healthy".into() }]);
        assert_eq!(
            (api.ports.clone(), api.networks.clone()),
            (vec!["8080→80".into()], vec!["default".into()])
        );
        assert_eq!(report.services[1].volumes, ["readings"]);
        assert!(report.variables.iter().all(|v| v.state != VariableState::Required));
        let told = report.variables.iter().find(|v| v.name == "TAG").unwrap();
        assert_eq!(told.state, VariableState::Set);
    }

    #[test]
    fn a_value_from_the_folders_variables_counts() {
        let files = BTreeMap::from([
            ("stack.yaml".to_owned(), TEXT.to_owned()),
            (".env".to_owned(), "TAG=3\nSITE=tarn\n".to_owned()),
        ]);
        let (main, variables, profiles) = (["stack.yaml".to_owned()], BTreeMap::new(), BTreeSet::new());
        let given = StackInput {
            files: &files,
            main: &main,
            name: None,
            variables: &variables,
            profiles: &profiles,
            wanted: ReadPurpose::Stack,
        };
        let report = report(&given).0;
        assert!(report.valid, "{report:#?}");
        let set = report.variables.iter().filter(|v| v.state == VariableState::Set);
        assert_eq!(set.map(|v| v.name.as_str()).collect::<Vec<_>>(), ["SITE", "TAG"]);
    }
}
