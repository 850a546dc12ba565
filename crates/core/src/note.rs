//! Notes that members write on objects of the fleet, and whom they mention.
//!
//! An object is written as a kind and a name: `fleet`, `host:packhouse`, `container:packhouse/orchard-web`,
//! `stack:packhouse/orchard`, `image:…`, `volume:…`, `network:…`. A note stays with the name, so that it outlives a container
//! that is made again.

use std::fmt;
use std::str::FromStr;

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use crate::assets::AssetKind;
use crate::fleet::Fleet;
use crate::rights::{Access, Right, Rights};
use crate::text::shown;

/// The longest note, in characters.
pub const LONGEST_NOTE: usize = 4000;
/// The most notes.
pub const MOST_NOTES: usize = 5000;
/// The most members that one note mentions; further ones are text.
pub const MOST_MENTIONS: usize = 20;
/// The longest name of an object, in bytes.
const LONGEST_OBJECT: usize = 600;

/// An object that notes are on, and that members look at.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum NotedObject {
    /// The fleet as a whole.
    Fleet,
    /// A host.
    Host(String),
    /// A container by its name.
    Container(String, String),
    /// A stack.
    Stack(String, String),
    /// An image, a volume or a network.
    Asset(AssetKind, String, String),
}

/// Why a text names no object.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error(
    "'{0}' is not an object; write 'fleet', 'host:NAME', or 'container:HOST/NAME' and the same with stack, image, volume or network"
)]
pub struct ObjectError(String);

impl FromStr for NotedObject {
    type Err = ObjectError;

    fn from_str(text: &str) -> Result<Self, ObjectError> {
        let wrong = || ObjectError(shown(text, 80));
        if text == "fleet" {
            return Ok(Self::Fleet);
        }
        if text.len() > LONGEST_OBJECT || text.chars().any(char::is_control) {
            return Err(wrong());
        }
        let (kind, name) = text.split_once(':').ok_or_else(wrong)?;
        if kind == "host" && !name.is_empty() && !name.contains('/') {
            return Ok(Self::Host(name.to_owned()));
        }
        let (host, name) = name.split_once('/').ok_or_else(wrong)?;
        if host.is_empty() || name.is_empty() {
            return Err(wrong());
        }
        let (host, name) = (host.to_owned(), name.to_owned());
        match kind {
            "container" => Ok(Self::Container(host, name)),
            "stack" => Ok(Self::Stack(host, name)),
            "image" => Ok(Self::Asset(AssetKind::Image, host, name)),
            "volume" => Ok(Self::Asset(AssetKind::Volume, host, name)),
            "network" => Ok(Self::Asset(AssetKind::Network, host, name)),
            _ => Err(wrong()),
        }
    }
}

impl fmt::Display for NotedObject {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Fleet => f.write_str("fleet"),
            Self::Host(host) => write!(f, "host:{host}"),
            Self::Container(host, name) => write!(f, "container:{host}/{name}"),
            Self::Stack(host, name) => write!(f, "stack:{host}/{name}"),
            Self::Asset(kind, host, name) => write!(f, "{}:{host}/{name}", kind.word()),
        }
    }
}

impl Serialize for NotedObject {
    fn serialize<S: serde::Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}

impl<'de> Deserialize<'de> for NotedObject {
    fn deserialize<D: serde::Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        let text = String::deserialize(deserializer)?;
        text.parse().map_err(serde::de::Error::custom)
    }
}

impl NotedObject {
    /// Its host; none for the fleet.
    pub fn host(&self) -> Option<&str> {
        match self {
            Self::Fleet => None,
            Self::Host(host) | Self::Container(host, _) | Self::Stack(host, _) | Self::Asset(_, host, _) => {
                Some(host)
            }
        }
    }

