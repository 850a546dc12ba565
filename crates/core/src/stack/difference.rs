//! The differences between two revisions of a stack: files line by line, variables, profiles and scale.
//!
//! What that means for what runs is a preview's to tell ([`super::plan`]). Lines are compared as they are and shown with what looks
//! like a secret hidden, so that a changed secret is told and not given away.

use std::collections::{BTreeMap, BTreeSet};
use std::time::Duration;

use serde::{Deserialize, Serialize};
use similar::{ChangeTag, TextDiff};

use super::hidden;
use crate::mask::{MASK, looks_secret};
use crate::plan::request::ApplyRequest;

/// How many lines around a change are shown with it.
const AROUND: usize = 3;
/// The most lines of one file that are shown.
const MOST_LINES: usize = 4000;
/// How long the shortest difference of a file is looked for; after that a longer one will do.
const LONGEST: Duration = Duration::from_millis(300);

/// The kind of a diff line.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "lowercase")]
pub enum LineKind {
    /// In both.
    Same,
    /// Only in the one before.
    Removed,
    /// Only in the one after.
    Added,
    /// Lines that are in both are left out here.
    Gap,
}

/// A line of a diff.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct DifferenceLine {
    /// Whether it was added, removed or is context.
    pub kind: LineKind,
    /// Line number before, from 1.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub before: Option<u64>,
    /// Line number after, from 1.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub after: Option<u64>,
    /// The text, without the line end.
    pub text: String,
}

/// How a file differs.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct FileDifference {
    /// The path relative to the stack's folder.
    pub file: String,
    /// The diff, with a few lines of context.
    pub lines: Vec<DifferenceLine>,
}

/// A value that differs.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ValueDifference {
    /// The value: `variable TAG`, `profile debug`, `containers of api`.
    pub what: String,
    /// The old value; masked if it looks like a secret.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub before: Option<String>,
    /// The new value; likewise.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub after: Option<String>,
}

/// Differences between two revisions.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct RevisionDifference {
    /// Changed files, by path.
    pub files: Vec<FileDifference>,
    /// Changed values.
    pub values: Vec<ValueDifference>,
}

/// Tells what differs from one revision to another; of none before, all is new.
pub fn difference(before: Option<&ApplyRequest>, after: &ApplyRequest) -> RevisionDifference {
    let nothing = ApplyRequest::default();
    let before = before.unwrap_or(&nothing);
    let paths: BTreeSet<&String> = before.files.keys().chain(after.files.keys()).collect();
    let files = paths.into_iter().filter_map(|path| {
        let text = |request: &ApplyRequest| request.files.get(path).cloned().unwrap_or_default();
        let (from, to) = (text(before), text(after));
        // A file that is new and empty differs too.
        let is_new = before.files.contains_key(path) != after.files.contains_key(path);
        (from != to || is_new).then(|| FileDifference { file: path.clone(), lines: lines(&from, &to) })
    });
    let files = files.collect();
    let shown = |name: &str, value: &String| {
        if looks_secret(name, value) { MASK.to_owned() } else { value.clone() }
    };
    let mut values = values("variable", &before.variables, &after.variables, shown);
    let number = |scale: &BTreeMap<String, u32>| -> BTreeMap<String, String> {
        scale.iter().map(|(service, count)| (service.clone(), count.to_string())).collect()
    };
    let (from, to) = (number(&before.scale), number(&after.scale));
    values.extend(self::values("containers of", &from, &to, |_, value| value.clone()));
    let wanted = |profiles: &BTreeSet<String>| -> BTreeMap<String, String> {
        profiles.iter().map(|p| (p.clone(), "wanted".to_owned())).collect()
    };
    let (from, to) = (wanted(&before.profiles), wanted(&after.profiles));
    values.extend(self::values("profile", &from, &to, |_, value| value.clone()));
    RevisionDifference { files, values }
}

fn values(
    of: &str,
    before: &BTreeMap<String, String>,
    after: &BTreeMap<String, String>,
    shown: impl Fn(&str, &String) -> String,
) -> Vec<ValueDifference> {
    let names: BTreeSet<&String> = before.keys().chain(after.keys()).collect();
    let differing = names.into_iter().filter(|name| before.get(*name) != after.get(*name));
    let one = |name: &String| ValueDifference {
        what: format!("{of} {name}"),
        before: before.get(name).map(|value| shown(name, value)),
        after: after.get(name).map(|value| shown(name, value)),
    };
    differing.map(one).collect()
}

