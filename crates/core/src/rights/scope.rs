//! The scope of a grant, and the place of an object in the fleet.
//!
//! As text, which is how people write scopes and how they are kept:
//!
//! ```text
//! fleet                       everything
//! host:packhouse              a host and all that is on it
//! group:sheds                 the hosts of a group
//! stack:orchard               a stack of this name, on whatever host
//! stack:packhouse/orchard     a stack on one host
//! label:team                  what has a label
//! label:team=frost            what has a label with this value
//! ```

use std::collections::BTreeMap;
use std::fmt;
use std::str::FromStr;

use serde::{Deserialize, Serialize};

use crate::container::{Container, STACK_LABEL};
use crate::text::shown;

/// The longest text of a scope that is read, in bytes.
pub const LONGEST_SCOPE: usize = 300;

/// The part of the fleet that a grant is on.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Scope {
    /// Everything, and the service itself.
    Fleet,
    /// A host and all that is on it.
    Host(String),
    /// The hosts of a group and all that is on them.
    Group(String),
    /// The things of a stack.
    Stack {
        /// The host; on whatever host when there is none.
        host: Option<String>,
        /// The stack.
        stack: String,
    },
    /// What has a label.
    Label {
        /// Its name.
        name: String,
        /// Its value; whatever value when there is none.
        value: Option<String>,
    },
}

/// Why a text is no scope.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum ScopeError {
    /// It begins with none of the known words.
    #[error(
        "'{0}' is not a scope; write 'fleet', 'host:NAME', 'group:NAME', 'stack:NAME', 'stack:HOST/NAME', 'label:NAME' or 'label:NAME=VALUE'"
    )]
    Unknown(String),
    /// A name is missing.
    #[error("'{0}' has no name after the colon; write for example 'host:packhouse'")]
    Empty(String),
    /// It is too long.
    #[error("the scope has {0} bytes; the limit is {LONGEST_SCOPE}")]
    TooLong(usize),
}

/// Where something is in the fleet.
#[derive(Debug, Clone, Copy)]
pub struct Place<'a> {
    /// Its host.
    pub host: &'a str,
    /// The groups that its host is in.
    pub groups: &'a [String],
    /// The stack that it belongs to.
    pub stack: Option<&'a str>,
    /// Labels.
    pub labels: Option<&'a BTreeMap<String, String>>,
}

impl<'a> Place<'a> {
    /// A host itself.
    pub fn host(host: &'a str, groups: &'a [String]) -> Self {
        Self { host, groups, stack: None, labels: None }
    }

    /// A stack on a host.
    pub fn stack(host: &'a str, groups: &'a [String], stack: &'a str) -> Self {
        Self { host, groups, stack: Some(stack), labels: None }
    }

    /// A container.
    pub fn container(container: &'a Container, groups: &'a [String]) -> Self {
        Self {
            host: &container.host,
            groups,
            stack: container.stack.as_deref(),
            labels: Some(&container.labels),
        }
    }

    /// Something else with labels.
    pub fn labelled(host: &'a str, groups: &'a [String], labels: &'a BTreeMap<String, String>) -> Self {
        let stack = labels.get(STACK_LABEL).map(String::as_str);
        Self { host, groups, stack, labels: Some(labels) }
    }
}

impl Scope {
    /// Whether the scope includes this place.
    pub fn covers(&self, place: &Place<'_>) -> bool {
        match self {
            Self::Fleet => true,
            Self::Host(host) => host == place.host,
            Self::Group(group) => place.groups.contains(group),
            Self::Stack { host, stack } => {
                host.as_deref().is_none_or(|host| host == place.host) && place.stack == Some(stack)
            }
            Self::Label { name, value } => {
                let found = place.labels.and_then(|labels| labels.get(name));
                found.is_some_and(|found| value.as_ref().is_none_or(|value| value == found))
            }
        }
    }
}

impl fmt::Display for Scope {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Fleet => f.write_str("fleet"),
            Self::Host(host) => write!(f, "host:{host}"),
            Self::Group(group) => write!(f, "group:{group}"),
            Self::Stack { host: None, stack } => write!(f, "stack:{stack}"),
            Self::Stack { host: Some(host), stack } => write!(f, "stack:{host}/{stack}"),
            Self::Label { name, value: None } => write!(f, "label:{name}"),
            Self::Label { name, value: Some(value) } => write!(f, "label:{name}={value}"),
        }
    }
}

impl FromStr for Scope {
    type Err = ScopeError;

    fn from_str(text: &str) -> Result<Self, ScopeError> {
        if text.len() > LONGEST_SCOPE {
            return Err(ScopeError::TooLong(text.len()));
        }
        if text == "fleet" {
            return Ok(Self::Fleet);
        }
        let unknown = || ScopeError::Unknown(shown(text, 80));
        let empty = || ScopeError::Empty(shown(text, 80));
        let (word, name) = text.split_once(':').ok_or_else(unknown)?;
        if name.is_empty() {
            return Err(empty());
        }
        let name = name.to_owned();
        match word {
            "host" => Ok(Self::Host(name)),
            "group" => Ok(Self::Group(name)),
            "stack" => match name.split_once('/') {
                None => Ok(Self::Stack { host: None, stack: name }),
                Some((host, stack)) if !host.is_empty() && !stack.is_empty() => {
                    Ok(Self::Stack { host: Some(host.to_owned()), stack: stack.to_owned() })
                }
                Some(_) => Err(empty()),
            },
            "label" => match name.split_once('=') {
                None => Ok(Self::Label { name, value: None }),
                Some((label, value)) if !label.is_empty() => {
                    Ok(Self::Label { name: label.to_owned(), value: Some(value.to_owned()) })
                }
                Some(_) => Err(empty()),
            },
            _ => Err(unknown()),
        }
    }
}

impl Serialize for Scope {
    fn serialize<S: serde::Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}

impl<'de> Deserialize<'de> for Scope {
    fn deserialize<D: serde::Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        String::deserialize(deserializer)?.parse().map_err(serde::de::Error::custom)
    }
}
