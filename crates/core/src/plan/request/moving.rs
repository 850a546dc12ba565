//! The request to move or clone to another host with its data.

use std::collections::BTreeMap;

use serde::de::Error as _;
use serde::{Deserialize, Deserializer, Serialize};

use super::{ApplyRequest, RequestError};
use crate::compose::read::is_stack_name;

/// The most ports that a copy may change.
const MOST_PORTS: usize = 1000;

/// What is moved or copied.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "lowercase")]
#[derive(strum::IntoStaticStr)]
#[strum(serialize_all = "lowercase")]
pub enum MoveKind {
    /// One container.
    #[default]
    Container,
    /// A stack.
    Stack,
    /// One volume.
    Volume,
}

impl MoveKind {
    /// The word used everywhere.
    pub fn word(self) -> &'static str {
        self.into()
    }
}

/// Moves or clones a container, stack or volume with its data to another host. One target.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct MoveRequest {
    /// The kind of target.
    #[serde(default)]
    pub what: MoveKind,
    /// The destination host.
    pub to: String,
    /// The new name; unchanged when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub name: Option<String>,
    /// New host ports, by the current ones.
    #[cfg_attr(feature = "schema", schema(value_type = std::collections::HashMap<String, u16>))]
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty", deserialize_with = "ports_by_name")]
    pub ports: BTreeMap<u16, u16>,
    /// Copy the data once while the original runs, so that the downtime is only for what changed since.
    #[serde(default)]
    pub first_pass: bool,
    /// Pull images from their registries instead of copying them between hosts.
    #[serde(default)]
    pub pull: bool,
    /// Skip verifying the copied data.
    #[serde(default)]
    pub unverified: bool,
    /// For a move: keep the original, stopped.
    #[serde(default)]
    pub keep: bool,
    /// For a move: remove the original's volumes with their data once the copy runs.
    #[serde(default)]
    pub remove_volumes: bool,
    /// For a clone: keep the original running while its data is copied, instead of pausing it.
    #[serde(default)]
    pub running: bool,
    /// Seconds a new container must stay up if it has no health check; 10 when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub watch_seconds: Option<u32>,
    /// The source host. Set by the service; ignored in requests.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub from: Option<String>,
    /// For a stack: the request to apply there. Set by the service; ignored in requests.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub definition: Option<Box<ApplyRequest>>,
}

impl MoveRequest {
    /// The host that it comes from and its name there, once the service has said them.
    pub fn origin(&self) -> (&str, &str) {
        self.from.as_deref().and_then(|from| from.split_once('/')).unwrap_or_default()
    }

    /// The name that it has on the host that it goes to.
    pub fn new_name(&self) -> &str {
        self.name.as_deref().unwrap_or(self.origin().1)
    }

    pub(super) fn hide(&mut self) {
        if let Some(definition) = &mut self.definition {
            definition.hide();
        }
    }

    /// Checks that the settings make sense, for a move or a copy.
    pub(super) fn check(&self, moves: bool) -> Result<(), RequestError> {
        let wrong =
            |field: &'static str, sentence: &str| Err(RequestError { field, sentence: sentence.to_owned() });
        if self.to.is_empty() {
            return wrong("to", "'to' must name the destination host");
        }
        if !moves && self.keep {
            return wrong("keep", "a clone always keeps the original; remove 'keep'");
        }
        if !moves && self.remove_volumes {
            return wrong(
                "remove_volumes",
                "a clone always keeps the original's volumes; remove 'remove_volumes'",
            );
        }
        if moves && self.running {
            return wrong("running", "a move stops the original; use 'first_pass' to shorten the downtime");
        }
        if self.keep && self.remove_volumes {
            return wrong(
                "remove_volumes",
                "an original that is kept needs its volumes; give 'keep' or 'remove_volumes'",
            );
        }
        if self.running && self.first_pass {
            return wrong("first_pass", "a running original is copied once; give 'running' or 'first_pass'");
        }
        if self.ports.len() > MOST_PORTS {
            return wrong("ports", "'ports' has more than 1000 entries");
        }
        if self.what == MoveKind::Volume && !self.ports.is_empty() {
            return wrong("ports", "a volume has no ports; remove 'ports'");
        }
        if self.ports.iter().any(|(from, to)| *from == 0 || *to == 0) {
            return wrong("ports", "a port must be from 1 to 65535");
        }
        match &self.name {
            Some(name) if self.what == MoveKind::Stack && !is_stack_name(name) => wrong(
                "name",
                "a stack name has lower-case letters, digits, '-' and '_', starting with a letter or digit",
            ),
            Some(name) if !is_name(name) => wrong(
                "name",
                "a name has at least two letters, digits, '_', '.' or '-', starting with a letter or digit",
            ),
            _ => Ok(()),
        }
    }
}

