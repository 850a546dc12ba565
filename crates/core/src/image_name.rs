//! Image names: `registry/repository:tag@digest`, as the OCI distribution specification defines them.

use std::fmt;

/// The registry that a name without one stands for.
pub const USUAL_REGISTRY: &str = "docker.io";

/// The most bytes of a name.
const LONGEST: usize = 512;

/// A name taken apart.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ImageName {
    /// The registry's address, e.g. `registry.tarnvalley.example:5000`.
    pub registry: String,
    /// The repository, e.g. `frost/api`.
    pub repository: String,
    /// The tag; `latest` when the name has neither tag nor digest.
    pub tag: Option<String>,
    /// The digest, `sha256:…`.
    pub digest: Option<String>,
    /// Whether the registry was written out.
    pub explicit: bool,
}

/// Why a name cannot be read.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("'{name}' is not an image name: {why}; write 'registry/repository:tag'")]
pub struct ImageNameError {
    name: String,
    why: &'static str,
}

impl std::str::FromStr for ImageName {
    type Err = ImageNameError;

    fn from_str(text: &str) -> Result<Self, Self::Err> {
        let wrong = |why| Err(ImageNameError { name: crate::text::shown(text, 120), why });
        if text.is_empty() {
            return wrong("it is empty");
        }
        if text.len() > LONGEST {
            return wrong("it is longer than 512 characters");
        }
        let (rest, digest) = match text.split_once('@') {
            Some((rest, digest)) => (rest, Some(digest)),
            None => (text, None),
        };
        if let Some(digest) = digest {
            let hex = digest.strip_prefix("sha256:").unwrap_or_default();
            if hex.len() != 64 || !hex.bytes().all(|b| b.is_ascii_digit() || (b'a'..=b'f').contains(&b)) {
                return wrong("the part after '@' is not a digest ('sha256:' and 64 hex digits)");
            }
        }
        let slash = rest.rfind('/').map_or(0, |n| n + 1);
        let (path, tag) = match rest[slash..].rsplit_once(':') {
            Some((last, tag)) => (&rest[..slash + last.len()], Some(tag)),
            None => (rest, None),
        };
        if let Some(tag) = tag {
            let fine = |b: u8| b.is_ascii_alphanumeric() || matches!(b, b'_' | b'.' | b'-');
            if tag.is_empty() || tag.len() > 128 || !tag.bytes().all(fine) || tag.starts_with(['.', '-']) {
                return wrong("the part after ':' is not a tag (letters, digits, '_', '.', '-')");
            }
        }
        let (registry, repository, explicit) = match path.split_once('/') {
            Some((first, rest)) if first.contains(['.', ':']) || first == "localhost" => {
                (first.to_owned(), rest.to_owned(), true)
            }
            Some(_) => (USUAL_REGISTRY.to_owned(), path.to_owned(), false),
            None => (USUAL_REGISTRY.to_owned(), format!("library/{path}"), false),
        };
        let part = |p: &str| {
            let fine =
                |b: u8| b.is_ascii_lowercase() || b.is_ascii_digit() || matches!(b, b'_' | b'.' | b'-');
            !p.is_empty()
                && p.bytes().all(fine)
                && !p.starts_with(['.', '-', '_'])
                && !p.ends_with(['.', '-', '_'])
        };
        if repository.bytes().any(|b| b.is_ascii_uppercase()) {
            return wrong("a repository must be in lower case");
        }
        if !repository.split('/').all(part) {
            return wrong("the repository may only have lower-case letters, digits, '_', '.', '-' and '/'");
        }
        let host = |b: u8| b.is_ascii_alphanumeric() || matches!(b, b'.' | b':' | b'-' | b'[' | b']');
        if !registry.bytes().all(host) {
            return wrong("the registry is not an address");
        }
        let tag = tag.map(str::to_owned).or_else(|| digest.is_none().then(|| "latest".to_owned()));
        let name = Self { registry, repository, tag, digest: digest.map(str::to_owned), explicit };
        // With the tag that it stands for it must still be a name.
        if name.to_string().len() > LONGEST {
            return wrong("with the tag 'latest' it is longer than 512 characters");
        }
        Ok(name)
    }
}

impl ImageName {
    /// The repository with its registry where it was written out: what is before the tag.
    pub fn base(&self) -> String {
        if self.explicit {
            return format!("{}/{}", self.registry, self.repository);
        }
        self.repository.strip_prefix("library/").unwrap_or(&self.repository).to_owned()
    }

    /// What a registry is asked for: the digest, or else the tag.
    pub fn version(&self) -> &str {
        self.digest.as_deref().or(self.tag.as_deref()).unwrap_or("latest")
    }

    /// Whether it names bytes that cannot change.
    pub fn is_pinned(&self) -> bool {
        self.digest.is_some()
    }

    /// Whether two names mean the same repository.
    pub fn same_repository(&self, other: &Self) -> bool {
        self.registry == other.registry && self.repository == other.repository
    }
}

impl fmt::Display for ImageName {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.base())?;
        if let Some(tag) = &self.tag {
            write!(f, ":{tag}")?;
        }
        if let Some(digest) = &self.digest {
            write!(f, "@{digest}")?;
        }
        Ok(())
    }
}

