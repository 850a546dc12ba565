//! A stack's files with secrets masked line by line, and the values restored where a masked line comes back
//! unchanged.
//!
//! Texts belong to people: only the value is taken out of a line, so that what is shown can be edited and applied.

use std::borrow::Cow;
use std::collections::{BTreeMap, BTreeSet};
use std::sync::LazyLock;

use regex::Regex;

use crate::compose::model::{FileSource, Stack};
use crate::mask::{MASK, looks_secret};
use crate::plan::request::ApplyRequest;

/// A name with its value, as YAML and files of variables have them, anywhere in a line.
static NAMED: LazyLock<Option<Regex>> = LazyLock::new(|| {
    Regex::new(
        r#"(?P<head>(?:^|[\s{,\[-])["']?(?P<name>[A-Za-z_][A-Za-z0-9_.-]*)["']?(?::\s+|\s*=\s*))(?P<value>"(?:[^"\\]|\\.)*"|'(?:[^']|'')*'|[^\s"'\[{|>&*!#,}\]][^\s,}\]]*(?: +[^\s#,:}\]][^\s,}\]]*)*)"#,
    )
    .ok()
});
/// A key at the beginning of a line, with what follows it: a value may go on over the lines below.
static KEY: LazyLock<Option<Regex>> = LazyLock::new(|| {
    Regex::new(
        r#"^(?P<before>\s*(?:- +)*)["']?(?P<name>[A-Za-z_][A-Za-z0-9_.-]*)["']?\s*:(?:\s+(?P<value>.*))?$"#,
    )
    .ok()
});
/// Attributes of the specification whose names only sound like secrets.
const ATTRIBUTES: &[&str] = &["secrets", "secret", "credential_spec", "config", "configs"];

/// A line that hides something and is not one that was shown.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error(
    "a masked value is kept only in an unchanged line; enter the value again, or use a variable, '${{NAME}}'"
)]
pub struct NotKnown {
    /// The file.
    pub file: String,
    /// The line, from 1.
    pub line: u64,
}

/// Whether a value is taken from a variable or from elsewhere, or says nothing.
fn gives_nothing_away(value: &str) -> bool {
    let bare = value.trim_matches(['"', '\'']);
    bare.is_empty()
        || bare.starts_with('$')
        || matches!(bare, "true" | "false" | "null" | "~")
        || bare == MASK
}

fn line(text: &str) -> Cow<'_, str> {
    // The pattern is always the same, so that it can be read is seen in the tests.
    let Some(named) = NAMED.as_ref() else { return Cow::Borrowed(MASK) };
    named.replace_all(text, |found: &regex::Captures<'_>| {
        let (head, name, value) = (&found["head"], &found["name"], &found["value"]);
        let is_hidden = !ATTRIBUTES.contains(&name)
            && !gives_nothing_away(value)
            && looks_secret(name, value.trim_matches(['"', '\'']));
        if is_hidden { format!("{head}{MASK}") } else { found[0].to_owned() }
    })
}

/// A text with what looks like a secret hidden in its lines.
///
/// ```
/// use gubernum_core::stack::hidden::text;
/// let shown = text("environment:\n  ROWSTORE_PASSWORD: russet\n  TZ: UTC\n");
/// assert_eq!(shown, "environment:\n  ROWSTORE_PASSWORD: ••••••••\n  TZ: UTC\n");
/// ```
pub fn text(text: &str) -> String {
    lines(text).join("\n")
}

/// The lines of a text as they are shown.
fn lines(text: &str) -> Vec<Cow<'_, str>> {
    let mut all = Vec::new();
    // A secret value goes on in lines that are indented more than its key.
    let mut below: Option<Below> = None;
    for whole in text.split('\n') {
        let indent = whole.len() - whole.trim_start().len();
        if let Some(key) = &below
            && !whole.trim().is_empty()
        {
            if indent > key.column && (key.has_begun || !is_structure(whole)) {
                all.push(Cow::Owned(format!("{}{MASK}", &whole[..indent])));
                below = Some(Below { column: key.column, has_begun: true });
                continue;
            }
            below = None;
        }
        below = below.or_else(|| Below::of(whole));
        all.push(line(whole));
    }
    all
}

/// A key with a secret value that may go on in the lines below it.
struct Below {
    column: usize,
    /// It is certain that what follows is the value.
    has_begun: bool,
}

