use std::collections::BTreeMap;

use proptest::prelude::*;
use serde_json::json;

use super::*;

fn tree() -> Files {
    let mut files = Files::default();
    files.put("/data/apples/red.txt", b"red".to_vec());
    files.put("/data/apples/green.txt", b"green".to_vec());
    files.put("/data/notes", b"x".to_vec());
    files.folder("/data/empty");
    files
}

fn names(files: &Files, path: &str) -> Vec<String> {
    files.names(path).unwrap_or_default()
}

#[test]
fn folders_come_with_what_is_below_them() {
    let files = tree();
    assert_eq!(names(&files, "/data"), ["apples", "empty", "notes"]);
    assert_eq!(names(&files, "/data/apples/"), ["green.txt", "red.txt"]);
    assert_eq!(names(&files, "/"), ["data"]);
    assert_eq!(files.names("/data/notes"), None, "a file is no folder");
    assert_eq!(files.names("/nothing"), None);
    assert!(files.get("/data/./apples/../notes").is_some_and(|node| node.bytes.is_some()));
    assert!(files.get("/data/note").is_none());
}

#[test]
fn what_is_moved_or_removed_takes_along_what_is_below() {
    let mut files = tree();
    files.put("/data/apples-old", b"x".to_vec());
    files.rename("/data/apples", "/data/fruit");
    assert_eq!(names(&files, "/data"), ["apples-old", "empty", "fruit", "notes"]);
    assert_eq!(names(&files, "/data/fruit"), ["green.txt", "red.txt"]);
    files.remove("/data/fruit");
    assert_eq!(names(&files, "/data"), ["apples-old", "empty", "notes"]);
    assert!(files.change("/data/notes", |node| node.mode = 0o600));
    assert_eq!(files.get("/data/notes").map(|node| node.mode), Some(0o600));
    assert!(!files.change("/data/fruit", |_| ()));
}

#[test]
fn an_archive_of_one_place_unpacks_at_another() {
    let files = tree();
    let archive = files.archive("/data", "/data").unwrap().unwrap();
    let mut other = Files::default();
    other.folder("/copy");
    other.unpack("/copy", &archive).unwrap();
    assert_eq!(names(&other, "/copy/data"), ["apples", "empty", "notes"]);
    let red = other.get("/copy/data/apples/red.txt").unwrap();
    assert_eq!((red.bytes.as_deref().map(Vec::as_slice), red.mode), (Some(b"red".as_slice()), 0o644));
    assert!(files.archive("/nothing", "/nothing").unwrap().is_none());
}

#[test]
fn what_cannot_be_unpacked_is_refused_in_the_engines_words() {
    let mut files = tree();
    let archive = files.archive("/data", "/data").unwrap().unwrap();
    assert_eq!(files.unpack("/nothing", &archive).unwrap_err().0, 404);
    assert_eq!(files.unpack("/data/notes", &archive).unwrap_err().0, 400);
    let (status, text) = files
        .unpack("/data", b"no archive at all, but long enough for one head of it")
        .err()
        .unwrap_or((400, "archive/tar".into()));
    assert!(status == 400 && text.starts_with("archive/tar"), "{text}");
    let (status, text) = files.unpack("/data", &vec![0; MOST_BYTES + 1]).unwrap_err();
    assert!(status == 500 && text.contains("no space"), "{text}");
}

#[test]
fn names_in_an_archive_do_not_leave_the_host() {
    let mut tar = tar::Builder::new(Vec::new());
    let mut header = tar::Header::new_gnu();
    header.set_size(1);
    header.set_mode(0o644);
    header.set_entry_type(tar::EntryType::Regular);
    header.as_gnu_mut().unwrap().name[..12].copy_from_slice(b"../../up.txt");
    header.set_cksum();
    tar.append(&header, b"x".as_slice()).unwrap();
    let mut files = tree();
    files.unpack("/data/empty", &tar.into_inner().unwrap()).unwrap();
    assert!(files.get("/up.txt").is_some(), "resolved as a path, not taken by its letters");
}