/// Whether two texts mean the same image: tags are filled in, registries too.
///
/// ```
/// use gubernum_core::image_name::same;
/// assert!(same("registry.tarnvalley.example/auction/web", "registry.tarnvalley.example/auction/web:latest"));
/// assert!(!same("auction/web:1", "auction/web:2"));
/// ```
pub fn same(a: &str, b: &str) -> bool {
    a == b
        || matches!((a.parse::<ImageName>(), b.parse::<ImageName>()), (Ok(a), Ok(b)) if {
            a.same_repository(&b) && a.version() == b.version()
        })
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    #[rstest]
    #[case("toolbox", "docker.io", "library/toolbox", "latest")]
    #[case("frost/api:2", "docker.io", "frost/api", "2")]
    #[case("localhost/x", "localhost", "x", "latest")]
    #[case("127.0.0.1:5000/a/b:1.2", "127.0.0.1:5000", "a/b", "1.2")]
    #[case("r.example/x", "r.example", "x", "latest")]
    fn taken_apart(
        #[case] text: &str,
        #[case] registry: &str,
        #[case] repository: &str,
        #[case] version: &str,
    ) {
        let name: ImageName = text.parse().unwrap();
        assert_eq!(
            (name.registry.as_str(), name.repository.as_str(), name.version()),
            (registry, repository, version)
        );
    }

    #[test]
    fn a_digest_pins() {
        let digest = format!("sha256:{}", "a1".repeat(32));
        let name: ImageName = format!("r.example/x:2@{digest}").parse().unwrap();
        assert!(name.is_pinned());
        assert_eq!((name.version(), name.tag.as_deref()), (digest.as_str(), Some("2")));
        assert!(same("toolbox", "docker.io/library/toolbox:latest"));
        assert!(!same("toolbox:1", "toolbox:2"));
    }

    /// Limits hold to the letter: what is just within is a name, one more is none.
    #[rstest]
    #[case::a_tag("frost:", 'a', 128)]
    #[case::a_name_with_a_tag("frost:1/", 'a', 0)]
    #[case::a_name_for_latest("", 'a', 512 - ":latest".len())]
    fn limits(#[case] begin: &str, #[case] letter: char, #[case] most: usize) {
        let name = |count: usize| format!("{begin}{}", letter.to_string().repeat(count));
        if most == 0 {
            // A registry with a port takes nothing from what the rest may have.
            let rest = 512 - begin.len() - ":latest".len();
            assert!(name(rest).parse::<ImageName>().is_ok());
            assert!(name(rest + 1).parse::<ImageName>().is_err());
            return;
        }
        assert!(name(most).parse::<ImageName>().is_ok());
        assert!(name(most + 1).parse::<ImageName>().is_err());
    }

    #[rstest]
    #[case::sixty_four('a', 64, true)]
    #[case::digits('0', 64, true)]
    #[case::nines('9', 64, true)]
    #[case::the_last_digit('f', 64, true)]
    #[case::beyond_it('g', 64, false)]
    #[case::upper_case('A', 64, false)]
    #[case::one_less('a', 63, false)]
    #[case::one_more('a', 65, false)]
    fn digests(#[case] digit: char, #[case] count: usize, #[case] fine: bool) {
        let text = format!("frost/api@sha256:{}", digit.to_string().repeat(count));
        assert_eq!(text.parse::<ImageName>().is_ok(), fine, "{text}");
    }

    #[rstest]
    #[case("frost:v1.2_3-rc", true)]
    #[case("frost:_x", true)]
    #[case("frost:.x", false)]
    #[case("frost:-x", false)]
    #[case("frost:x+y", false)]
    #[case("z/a.b_c-d/e", true)]
    #[case("z/a./e", false)]
    #[case("a/.e", false)]
    #[case("a/_e", false)]
    #[case("a/e-", false)]
    #[case("registry.example:5000/e", true)]
    #[case("[::1]:5000/e", true)]
    #[case("reg!stry.example/e", false)]
    #[case("host_x:1/e", false)]
    fn letters(#[case] text: &str, #[case] fine: bool) {
        assert_eq!(text.parse::<ImageName>().is_ok(), fine, "{text}");
    }

    #[rstest]
    #[case("toolbox", "toolbox", "toolbox:latest")]
    #[case("docker.io/library/toolbox", "docker.io/library/toolbox", "docker.io/library/toolbox:latest")]
    #[case("frost/api:2", "frost/api", "frost/api:2")]
    #[case("localhost/frost/api:2", "localhost/frost/api", "localhost/frost/api:2")]
    fn written_as_it_was_meant(#[case] text: &str, #[case] base: &str, #[case] whole: &str) {
        let name: ImageName = text.parse().unwrap();
        assert_eq!((name.base().as_str(), name.to_string().as_str()), (base, whole));
        assert!(!name.is_pinned());
    }

    #[test]
    fn the_same_repository_elsewhere_is_another() {
        let name = |text: &str| text.parse::<ImageName>().unwrap();
        assert!(name("frost/api:1").same_repository(&name("docker.io/frost/api:2")));
        assert!(!name("frost/api").same_repository(&name("frost/web")));
        assert!(!name("frost/api").same_repository(&name("r.example/frost/api")));
        assert!(!same("frost/api", "Frost/api") && same("Frost/api", "Frost/api"));
    }

    #[rstest]
    #[case("")]
    #[case("Frost/api")]
    #[case("frost api")]
    #[case("frost:")]
    #[case("frost:a/b:c:")]
    #[case("frost@sha256:12")]
    #[case("-x")]
    #[case("a//b")]
    fn malformed(#[case] text: &str) {
        assert!(text.parse::<ImageName>().is_err(), "{text}");
    }

    proptest! {
        #[test]
        fn reading_never_panics_and_writing_is_read(text in "[a-zA-Z0-9:/@._-]{0,40}") {
            if let Ok(name) = text.parse::<ImageName>() {
                let again: ImageName = name.to_string().parse().unwrap();
                prop_assert_eq!(again.version(), name.version());
                prop_assert!(again.same_repository(&name));
            }
        }
    }
}