impl Below {
    fn of(whole: &str) -> Option<Self> {
        let found = KEY.as_ref()?.captures(whole)?;
        let name = &found["name"];
        let value = found.name("value").map_or("", |value| value.as_str().trim());
        let is_block = value.starts_with(['|', '>']);
        let is_elsewhere = !is_block && !value.is_empty() && gives_nothing_away(value);
        let is_other = value.starts_with(['{', '[', '*', '&']);
        let is_hidden =
            !ATTRIBUTES.contains(&name) && looks_secret(name, "a value") && !is_elsewhere && !is_other;
        is_hidden.then(|| Self { column: found["before"].len(), has_begun: !value.is_empty() })
    }
}

/// Whether a line begins a mapping or a list, which a key without a value may have below it.
fn is_structure(whole: &str) -> bool {
    let text = whole.trim();
    text.starts_with("- ") || text.starts_with('#') || KEY.as_ref().is_some_and(|key| key.is_match(whole))
}

/// A text that was shown and perhaps edited, with what it hides taken from the one that it was shown of.
fn restored(file: &str, shown: &str, before: Option<&String>) -> Result<String, NotKnown> {
    if !shown.contains(MASK) {
        return Ok(shown.to_owned());
    }
    let mut known: BTreeMap<String, Vec<&str>> = BTreeMap::new();
    if let Some(text) = before {
        for (whole, shown) in text.split('\n').zip(lines(text)) {
            known.entry(shown.into_owned()).or_default().push(whole);
        }
    }
    // Lines that look the same stay in their order; what is said once may be said again.
    let mut taken: BTreeMap<&str, usize> = BTreeMap::new();
    let mut out = Vec::new();
    for (n, shown) in shown.split('\n').enumerate() {
        if !shown.contains(MASK) {
            out.push(shown);
            continue;
        }
        let unknown = || NotKnown { file: file.to_owned(), line: n as u64 + 1 };
        let same = known.get(shown).ok_or_else(unknown)?;
        let turn = taken.entry(shown).or_default();
        out.push(same.get(*turn).or(same.last()).ok_or_else(unknown)?);
        *turn += 1;
    }
    Ok(out.join("\n"))
}

/// The files that secrets are made from: nothing of them is shown.
fn of_secrets(stack: Option<&Stack>) -> BTreeSet<&str> {
    let sources = stack.into_iter().flat_map(|s| s.secrets.values());
    let paths = sources.filter_map(|source| match source {
        FileSource::File(path) => Some(path.strip_prefix("./").unwrap_or(path)),
        _ => None,
    });
    paths.collect()
}

/// What was applied, as everybody may see it. `stack` is what it means, as far as it is known.
pub fn shown(request: &ApplyRequest, stack: Option<&Stack>) -> ApplyRequest {
    let of_secrets = of_secrets(stack);
    let mut shown = request.clone();
    for (path, content) in &mut shown.files {
        *content = if of_secrets.contains(path.as_str()) { MASK.to_owned() } else { text(content) };
    }
    for (name, value) in &mut shown.variables {
        if looks_secret(name, value) {
            MASK.clone_into(value);
        }
    }
    shown
}

/// What somebody sends who was shown `before`, with all that it hides.
///
/// # Errors
/// The first line that hides something and was not shown so. A variable that is hidden and was not there is reported as a line of
/// the file `variables`.
pub fn revealed(request: ApplyRequest, before: Option<&ApplyRequest>) -> Result<ApplyRequest, NotKnown> {
    let mut whole = request;
    for (path, content) in &mut whole.files {
        let known = before.and_then(|b| b.files.get(path));
        *content = match known {
            Some(known) if content.trim() == MASK => known.clone(),
            known => restored(path, content, known)?,
        };
    }
    for (n, (name, value)) in whole.variables.iter_mut().enumerate() {
        if value == MASK {
            let known = before.and_then(|b| b.variables.get(name));
            let unknown = || NotKnown { file: "variables".to_owned(), line: n as u64 + 1 };
            known.ok_or_else(unknown)?.clone_into(value);
        }
    }
    Ok(whole)
}