fn lines(before: &str, after: &str) -> Vec<DifferenceLine> {
    let difference = TextDiff::configure().timeout(LONGEST).diff_lines(before, after);
    let gap = || DifferenceLine { kind: LineKind::Gap, before: None, after: None, text: String::new() };
    let mut all = Vec::new();
    let number = |at: Option<usize>| at.map(|n| n as u64 + 1);
    for (n, group) in difference.grouped_ops(AROUND).iter().enumerate() {
        let starts_late =
            group.first().is_some_and(|op| op.old_range().start > 0 || op.new_range().start > 0);
        if n > 0 || starts_late {
            all.push(gap());
        }
        for change in group.iter().flat_map(|op| difference.iter_changes(op)) {
            if all.len() >= MOST_LINES {
                all.push(gap());
                return all;
            }
            all.push(DifferenceLine {
                kind: match change.tag() {
                    ChangeTag::Equal => LineKind::Same,
                    ChangeTag::Delete => LineKind::Removed,
                    ChangeTag::Insert => LineKind::Added,
                },
                before: number(change.old_index()),
                after: number(change.new_index()),
                text: hidden::text(change.value().trim_end_matches(['\n', '\r'])),
            });
        }
    }
    all
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn request(text: &str, tag: &str) -> ApplyRequest {
        ApplyRequest {
            files: [("stack.yaml".to_owned(), text.to_owned())].into(),
            variables: [("TAG".to_owned(), tag.to_owned())].into(),
            ..ApplyRequest::default()
        }
    }

    #[test]
    fn a_changed_secret_is_reported_and_not_given_away() {
        let (before, after) =
            (request("a: 1\nAPI_KEY: pears\n", "1"), request("a: 1\nAPI_KEY: plums\n", "2"));
        let told = difference(Some(&before), &after);
        let words: Vec<(LineKind, &str)> =
            told.files[0].lines.iter().map(|l| (l.kind, l.text.as_str())).collect();
        let expected = [
            (LineKind::Same, "a: 1"),
            (LineKind::Removed, "API_KEY: ••••••••"),
            (LineKind::Added, "API_KEY: ••••••••"),
        ];
        assert_eq!(words, expected);
        assert_eq!(told.values[0].what, "variable TAG");
        assert_eq!(
            (told.values[0].before.as_deref(), told.values[0].after.as_deref()),
            (Some("1"), Some("2"))
        );
        assert!(difference(Some(&after), &after).files.is_empty());
        let scaled = ApplyRequest { scale: [("api".to_owned(), 3)].into(), ..after.clone() };
        assert_eq!(difference(Some(&after), &scaled).values[0].what, "containers of api");
        assert_eq!(difference(None, &after).files[0].lines.len(), 2, "of none before all is new");
    }

    #[test]
    fn what_lies_between_two_changes_is_left_out() {
        let text: String = (0..40).map(|n| format!("line {n}\n")).collect();
        let other = text.replace("line 3\n", "line three\n").replace("line 30\n", "");
        let told = difference(Some(&request(&text, "1")), &request(&other, "1"));
        let lines = &told.files[0].lines;
        assert_eq!(lines.iter().filter(|l| l.kind == LineKind::Gap).count(), 1);
        assert_eq!(lines.iter().filter(|l| l.kind == LineKind::Removed).count(), 2);
        assert_eq!(lines.iter().find(|l| l.kind == LineKind::Added).unwrap().after, Some(4));
    }

    proptest! {
        #[test]
        fn the_lines_lead_from_one_text_to_the_other(before in "([a-d]\n){0,12}", after in "([a-d]\n){0,12}") {
            let lines = lines(&before, &after);
            let old: Vec<&str> = before.lines().collect();
            let new: Vec<&str> = after.lines().collect();
            for line in lines.iter().filter(|l| l.kind != LineKind::Gap) {
                if let Some(n) = line.before { prop_assert_eq!(old[n as usize - 1], line.text.as_str()); }
                if let Some(n) = line.after { prop_assert_eq!(new[n as usize - 1], line.text.as_str()); }
            }
            let count = |kind| lines.iter().filter(|l| l.kind == kind).count();
            prop_assert_eq!(old.len() + count(LineKind::Added), new.len() + count(LineKind::Removed));
        }
    }
}
