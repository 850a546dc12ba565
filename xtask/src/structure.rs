//! The structure check: which part of the sources may name which other. Reads the text of the sources; tests are left
//! out.

use std::collections::BTreeSet;
use std::fs;
use std::io;
use std::path::{Path, PathBuf};

/// Files of the server that put the capabilities together.
const ASSEMBLY: &[&str] = &["lib.rs", "service.rs"];
const HTTP_TYPES: &[&str] = &["ApiError", "StatusCode", "axum"];
const OUTSIDE_CORE: &[&str] =
    &["tokio", "std::fs", "std::net", "Timestamp::now", "SystemTime::now", "Instant::now", "Zoned::now"];

/// A place that breaks a rule: the rule, the file, and what it names.
pub(crate) type Place = (&'static str, String, String);

/// What one source breaks: the rules, and what it names.
type Broken = Vec<(&'static str, String)>;

/// The part of a source before its tests, without comments and texts.
fn code(text: &str) -> String {
    let text = text.split("#[cfg(test)]").next().unwrap_or_default();
    let mut out = String::new();
    for line in text.lines().filter(|l| !l.trim_start().starts_with("//")) {
        // What is between quotation marks is no path, and what follows a comment's mark is none either.
        let bare: String = line.split('"').step_by(2).collect::<Vec<_>>().join("\"");
        out.push_str(bare.split("//").next().unwrap_or_default());
        out.push('\n');
    }
    out
}

/// Writes groups out that begin with a path: `std::{fs, io}` as `std::fs std::io` too.
fn with_groups(code: &str, path: &str) -> String {
    let mut out = code.to_owned();
    for (at, head) in code.match_indices(&format!("{path}::{{")) {
        let group = code[at + head.len()..].split(';').next().unwrap_or_default();
        for item in group.split([',', '{', '}']).map(str::trim).filter(|item| !item.is_empty()) {
            out.push_str(&format!("\n{path}::{item}"));
        }
    }
    out
}

/// Writes paths that lead up to the root of the crate as `crate::…`. `inside` is the file below `src`.
fn from_root(code: &str, inside: &str) -> String {
    let depth = inside.trim_end_matches("/mod.rs").split('/').count();
    code.replace(&"super::".repeat(depth), "crate::")
}

/// Whether a path such as `std::net` is in the code as a whole.
fn names(code: &str, path: &str) -> bool {
    let is_part = |c: char| c.is_alphanumeric() || c == '_';
    code.match_indices(path).any(|(at, found)| {
        let before = code[..at].chars().next_back();
        let after = code[at + found.len()..].chars().next();
        !before.is_some_and(is_part) && !after.is_some_and(is_part)
    })
}

/// The paths `crate::a::b` of a source, those in groups too.
fn crate_paths(code: &str) -> BTreeSet<(String, String)> {
    let mut found = BTreeSet::new();
    let word =
        |text: &str| -> String { text.chars().take_while(|c| c.is_alphanumeric() || *c == '_').collect() };
    for (at, head) in code.match_indices("crate::") {
        let rest = &code[at + head.len()..];
        let folder = word(rest);
        let Some(rest) = rest.strip_prefix(&folder).and_then(|r| r.strip_prefix("::")) else { continue };
        if let Some(group) = rest.strip_prefix('{') {
            let group = group.split(';').next().unwrap_or_default();
            for item in group.split([',', '{', '}']) {
                found.insert((folder.clone(), word(item.trim())));
            }
        } else {
            found.insert((folder, word(rest)));
        }
    }
    found
}

/// A capability folder of the server and its modules.
fn modules(server: &Path) -> io::Result<BTreeSet<(String, String)>> {
    let mut all = BTreeSet::new();
    for folder in fs::read_dir(server)?.collect::<Result<Vec<_>, _>>()? {
        if !folder.file_type()?.is_dir() || folder.file_name() == "bin" {
            continue;
        }
        for file in fs::read_dir(folder.path())?.collect::<Result<Vec<_>, _>>()? {
            let name = file.file_name().to_string_lossy().trim_end_matches(".rs").to_owned();
            all.insert((folder.file_name().to_string_lossy().into_owned(), name));
        }
    }
    Ok(all)
}

fn sources(folder: &Path, into: &mut Vec<PathBuf>) -> io::Result<()> {
    for entry in fs::read_dir(folder)?.collect::<Result<Vec<_>, _>>()? {
        let path = entry.path();
        if entry.file_type()?.is_dir() {
            sources(&path, into)?;
        } else if path.extension().is_some_and(|e| e == "rs")
            && !path.file_stem().is_some_and(|s| s.to_string_lossy().ends_with("tests"))
        {
            into.push(path);
        }
    }
    Ok(())
}

/// Every place under `root` that breaks a rule.
///
/// # Errors
/// When a source cannot be read.
pub(crate) fn places(root: &Path) -> io::Result<BTreeSet<Place>> {
    let mut found = BTreeSet::new();
    let mut each = |part: &str, judge: &mut dyn FnMut(&str, &str) -> Broken| {
        let folder = root.join("crates").join(part).join("src");
        let mut all = Vec::new();
        sources(&folder, &mut all)?;
        for path in all {
            let inside = path.strip_prefix(&folder).unwrap_or(&path).display().to_string();
            let shown = path.strip_prefix(root).unwrap_or(&path).display().to_string();
            let text = code(&fs::read_to_string(&path)?);
            found.extend(judge(&inside, &text).into_iter().map(|(rule, what)| (rule, shown.clone(), what)));
        }
        io::Result::Ok(())
    };
    each("core", &mut |_, text| {
        let text = &with_groups(text, "std");
        let bad = OUTSIDE_CORE.iter().filter(|path| names(text, path));
        bad.map(|path| ("core-io", (*path).to_owned())).collect()
    })?;
    each("store", &mut |_, text| {
        names(text, "gubernum_api").then(|| ("store-wire", "gubernum_api".to_owned())).into_iter().collect()
    })?;
    let modules = modules(&root.join("crates/server/src"))?;
    each("server", &mut |inside, text| server_rules(inside, text, &modules))?;
    Ok(found)
}

fn server_rules(inside: &str, text: &str, modules: &BTreeSet<(String, String)>) -> Broken {
    if ASSEMBLY.contains(&inside) || inside.starts_with("bin/") {
        return Vec::new();
    }
    let (own, rest) = inside.split_once('/').unwrap_or(("", inside));
    let is_http = own == "web" || rest == "http.rs" || rest.starts_with("http/");
    let mut out = Vec::new();
    if !is_http {
        let bad = HTTP_TYPES.iter().filter(|name| names(text, name));
        out.extend(bad.map(|name| ("http-type", (*name).to_owned())));
    }
    for (folder, module) in crate_paths(&with_groups(&from_root(text, inside), "crate")) {
        let reaches = folder != own && modules.contains(&(folder.clone(), module.clone()));
        // The router merges the routes of every folder, and handlers use what is in `web`.
        let may = (own == "web" && module == "http") || (is_http && folder == "web");
        if reaches && !may {
            out.push(("inside", format!("{folder}::{module}")));
        }
    }
    out
}

/// A place in a sentence: which file, what it names, and what to do instead.
pub(crate) fn sentence((rule, file, what): &Place) -> String {
    match *rule {
        "inside" => format!("{file} reaches into {what}; use what that folder's mod.rs exposes"),
        "http-type" => {
            format!(
                "{file} names {what}, which belongs into web/ or an http module; give the folder a typed error"
            )
        }
        "core-io" => format!("{file} names {what}; core has no I/O and no clock: pass it in"),
        "store-wire" => {
            format!("{file} names {what}; the store knows no wire type: put the record into core")
        }
        other => format!("{file} breaks the rule {other} with {what}"),
    }
}

/// The sentences to fail with; none when every rule holds.
///
/// # Errors
/// When a source cannot be read.
pub(crate) fn faults(root: &Path) -> io::Result<Vec<String>> {
    Ok(places(root)?.iter().map(sentence).collect())
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Sources that keep every rule, and one planted file.
    fn planted(file: &str, text: &str) -> Broken {
        let root =
            std::env::temp_dir().join(format!("structure-{}-{}", std::process::id(), file.replace('/', "-")));
        for (path, text) in [
            ("crates/core/src/lib.rs", "pub fn sum() {}"),
            ("crates/store/src/lib.rs", "use gubernum_core::sum;"),
            ("crates/server/src/lib.rs", "mod fleet; mod logs; mod web;"),
            ("crates/server/src/fleet/mod.rs", "pub(crate) mod hub;"),
            ("crates/server/src/fleet/hub.rs", "use crate::fleet::Fleet;"),
            ("crates/server/src/logs/mod.rs", "use crate::fleet::Fleet; mod http;"),
            ("crates/server/src/logs/http.rs", "use crate::web::problem::ApiError;"),
            ("crates/server/src/web/mod.rs", "use crate::logs::http; mod problem;"),
            ("crates/server/src/web/problem.rs", "use axum::Json; pub struct ApiError;"),
            (file, text),
        ] {
            let path = root.join(path);
            fs::create_dir_all(path.parent().unwrap()).unwrap();
            fs::write(path, text).unwrap();
        }
        let found = places(&root).unwrap();
        fs::remove_dir_all(&root).unwrap();
        found.into_iter().map(|(rule, _, what)| (rule, what)).collect()
    }

    #[test]
    fn each_rule_is_broken_by_a_planted_line_and_only_by_that() {
        assert_eq!(planted("crates/core/src/fine.rs", "use core::net::IpAddr; // tokio\n"), []);
        assert_eq!(planted("crates/core/src/bad.rs", "use std::fs;"), [("core-io", "std::fs".to_owned())]);
        let clock = planted("crates/core/src/clock.rs", "fn f() { jiff::Timestamp::now(); }");
        assert_eq!(clock, [("core-io", "Timestamp::now".to_owned())]);
        let wire = planted("crates/store/src/bad.rs", "use gubernum_api::views::Token;");
        assert_eq!(wire, [("store-wire", "gubernum_api".to_owned())]);
        let reach = planted("crates/server/src/logs/tap.rs", "use crate::fleet::{Fleet, hub::Hub};");
        assert_eq!(reach, [("inside", "fleet::hub".to_owned())]);
        let inline = planted("crates/server/src/logs/follow.rs", "fn f(h: &crate::fleet::hub::Hub) {}");
        assert_eq!(inline, [("inside", "fleet::hub".to_owned())]);
        let http = planted("crates/server/src/logs/keeper.rs", "use crate::web::problem::ApiError;");
        assert_eq!(http, [("http-type", "ApiError".to_owned()), ("inside", "web::problem".to_owned())]);
        let upwards = planted("crates/server/src/logs/ring.rs", "use super::super::fleet::hub::Hub;");
        assert_eq!(upwards, [("inside", "fleet::hub".to_owned())]);
        let grouped = planted("crates/server/src/logs/many.rs", "use crate::{fleet::hub::Hub, web};");
        assert_eq!(grouped, [("inside", "fleet::hub".to_owned())]);
        let group = planted("crates/core/src/group.rs", "use std::{fs, io};");
        assert_eq!(group, [("core-io", "std::fs".to_owned())]);
        assert_eq!(planted("crates/server/src/logs/merge.rs", "use super::tap::Tap;"), []);
        assert_eq!(planted("crates/server/src/logs/text.rs", "fn f() { say(\"crate::fleet::hub\") }"), []);
    }
}