/// Whether anything in a request is hidden.
pub fn hides(request: &ApplyRequest) -> bool {
    request.files.values().chain(request.variables.values()).any(|text| text.contains(MASK))
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("  ROWSTORE_PASSWORD: russet", "  ROWSTORE_PASSWORD: ••••••••")]
    #[case("  - ROWSTORE_PASSWORD=russet pears", "  - ROWSTORE_PASSWORD=••••••••")]
    #[case("environment: {TZ: UTC, API_KEY: 'a b'}", "environment: {TZ: UTC, API_KEY: ••••••••}")]
    #[case("API_KEY=abc # the old one", "API_KEY=•••••••• # the old one")]
    #[case("    \"ACCESS_TOKEN\": \"a\\\"b\"", "    \"ACCESS_TOKEN\": ••••••••")]
    #[case("export API_TOKEN=abc", "export API_TOKEN=••••••••")]
    #[case("  ROWSTORE_PASSWORD: ${ROWSTORE_PASSWORD:?}", "  ROWSTORE_PASSWORD: ${ROWSTORE_PASSWORD:?}")]
    #[case("    secrets: [store_password]", "    secrets: [store_password]")]
    #[case("secrets:", "secrets:")]
    #[case("  store_password:", "  store_password:")]
    #[case("  store_password: {file: ./password.txt}", "  store_password: {file: ./password.txt}")]
    #[case("  PASSWORD_FILE: /run/secrets/store", "  PASSWORD_FILE: /run/secrets/store")]
    #[case(
        "  image: registry.tarnvalley.example:5000/api:1",
        "  image: registry.tarnvalley.example:5000/api:1"
    )]
    #[case("K_PASSWORD: |\n  one\n\n  two: 2\nTZ: UTC", "K_PASSWORD: |\n  ••••••••\n\n  ••••••••\nTZ: UTC")]
    #[case("- API_KEY: >-\n    one\n  TZ: UTC", "- API_KEY: >-\n    ••••••••\n  TZ: UTC")]
    #[case("API_KEY: one\n  two\nTZ: UTC", "API_KEY: ••••••••\n  ••••••••\nTZ: UTC")]
    #[case("API_KEY:\n  one\nTZ: UTC", "API_KEY:\n  ••••••••\nTZ: UTC")]
    #[case("store_password:\n  file: ./p.txt\n  x: 1", "store_password:\n  file: ./p.txt\n  x: 1")]
    #[case("secrets:\n  - one\n", "secrets:\n  - one\n")]
    fn lines_hide_values_only(#[case] whole: &str, #[case] shown: &str) {
        assert_eq!(text(whole), shown);
    }

    fn request(text: &str) -> ApplyRequest {
        ApplyRequest {
            stack: "frostwatch".into(),
            files: [("stack.yaml".to_owned(), text.to_owned()), ("p.txt".to_owned(), "russet".to_owned())]
                .into(),
            variables: [
                ("STORE_PASSWORD".to_owned(), "plums".to_owned()),
                ("TAG".to_owned(), "2".to_owned()),
            ]
            .into(),
            ..ApplyRequest::default()
        }
    }

    #[test]
    fn what_is_hidden_comes_back_in_its_line() {
        let before = request("a:\n  API_KEY: one\nb:\n  API_KEY: two\nc: 1\n");
        let stack = Stack {
            secrets: [("p".to_owned(), FileSource::File("./p.txt".to_owned()))].into(),
            ..Stack::default()
        };
        let mut seen = shown(&before, Some(&stack));
        assert!(!format!("{seen:?}").contains("russet") && !format!("{seen:?}").contains("plums"));
        let edited = seen.files["stack.yaml"].replace("c: 1", "c: 2");
        seen.files.insert("stack.yaml".into(), edited);
        let whole = revealed(seen, Some(&before)).unwrap();
        assert_eq!(whole.files["stack.yaml"], "a:\n  API_KEY: one\nb:\n  API_KEY: two\nc: 2\n");
        assert_eq!(
            (whole.files["p.txt"].as_str(), whole.variables["STORE_PASSWORD"].as_str()),
            ("russet", "plums")
        );
    }

    #[test]
    fn what_nobody_was_shown_is_reported_at_its_line() {
        let other = request(&format!("a: 1\nOTHER_KEY: {MASK}\n"));
        let error = revealed(other.clone(), Some(&request("API_KEY: one\n"))).unwrap_err();
        assert_eq!((error.file.as_str(), error.line), ("stack.yaml", 2));
        assert!(revealed(other, None).is_err());
    }

    proptest! {
        #[test]
        fn shown_and_sent_back_it_is_the_same(text in "([ a-zA-Z_:='\"#{},\\[\\]$-]{0,30}(KEY|TOKEN|tz)(: |=)[ a-z'\"]{0,12}\n){0,6}") {
            let before = request(&text);
            prop_assert_eq!(revealed(shown(&before, None), Some(&before)).unwrap(), before);
        }
    }
}
