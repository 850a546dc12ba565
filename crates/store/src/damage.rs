//! Damaged records: logged once, counted, and reported in the service's health. Files that cannot be opened at all
//! are in [`crate::file`].
//!
//! What is done about a file that cannot be opened at all is in [`crate::file`].

use std::collections::BTreeMap;
use std::sync::LazyLock;

use parking_lot::Mutex;

/// The most different records that are named.
const MOST: usize = 100;

static FOUND: LazyLock<Mutex<BTreeMap<String, u64>>> = LazyLock::new(Mutex::default);

/// Notes a record that cannot be read.
pub(crate) fn note(what: &str, why: &str) {
    let text = format!("{what}: {}", gubernum_core::text::shown(why, 200));
    let mut found = FOUND.lock();
    if found.len() >= MOST && !found.contains_key(&text) {
        return;
    }
    let count = found.entry(text.clone()).or_default();
    *count += 1;
    if *count == 1 {
        tracing::error!(
            "a record in the database is damaged and left out ({text}); restore it from a backup"
        );
    }
}

/// What was found damaged since the service started, each once.
pub fn found() -> Vec<String> {
    FOUND.lock().keys().cloned().collect()
}