/// Members of a JSON object are named by texts; inside of a tagged one serde does not take them for numbers by itself.
fn ports_by_name<'de, D: Deserializer<'de>>(ports: D) -> Result<BTreeMap<u16, u16>, D::Error> {
    let named: BTreeMap<String, u16> = Deserialize::deserialize(ports)?;
    let number = |(name, to): (String, u16)| {
        let wrong = || D::Error::custom(format!("'{}' is not a port", crate::text::shown(&name, 20)));
        Ok((name.parse().map_err(|_| wrong())?, to))
    };
    named.into_iter().map(number).collect()
}

/// Whether engines take a text as the name of a container or a volume.
fn is_name(name: &str) -> bool {
    let mut letters = name.chars();
    letters.next().is_some_and(|c| c.is_ascii_alphanumeric())
        && (2..=200).contains(&name.len())
        && letters.all(|c| c.is_ascii_alphanumeric() || matches!(c, '_' | '.' | '-'))
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn wish(change: impl FnOnce(&mut MoveRequest)) -> MoveRequest {
        let mut wish = MoveRequest { to: "coldstore".to_owned(), ..MoveRequest::default() };
        change(&mut wish);
        wish
    }

    #[rstest]
    #[case(wish(|w| w.to.clear()), true, "to")]
    #[case(wish(|w| w.keep = true), false, "keep")]
    #[case(wish(|w| w.remove_volumes = true), false, "remove_volumes")]
    #[case(wish(|w| w.running = true), true, "running")]
    #[case(wish(|w| { w.keep = true; w.remove_volumes = true }), true, "remove_volumes")]
    #[case(wish(|w| { w.running = true; w.first_pass = true }), false, "first_pass")]
    #[case(wish(|w| { w.what = MoveKind::Volume; w.ports = [(80, 81)].into() }), false, "ports")]
    #[case(wish(|w| w.ports = [(80, 0)].into()), false, "ports")]
    #[case(wish(|w| w.name = Some("a/b".into())), false, "name")]
    #[case(wish(|w| { w.what = MoveKind::Stack; w.name = Some("Cold".into()) }), false, "name")]
    fn what_is_invalid_is_refused_at_its_field(
        #[case] wish: MoveRequest,
        #[case] moves: bool,
        #[case] field: &str,
    ) {
        assert_eq!(wish.check(moves).unwrap_err().field, field);
    }

    #[test]
    fn ports_are_read_back() {
        use crate::plan::Request;
        let request = Request::Clone(wish(|w| w.ports = [(7311, 17311)].into()));
        let json = serde_json::to_string(&request).unwrap();
        assert_eq!(serde_json::from_str::<Request>(&json).unwrap(), request);
        let odd = json.replace("\"7311\"", "\"web\"");
        assert!(
            serde_json::from_str::<Request>(&odd).unwrap_err().to_string().contains("'web' is not a port")
        );
    }

    #[test]
    fn its_new_name_is_its_own_unless_told() {
        let mut plain = wish(|w| w.from = Some("packhouse/frost-api".into()));
        assert_eq!((plain.origin(), plain.new_name()), (("packhouse", "frost-api"), "frost-api"));
        plain.name = Some("frost-two".into());
        assert_eq!(plain.new_name(), "frost-two");
        assert_eq!(plain.check(true), Ok(()));
    }
}
