//! References: how people, scripts and the console name containers across the fleet.
//!
//! `host/name`, where `*` stands for any run of characters within its part. Without `*` the second
//! part may also be the beginning of an id (four hex digits or more). Without a host, a reference
//! must mean exactly one container.
//!
//! ```
//! use gubernum_core::reference::Reference;
//! let all: Reference = "*/frost-*".parse().unwrap();
//! assert!(all.has_wildcard());
//! assert!("a/b/c".parse::<Reference>().is_err());
//! ```

use std::fmt;
use std::str::FromStr;

use crate::container::Container;

/// The longest reference that is read.
pub const MAX_REFERENCE: usize = 512;
/// How many near matches or candidates an error lists.
pub const MAX_LISTED: usize = 6;
/// The shortest id prefix that counts.
pub const MIN_ID_PREFIX: usize = 4;

/// A parsed reference.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Reference {
    host: Option<String>,
    name: String,
}

/// Why a reference could not be read or does not say what is meant.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum ReferenceError {
    /// It is not of the form `host/name`.
    #[error("'{text}' is not a reference: {why}; write 'host/name', for example 'packhouse/frost-api'")]
    Malformed {
        /// What was given.
        text: String,
        /// What is wrong with it.
        why: &'static str,
    },
    /// Nothing in the fleet matches.
    #[error("no container matches '{reference}'{}", near_words(near))]
    NotFound {
        /// The kind of change and its settings.
        reference: String,
        /// The closest references that do exist.
        near: Vec<String>,
    },
    /// It means several containers, and has no `*` that would say that this is meant.
    #[error(
        "'{reference}' matches {count} containers: {}; choose one, or use '*' for several",
        matches.join(", ")
    )]
    Ambiguous {
        /// The kind of change and its settings.
        reference: String,
        /// How many it could mean.
        count: usize,
        /// Some of them.
        matches: Vec<String>,
    },
}

fn near_words(near: &[String]) -> String {
    if near.is_empty() {
        "; no name in the fleet is similar".to_owned()
    } else {
        format!("; near matches: {}", near.join(", "))
    }
}

impl FromStr for Reference {
    type Err = ReferenceError;

    fn from_str(text: &str) -> Result<Self, Self::Err> {
        let malformed = |why| ReferenceError::Malformed { text: crate::text::shown(text, 80), why };
        let trimmed = text.trim();
        if trimmed.is_empty() {
            return Err(malformed("it is empty"));
        }
        if trimmed.len() > MAX_REFERENCE {
            return Err(malformed("it is longer than 512 characters"));
        }
        if trimmed.chars().any(|c| c.is_control() || c.is_whitespace()) {
            return Err(malformed("it has a space or a control character in it"));
        }
        let (host, name) = match trimmed.split_once('/') {
            Some((host, name)) => (Some(host), name),
            None => (None, trimmed),
        };
        if name.contains('/') {
            return Err(malformed("it has more than one '/'"));
        }
        if name.is_empty() || host.is_some_and(str::is_empty) {
            return Err(malformed("one side of the '/' is empty"));
        }
        Ok(Self { host: host.map(str::to_owned), name: name.to_owned() })
    }
}

impl fmt::Display for Reference {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match &self.host {
            Some(host) => write!(f, "{host}/{}", self.name),
            None => f.write_str(&self.name),
        }
    }
}

impl Reference {
    /// Whether it may mean several containers.
    pub fn has_wildcard(&self) -> bool {
        self.name.contains('*') || self.host.as_deref().is_some_and(|h| h.contains('*'))
    }

    fn host_matches(&self, host: &str) -> bool {
        self.host.as_deref().is_none_or(|pattern| wildcard(pattern, host))
    }

    /// Whether a host and a name match.
    pub fn matches(&self, host: &str, name: &str) -> bool {
        self.host_matches(host) && wildcard(&self.name, name)
    }

    /// Whether the container's host and name match; ids are not looked at.
    pub fn matches_name(&self, container: &Container) -> bool {
        self.host_matches(&container.host) && wildcard(&self.name, &container.name)
    }

    fn matches_id(&self, container: &Container) -> bool {
        self.name.len() >= MIN_ID_PREFIX
            && self.name.bytes().all(|b| b.is_ascii_hexdigit())
            && self.host_matches(&container.host)
            && container.id.starts_with(&self.name.to_ascii_lowercase())
    }

