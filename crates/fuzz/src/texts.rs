//! Properties of texts that people and programs write.

use std::collections::{BTreeMap, BTreeSet};

use gubernum_api::{FromClient, FromServer};
use gubernum_core::compose::model::Stack;
use gubernum_core::compose::{ReadPurpose, StackInput, read};
use gubernum_core::definition::{compose, variables};
use gubernum_core::image_name::ImageName;
use gubernum_core::moment;
use gubernum_core::reference::Reference;
use jiff::Timestamp;

/// Compose text: read or refused with a place inside the text; what was read and is written out is read as the same.
pub fn compose(bytes: &[u8]) {
    let text = String::from_utf8_lossy(bytes);
    match compose::read(&text) {
        Ok(read) => {
            let written = compose::write(&read.definition);
            let again = compose::read(&written).unwrap_or_else(|e| panic!("{e}\n{written}"));
            let mut expected = read.definition;
            if expected.name.is_empty() {
                // Every service has a name.
                compose::NAMELESS.clone_into(&mut expected.name);
            }
            assert_eq!(again.definition, expected, "{written}");
        }
        Err(error) => assert!(!error.to_string().is_empty()),
    }
    stack(&text);
    let read = variables::read(&text);
    assert!(read.variables.len() <= text.lines().count(), "{read:?}");
}

/// The same as a stack of two files with variables: read or refused with places inside of the files, and kept as it was read.
fn stack(text: &str) {
    let (one, two) = text.split_once("\n===\n").unwrap_or((text, ""));
    let file = |path: &str, text: &str| (path.to_owned(), text.to_owned());
    let files = BTreeMap::from([file("stack.yaml", one), file("part/more.yaml", two), file("a.env", two)]);
    for main in [&["stack.yaml".to_owned()][..], &["stack.yaml".to_owned(), "part/more.yaml".to_owned()]] {
        let given = StackInput {
            files: &files,
            main,
            name: None,
            variables: &BTreeMap::from([file("TAG", "2")]),
            profiles: &BTreeSet::new(),
            wanted: ReadPurpose::Stack,
        };
        match read::read(&given) {
            Ok((_, stack)) => {
                let kept = serde_json::to_string(&stack).expect("a stack");
                assert_eq!(serde_json::from_str::<Stack>(&kept).expect("the same"), stack);
            }
            Err(errors) => {
                assert!(!errors.is_empty());
                for error in errors {
                    // YAML ends a line at a bare carriage return too.
                    let breaks = files.get(&error.file).map_or(0, |text| text.matches(['\n', '\r']).count());
                    assert!(error.place.line <= breaks as u64 + 1, "{error}");
                }
            }
        }
    }
}

/// References, image names and moments: what is understood is written as it is understood.
pub fn references(bytes: &[u8]) {
    let text = String::from_utf8_lossy(bytes);
    if let Ok(reference) = text.parse::<Reference>() {
        let again: Reference = reference.to_string().parse().expect("a reference that was written");
        assert_eq!(again, reference);
        assert!(reference.has_wildcard() || !text.contains('*'));
    }
    if let Ok(name) = text.parse::<ImageName>() {
        let again: ImageName = name.to_string().parse().unwrap_or_else(|e| panic!("{name}: {e}"));
        assert_eq!(again, name);
    }
    let now = Timestamp::UNIX_EPOCH;
    if let Ok(moment) = moment::parse(&text, now) {
        assert_eq!(moment::parse(&moment.to_string(), now), Ok(moment));
    }
}

/// Messages of the live connection: what is understood is written and understood again.
pub fn live_messages(bytes: &[u8]) {
    if let Ok(message) = serde_json::from_slice::<FromClient>(bytes) {
        let text = serde_json::to_string(&message).expect("a message that was read");
        let again: FromClient = serde_json::from_str(&text).unwrap_or_else(|e| panic!("{text}: {e}"));
        assert_eq!(format!("{again:?}"), format!("{message:?}"));
    }
    if let Ok(message) = serde_json::from_slice::<FromServer>(bytes) {
        let text = serde_json::to_string(&message).expect("a message that was read");
        let again: FromServer = serde_json::from_str(&text).unwrap_or_else(|e| panic!("{text}: {e}"));
        assert_eq!(serde_json::to_string(&again).expect("the same"), text);
    }
}