#[test]
fn what_is_told_of_a_file_is_the_engines_header() {
    use base64::Engine as _;
    let files = tree();
    let told = |path: &str| -> Value {
        let text = files.stat(path, path).unwrap();
        let bytes = base64::engine::general_purpose::STANDARD.decode(text).unwrap();
        serde_json::from_slice(&bytes).unwrap()
    };
    let file = told("/data/apples/red.txt");
    assert_eq!((file["name"].as_str(), file["size"].as_u64()), (Some("red.txt"), Some(3)));
    assert_eq!(file["mode"].as_u64(), Some(0o644));
    assert_eq!(told("/data")["mode"].as_u64(), Some(GO_FOLDER | 0o755));
    assert!(files.stat("/x", "/x").is_none());
}

#[test]
fn what_an_image_brings_fills_in_what_is_not_said() {
    let image = json!({
        "User": "app", "WorkingDir": "/app", "Entrypoint": ["/run"], "Cmd": ["serve"], "Env": ["A=1", "B=2"],
        "Labels": {"made": "yes", "by": "image"}, "Volumes": {"/data": {}},
    });
    let bare = with_image(json!({"Image": "x"}), &image);
    assert_eq!((&bare["User"], &bare["Cmd"]), (&json!("app"), &json!(["serve"])));
    assert_eq!((&bare["Env"], &bare["Volumes"]), (&json!(["A=1", "B=2"]), &json!({"/data": {}})));
    let own = json!({
        "User": "root", "Cmd": ["list"], "Env": ["B=3", "C=4"], "Labels": {"by": "hand"}, "WorkingDir": "",
    });
    let own = with_image(own, &image);
    assert_eq!((&own["User"], &own["WorkingDir"]), (&json!("root"), &json!("/app")));
    assert_eq!((&own["Entrypoint"], &own["Cmd"]), (&json!(["/run"]), &json!(["list"])));
    assert_eq!(own["Env"], json!(["A=1", "B=3", "C=4"]));
    assert_eq!(own["Labels"], json!({"made": "yes", "by": "hand"}));
    // With an entrypoint of its own the image's command means nothing.
    let other = with_image(json!({"Entrypoint": []}), &image);
    assert_eq!((&other["Entrypoint"], &other["Cmd"]), (&json!([]), &Value::Null));
}

proptest! {
    /// Whatever is written and removed, in whatever order: the files are those of a plain map.
    #[test]
    fn files_are_those_that_were_written_last(
        steps in proptest::collection::vec(("[ab]{1,2}(/[ab]{1,2}){0,2}", any::<bool>(), any::<u8>()), 0..30),
    ) {
        let (mut files, mut plain) = (Files::default(), BTreeMap::<String, u8>::new());
        files.folder("/");
        for (path, put, byte) in steps {
            let path = format!("/{path}");
            let below = format!("{path}/");
            // A file has nothing below it, and what has something below it is no file.
            let is_folder = plain.keys().any(|p| p.starts_with(&below));
            let is_below = plain.keys().any(|p| path.starts_with(&format!("{p}/")));
            if put && !is_folder && !is_below && files.get(&path).is_none_or(|node| node.bytes.is_some()) {
                files.put(&path, vec![byte]);
                plain.insert(path, byte);
            } else if !put {
                files.remove(&path);
                plain.retain(|p, _| *p != path && !p.starts_with(&below));
            }
        }
        for (path, byte) in &plain {
            let found = files.get(path).and_then(|node| node.bytes.clone());
            prop_assert_eq!(found.as_deref(), Some(&vec![*byte]), "{}", path);
        }
        let held = files.0.values().filter(|node| node.bytes.is_some()).count();
        prop_assert_eq!(held, plain.len());
    }
}
