//! Archives as engines write them, summed up and sifted.

use rstest::rstest;
use tokio::io::AsyncReadExt;

use super::*;

const BEGAN: i64 = 10_000;

enum File<'a> {
    Folder,
    Text(&'a str, u64),
    HardLink(&'a str),
    Link(&'a str),
    Tagged(&'a str, &'a str),
}

async fn archive(files: &[(&str, File<'_>)]) -> Vec<u8> {
    let mut builder = Builder::new(Vec::new());
    for (path, file) in files {
        let (kind, text, modified, link, tag) = match file {
            File::Folder => (EntryType::Directory, "", 1, "", ""),
            File::Text(text, modified) => (EntryType::Regular, *text, *modified, "", ""),
            File::HardLink(to) => (EntryType::Link, "", 1, *to, ""),
            File::Link(to) => (EntryType::Symlink, "", 1, *to, ""),
            File::Tagged(text, tag) => (EntryType::Regular, *text, 1, "", *tag),
        };
        let mut header = Header::new_gnu();
        header.set_entry_type(kind);
        header.set_mode(0o640);
        header.set_uid(70);
        header.set_gid(70);
        header.set_mtime(modified);
        header.set_size(text.len() as u64);
        if !link.is_empty() {
            header.set_link_name(link).unwrap();
        }
        if !tag.is_empty() {
            let text = record("SCHILY.xattr.user.frost", tag.as_bytes());
            extension(&mut builder, EntryType::XHeader, "PaxHeader", &text).await.unwrap();
        }
        builder.append_data(&mut header, path, text.as_bytes()).await.unwrap();
    }
    builder.into_inner().await.unwrap()
}

/// What a second pass sends: the paths, with their contents, and whether it is enough.
async fn second(
    before: &[(&str, File<'_>)],
    now: &[(&str, File<'_>)],
) -> (Vec<(String, String)>, bool, Vec<u8>) {
    let manifest = sum_up(archive(before).await.as_slice()).await.unwrap();
    let (out, mut part) = tokio::io::duplex(1024 * 1024 * 8);
    let now = archive(now).await;
    let rest = Rest { before: &manifest, began: BEGAN };
    let sent = send_changed(now.as_slice(), out, rest).await.unwrap();
    let mut bytes = Vec::new();
    part.read_to_end(&mut bytes).await.unwrap();
    let mut found = Vec::new();
    let mut read = Archive::new(bytes.as_slice());
    let mut entries = read.entries().unwrap();
    while let Some(entry) = entries.next().await {
        let mut entry = entry.unwrap();
        let path = entry.path().unwrap().display().to_string();
        let mut text = String::new();
        entry.read_to_string(&mut text).await.unwrap();
        found.push((path, text));
    }
    (found, matches!(sent, Sent::All(_)), bytes)
}

#[tokio::test]
async fn only_what_changed_goes_a_second_time() {
    let long = format!("deep/{}", "x".repeat(180));
    let before = [
        ("a", File::Text("cold", 5)),
        ("same", File::Text("same", 5)),
        (long.as_str(), File::Text("old", 5)),
        ("to", File::Link("a")),
        ("folder", File::Folder),
    ];
    let now = [
        ("a", File::Text("cola", 5)),
        ("same", File::Text("same", 5)),
        (long.as_str(), File::Text("new", 6)),
        ("to", File::Link("same")),
        ("folder", File::Folder),
        ("fresh", File::Text("", 7)),
    ];
    let (sent, is_enough, bytes) = second(&before, &now).await;
    let pair = |path: &str, text: &str| (path.to_owned(), text.to_owned());
    assert_eq!(sent, [pair("a", "cola"), pair(&long, "new"), pair("to", ""), pair("fresh", "")]);
    assert!(is_enough);
    // Laid over the first, it is what is there now.
    let whole = sum_up(archive(&now).await.as_slice()).await.unwrap();
    let over = sum_up(bytes.as_slice()).await.unwrap();
    assert_eq!((over.files, whole.files), (4, 6));
}

#[rstest]
#[case::gone(vec![("a", File::Text("cold", 5)), ("b", File::Text("", 5))], vec![("a", File::Text("cold", 5))])]
#[case::two_names(vec![("a", File::Text("cold", 5))], vec![("a", File::Text("cold", 5)), ("b", File::HardLink("a"))])]
#[tokio::test]
async fn what_cannot_be_made_the_same_says_so(
    #[case] before: Vec<(&str, File<'_>)>,
    #[case] now: Vec<(&str, File<'_>)>,
) {
    assert!(!second(&before, &now).await.1);
}

#[tokio::test]
async fn a_large_file_is_skipped_on_what_is_told_of_it_and_compared_all_the_same() {
    let (large, other) = ("a".repeat(2 << 20), "b".repeat(2 << 20));
    let (sent, is_enough, _) = second(&[("l", File::Text(&large, 5))], &[("l", File::Text(&large, 5))]).await;
    assert!(sent.is_empty() && is_enough);
    // As a file that was changed without its time.
    let (sent, is_enough, _) = second(&[("l", File::Text(&large, 5))], &[("l", File::Text(&other, 5))]).await;
    assert!(sent.is_empty() && !is_enough, "it is noticed, and all is sent again");
    // One that was written during the first pass is sent again.
    let late = BEGAN as u64;
    let (sent, is_enough, _) =
        second(&[("l", File::Text(&large, late))], &[("l", File::Text(&other, late))]).await;
    assert!(sent.len() == 1 && sent[0].1 == other && is_enough);
}

#[tokio::test]
async fn extended_attributes_count_and_go_along() {
    let tagged = |tag| [("a", File::Tagged("cold", tag))];
    assert!(second(&tagged("1"), &tagged("1")).await.0.is_empty());
    let (sent, is_enough, bytes) = second(&tagged("1"), &tagged("22")).await;
    assert!(sent.len() == 1 && is_enough);
    let mut read = Archive::new(bytes.as_slice());
    let mut entry = read.entries().unwrap().next().await.unwrap().unwrap();
    let (what, attributes) = described(&mut entry).await.unwrap();
    assert_eq!(attributes, [("SCHILY.xattr.user.frost".to_owned(), b"22".to_vec())]);
    assert_eq!((what.user, what.mode & 0o7777), (70, 0o640));
}

#[tokio::test]
async fn a_damaged_archive_is_an_error() {
    let mut bytes = archive(&[("a", File::Text("cold", 5))]).await;
    bytes.truncate(700);
    assert!(sum_up(bytes.as_slice()).await.is_err());
}