    /// Finds what it means among the fleet's containers, in their order. A name goes before an id.
    ///
    /// # Errors
    /// [`ReferenceError::NotFound`] with near matches, or [`ReferenceError::Ambiguous`] when a
    /// reference without `*` means several.
    pub fn resolve<'a>(
        &self,
        containers: impl Iterator<Item = &'a Container> + Clone,
    ) -> Result<Vec<&'a Container>, ReferenceError> {
        let mut found: Vec<&Container> = containers.clone().filter(|c| self.matches_name(c)).collect();
        if found.is_empty() {
            found = containers.clone().filter(|c| self.matches_id(c)).collect();
        }
        if found.is_empty() {
            return Err(ReferenceError::NotFound {
                reference: self.to_string(),
                near: self.near(containers),
            });
        }
        if found.len() > 1 && !self.has_wildcard() {
            return Err(ReferenceError::Ambiguous {
                reference: self.to_string(),
                count: found.len(),
                matches: found.iter().take(MAX_LISTED).map(|c| c.reference()).collect(),
            });
        }
        Ok(found)
    }

    fn near<'a>(&self, containers: impl Iterator<Item = &'a Container>) -> Vec<String> {
        let wanted = self.to_string().to_ascii_lowercase();
        let bare = self.name.replace('*', "").to_ascii_lowercase();
        let mut scored: Vec<(f64, String)> = containers
            .map(|c| {
                let reference = c.reference();
                let by_name = strsim::jaro_winkler(&bare, &c.name.to_ascii_lowercase());
                let whole = strsim::jaro_winkler(&wanted, &reference.to_ascii_lowercase());
                let part = if bare.len() > 2 && c.name.contains(&bare) { 0.95 } else { 0.0 };
                (by_name.max(whole).max(part), reference)
            })
            .filter(|(score, _)| *score > 0.75)
            .collect();
        scored.sort_by(|a, b| b.0.total_cmp(&a.0).then_with(|| a.1.cmp(&b.1)));
        scored.into_iter().take(MAX_LISTED).map(|(_, reference)| reference).collect()
    }
}

/// Whether `text` matches `pattern`, in which `*` stands for any run of characters. Linear in
/// practice: on a mismatch only the last star is tried again.
///
/// ```
/// use gubernum_core::reference::wildcard;
/// assert!(wildcard("frost-*", "frost-api"));
/// assert!(!wildcard("frost-*", "defrost-api"));
/// ```
pub fn wildcard(pattern: &str, text: &str) -> bool {
    let (p, t) = (pattern.as_bytes(), text.as_bytes());
    let (mut pi, mut ti, mut star) = (0, 0, None);
    while ti < t.len() {
        if p.get(pi) == Some(&b'*') {
            star = Some((pi, ti));
            pi += 1;
        } else if p.get(pi) == t.get(ti) {
            pi += 1;
            ti += 1;
        } else if let Some((sp, st)) = star {
            pi = sp + 1;
            ti = st + 1;
            star = Some((sp, st + 1));
        } else {
            return false;
        }
    }
    p.iter().skip(pi).all(|&b| b == b'*')
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    fn fleet() -> Vec<Container> {
        [
            ("packhouse", "frost-api", "aa11bb22"),
            ("packhouse", "frost-worker", "aa11cc33"),
            ("coldstore", "frost-api", "dd44ee55"),
            ("coldstore", "beef", "ff66"),
        ]
        .map(|(h, n, i)| Container::blank(h, n, i))
        .to_vec()
    }

    fn resolve(text: &str) -> Result<Vec<String>, ReferenceError> {
        let all = fleet();
        let reference: Reference = text.parse()?;
        Ok(reference.resolve(all.iter())?.iter().map(|c| c.reference()).collect())
    }

    #[rstest]
    #[case("packhouse/frost-api", &["packhouse/frost-api"])]
    #[case("*/frost-api", &["packhouse/frost-api", "coldstore/frost-api"])]
    #[case("packhouse/*", &["packhouse/frost-api", "packhouse/frost-worker"])]
    #[case("frost-worker", &["packhouse/frost-worker"])]
    #[case("dd44", &["coldstore/frost-api"])]
    #[case("beef", &["coldstore/beef"])]
    #[case("*/*-w*r", &["packhouse/frost-worker"])]
    fn finds(#[case] text: &str, #[case] expected: &[&str]) {
        assert_eq!(resolve(text).unwrap(), expected);
    }

    #[rstest]
    #[case("frost-api")]
    #[case("aa11")]
    fn several_without_a_star_are_ambiguous(#[case] text: &str) {
        let error = resolve(text).unwrap_err();
        assert!(matches!(error, ReferenceError::Ambiguous { count: 2, .. }), "{error}");
    }

    #[test]
    fn nothing_found_lists_near_matches() {
        let error = resolve("packhouse/frost-apy").unwrap_err();
        assert!(error.to_string().contains("packhouse/frost-api"), "{error}");
    }

    #[rstest]
    #[case("")]
    #[case("/x")]
    #[case("x/")]
    #[case("a/b/c")]
    #[case("a b/c")]
    fn malformed(#[case] text: &str) {
        assert!(matches!(resolve(text), Err(ReferenceError::Malformed { .. })));
    }

    fn slow(p: &[u8], t: &[u8]) -> bool {
        match p.split_first() {
            None => t.is_empty(),
            Some((b'*', rest)) => (0..=t.len()).any(|i| slow(rest, &t[i..])),
            Some((c, rest)) => t.first() == Some(c) && slow(rest, &t[1..]),
        }
    }

    proptest! {
        #[test]
        fn wildcard_agrees_with_its_definition(p in "[ab*]{0,8}", t in "[ab]{0,10}") {
            prop_assert_eq!(wildcard(&p, &t), slow(p.as_bytes(), t.as_bytes()));
        }

        #[test]
        fn reading_never_panics(text in any::<String>()) {
            let _ = text.parse::<Reference>();
        }
    }
}
