//! Promises about texts that people and programs write.

use gubernum_api::{FromClient, FromServer};
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
            assert_eq!(again.definition, read.definition, "{written}");
        }
        Err(error) => assert!(!error.to_string().is_empty()),
    }
    let read = variables::read(&text);
    assert!(read.variables.len() <= text.lines().count(), "{read:?}");
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
