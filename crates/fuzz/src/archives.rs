//! The property of uploaded archives: what is handed to an engine stays inside the target folder, whatever links the
//! archive has.

use std::collections::HashMap;

use futures_util::StreamExt;
use tokio_tar::{Archive, EntryType};

/// What is at a path below the folder.
#[derive(Debug, Clone, PartialEq)]
enum Node {
    Plain,
    Link(String),
}

/// A folder as an engine sees it while it unpacks.
#[derive(Default)]
struct Tree(HashMap<Vec<String>, Node>);

impl Tree {
    /// Where a path leads when every link on its way is followed; `None` when it leaves the folder.
    fn resolved(&self, from: &[String], path: &str, links: u32) -> Option<Vec<String>> {
        if path.starts_with('/') || links > 40 {
            return None;
        }
        let mut at = from.to_vec();
        for part in path.split('/').filter(|p| !p.is_empty() && *p != ".") {
            if part == ".." {
                at.pop()?;
                continue;
            }
            let folder = at.clone();
            at.push(part.to_owned());
            if let Some(Node::Link(target)) = self.0.get(&at) {
                at = self.resolved(&folder, target, links + 1)?;
            }
        }
        Some(at)
    }
}

async fn unpacked(archive: Vec<u8>) {
    let mut entries = Archive::new(&archive[..]).entries().expect("what was handed on is an archive");
    let mut tree = Tree::default();
    while let Some(entry) = entries.next().await {
        let entry = entry.expect("what was handed on is an archive");
        let name = String::from_utf8_lossy(&entry.path_bytes().expect("a name")).into_owned();
        let target = entry.link_name_bytes().expect("a target");
        let target = target.map(|t| String::from_utf8_lossy(&t).into_owned()).unwrap_or_default();
        let (folder, last) = match name.trim_end_matches('/').rsplit_once('/') {
            Some((folder, last)) => (folder.to_owned(), last.to_owned()),
            None => (String::new(), name.trim_end_matches('/').to_owned()),
        };
        let mut place =
            tree.resolved(&[], &folder, 0).unwrap_or_else(|| panic!("'{name}' leaves the folder"));
        if !last.is_empty() && last != "." {
            place.push(last);
        }
        match entry.header().entry_type() {
            EntryType::Symlink => drop(tree.0.insert(place, Node::Link(target))),
            EntryType::Link => {
                let meant = tree.resolved(&[], &target, 0);
                assert!(meant.is_some(), "'{name}' is a link to '{target}', outside of the folder");
                tree.0.insert(place, Node::Plain);
            }
            _ => drop(tree.0.insert(place, Node::Plain)),
        }
    }
}

/// Archives: refused, or handed on in a form that stays inside.
pub fn archives(bytes: &[u8]) {
    let runtime = tokio::runtime::Builder::new_current_thread().build().expect("a runtime");
    runtime.block_on(async {
        if let Ok(handed_on) = gubernum_server::judged_archive(bytes.to_vec(), "/srv", &["/srv/closed"]).await
        {
            unpacked(handed_on).await;
        }
    });
}
