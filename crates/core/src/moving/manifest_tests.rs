//! A copy is held against what was read; what changed between two passes is told from what did not.

use proptest::prelude::*;
use rstest::rstest;

use super::*;

fn file(path: &str, text: &str) -> (Entry, Content) {
    let mut content = Content::default();
    content.update(text.as_bytes());
    let entry = Entry {
        path: path.as_bytes().to_vec(),
        kind: EntryKind::File,
        mode: 0o644,
        user: 70,
        group: 70,
        modified: 1_000,
        size: text.len() as u64,
        link: Vec::new(),
        attributes: Vec::new(),
    };
    (entry, content)
}

fn folder(path: &str) -> (Entry, Content) {
    let (entry, content) = file(path, "");
    (Entry { kind: EntryKind::Folder, mode: 0o755, ..entry }, content)
}

fn hard_link(path: &str, to: &str) -> (Entry, Content) {
    let (entry, content) = file(path, "");
    (Entry { kind: EntryKind::HardLink, link: to.as_bytes().to_vec(), ..entry }, content)
}

fn manifest(files: Vec<(Entry, Content)>) -> Manifest {
    let mut all = Manifest::default();
    files.iter().for_each(|(entry, content)| all.add(entry, content));
    all
}

#[test]
fn the_order_the_owners_and_the_top_folder_do_not_matter() {
    let source = manifest(vec![folder("./"), folder("./a/"), file("./a/b", "cold"), file("./c", "")]);
    let mut other = file("c", "");
    other.0.user = 0;
    other.0.modified = 7;
    let copy = manifest(vec![other, folder("a"), file("a/b", "cold")]);
    assert!(source.is_same(&copy));
    assert_eq!(source.checksum(), copy.checksum());
    assert_eq!((source.files, source.bytes), (3, 4));
}

#[rstest]
#[case::content(vec![file("a", "cola"), file("b", "warm")])]
#[case::name(vec![file("a", "cold"), file("c", "warm")])]
#[case::swapped(vec![file("a", "warm"), file("b", "cold")])]
#[case::missing(vec![file("a", "cold")])]
#[case::kind(vec![file("a", "cold"), folder("b")])]
fn a_copy_that_differs_is_not_the_same(#[case] copy: Vec<(Entry, Content)>) {
    assert!(!manifest(vec![file("a", "cold"), file("b", "warm")]).is_same(&manifest(copy)));
}

#[test]
fn either_name_of_a_file_may_come_first() {
    let one = manifest(vec![file("a", "cold"), hard_link("b", "a")]);
    let other = manifest(vec![file("b", "cold"), hard_link("a", "b")]);
    assert_eq!(one.checksum(), other.checksum());
    assert!(!one.allows_less(), "one of two names cannot be sent alone");
    assert!(manifest(vec![file("a", "cold")]).allows_less());
}

#[test]
fn what_was_written_in_the_moment_of_the_first_pass_is_not_trusted() {
    let (entry, content) = file("a", "cold");
    let before = manifest(vec![file("a", "cold")]);
    assert!(before.is_known(&entry, 2_000));
    assert!(!before.is_known(&entry, 1_001), "it may have been written again in the same second");
    let touched = Entry { modified: 1_500, ..entry.clone() };
    assert!(!before.is_known(&touched, 2_000));
    assert!(before.is_content(&touched, &content));
    assert!(!before.is_content(&entry, &file("a", "cola").1));
}

#[test]
fn what_went_is_seen() {
    let before = manifest(vec![folder("a"), file("a/b", "cold")]);
    assert!(!before.has_lost(&manifest(vec![folder("a"), file("a/b", "other"), file("new", "")])));
    assert!(before.has_lost(&manifest(vec![folder("a")])));
    assert!(before.has_lost(&manifest(vec![file("a", ""), file("a/b", "cold")])), "a folder became a file");
}

proptest! {
    /// Whatever is changed between two passes is sent, or seen afterwards.
    #[test]
    fn nothing_that_changed_is_skipped(
        before in proptest::collection::btree_map("[a-d]{1,2}", "[xy]{0,3}", 0..6),
        after in proptest::collection::btree_map("[a-d]{1,2}", "[xy]{0,3}", 0..6),
    ) {
        let of = |all: &std::collections::BTreeMap<String, String>| manifest(all.iter().map(|(p, t)| file(p, t)).collect());
        let (first, now) = (of(&before), of(&after));
        let mut copy = before.clone();
        let mut is_trusted = true;
        for (path, text) in &after {
            let (entry, content) = file(path, text);
            if first.is_known(&entry, 2_000) {
                is_trusted &= first.is_content(&entry, &content);
            } else {
                copy.insert(path.clone(), text.clone());
            }
        }
        let holds = is_trusted && !first.has_lost(&now);
        prop_assert_eq!(holds && !now.is_same(&of(&copy)), false);
    }
}