    /// What is allowed on it. What is not there is judged as its host is, so that a note on it is seen by whoever sees the host.
    ///
    /// `seen` is the fleet as the caller sees it: a host of which something is seen is there by its name.
    pub fn rights(&self, fleet: &Fleet, seen: &Fleet, access: &Access) -> Rights {
        match self {
            Self::Fleet if access.somewhere(Right::See) => with_see(access.on_fleet()),
            Self::Fleet => Rights::NONE,
            Self::Host(host) => {
                let rights = fleet.rights_on_host(access, host);
                if seen.host(host).is_some() { with_see(rights) } else { rights }
            }
            Self::Container(host, name) => {
                let found = fleet.containers_of(host).find(|c| c.name == *name);
                found.map_or_else(|| fleet.rights_on_host(access, host), |c| fleet.rights_on(access, c))
            }
            Self::Stack(host, stack) => fleet.rights_on_stack(access, host, stack),
            Self::Asset(kind, host, name) => fleet.rights_on_asset(access, host, *kind, name),
        }
    }
}

fn with_see(rights: Rights) -> Rights {
    rights.iter().chain([Right::See]).collect()
}

/// A note on an object.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Note {
    /// Its number.
    pub id: u64,
    /// The object, such as `container:packhouse/orchard-web`.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub on: NotedObject,
    /// The text.
    pub text: String,
    /// Whether the note is pinned to the attention list.
    pub pinned: bool,
    /// The author.
    pub author: String,
    /// When.
    #[cfg_attr(feature = "schema", schema(value_type = String, format = DateTime))]
    pub created: Timestamp,
    /// When it was last edited.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[cfg_attr(feature = "schema", schema(value_type = Option<String>, format = DateTime))]
    pub edited: Option<Timestamp>,
    /// Mentioned members.
    pub mentions: Vec<String>,
    /// It mentions the caller, who has not seen it yet.
    #[serde(default)]
    pub is_new: bool,
}

/// The members whom a text mentions with `@name`, each once. A name with spaces is mentioned as `@"name"`.
pub fn mentioned<'a>(text: &str, members: impl Iterator<Item = &'a str>) -> Vec<String> {
    let lower = text.to_lowercase();
    let mut found: Vec<String> = Vec::new();
    for member in members {
        let name = member.to_lowercase();
        let quoted = lower.contains(&format!("@\"{name}\""));
        let plain = lower.match_indices(&format!("@{name}")).any(|(at, mark)| {
            let before = lower[..at].chars().next_back();
            let after = lower[at + mark.len()..].chars().next();
            // Not in the middle of an address, and not the beginning of a longer name.
            let begins = before.is_none_or(|c| !c.is_alphanumeric());
            let part = |c: char| c.is_alphanumeric() || matches!(c, '-' | '_' | '@');
            begins && after.is_none_or(|c| !part(c))
        });
        if (quoted || plain) && found.len() < MOST_MENTIONS {
            found.push(member.to_owned());
        }
    }
    found
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("fleet")]
    #[case("host:packhouse")]
    #[case("container:packhouse/orchard-web")]
    #[case("stack:packhouse/orchard")]
    #[case("image:packhouse/registry.example/orchard/web:1.2")]
    #[case("volume:packhouse/ledger")]
    #[case("network:packhouse/orchard_inner")]
    fn objects_are_written_and_read_alike(#[case] text: &str) {
        assert_eq!(text.parse::<NotedObject>().unwrap().to_string(), text);
    }

    #[rstest]
    #[case("")]
    #[case("packhouse")]
    #[case("host:")]
    #[case("host:a/b")]
    #[case("container:packhouse")]
    #[case("container:packhouse/")]
    #[case("container:/x")]
    #[case("barn:packhouse/x")]
    #[case("container:packhouse/a\nb")]
    fn what_is_no_object_is_refused(#[case] text: &str) {
        let error = text.parse::<NotedObject>().unwrap_err().to_string();
        assert!(error.contains("write 'fleet'"), "{error}");
    }

    #[rstest]
    #[case::at_the_end("ask @mara", &["mara"])]
    #[case::with_a_mark("@Jory, see this.", &["jory"])]
    #[case::two("@mara and @jory: @mara first", &["mara", "jory"])]
    #[case::a_longer_name("@marabel", &[])]
    #[case::an_address("mail x@mara.example", &[])]
    #[case::a_full_stop("tell @mara.", &["mara"])]
    #[case::with_a_space("@\"wim de vries\" knows", &["wim de vries"])]
    #[case::nobody("@someone", &[])]
    fn mentions_are_found(#[case] text: &str, #[case] expected: &[&str]) {
        assert_eq!(mentioned(text, ["mara", "jory", "wim de vries"].into_iter()), expected);
    }
}
