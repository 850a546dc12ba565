//! What must hold of any bytes that come from outside. Each function takes bytes as they come and panics when its promise
//! is broken: the fuzzer (`cargo xtask fuzz`) calls them with what it finds, and the tests here with what proptest makes up
//! and with the corpus in `fuzz/corpus`.
//!
//! Not here: what an error says. That is tested where the error is made.

// To panic is how a broken promise is reported.
#![allow(clippy::expect_used, clippy::panic)]

pub mod archives;
pub mod records;
pub mod streams;
pub mod texts;

/// A promise about bytes.
pub type Promise = fn(&[u8]);

/// Every promise with the name of its fuzz target and corpus.
pub const ALL: [(&str, Promise); 8] = [
    ("compose", texts::compose),
    ("references", texts::references),
    ("live_messages", texts::live_messages),
    ("log_frames", streams::log_frames),
    ("terminal_logs", streams::terminal_logs),
    ("history_chunks", records::history_chunks),
    ("log_segments", records::log_segments),
    ("archives", archives::archives),
];

#[cfg(test)]
mod tests {
    use std::path::Path;

    use proptest::prelude::*;

    use super::*;

    /// Files of a target's corpus.
    fn corpus(name: &str) -> Vec<Vec<u8>> {
        let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../fuzz/corpus").join(name);
        let files = std::fs::read_dir(&folder).into_iter().flatten().flatten();
        files.map(|file| std::fs::read(file.path()).expect("a file of the corpus")).collect()
    }

    #[test]
    fn promises_hold_on_the_corpus() {
        for (name, promise) in ALL {
            let files = corpus(name);
            assert!(!files.is_empty(), "{name} has no corpus");
            files.iter().for_each(|bytes| promise(bytes));
        }
    }

    #[test]
    fn every_promise_has_a_target() {
        let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../fuzz/fuzz_targets");
        let manifest = std::fs::read_to_string(folder.join("../Cargo.toml")).expect("the manifest");
        for (name, _) in ALL {
            let source = std::fs::read_to_string(folder.join(format!("{name}.rs"))).expect("a target");
            assert!(source.contains(&format!("::{name}(")), "{name}");
            assert!(manifest.contains(&format!("name = \"{name}\"")), "{name} is not in fuzz/Cargo.toml");
        }
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(400))]

        #[test]
        fn promises_hold_of_any_bytes(bytes in proptest::collection::vec(any::<u8>(), 0..600)) {
            ALL.iter().for_each(|(_, promise)| promise(&bytes));
        }

        /// Bytes that are nearly right lead further than bytes at random.
        #[test]
        fn promises_hold_near_the_corpus(
            target in 0..ALL.len(),
            seed in any::<prop::sample::Index>(),
            changes in proptest::collection::vec((any::<prop::sample::Index>(), any::<u8>(), 0u8..4), 1..8),
        ) {
            let (name, promise) = ALL[target];
            let files = corpus(name);
            let mut bytes = files[seed.index(files.len())].clone();
            for (at, value, kind) in changes {
                let at = at.index(bytes.len() + 1);
                match kind {
                    0 => bytes.insert(at, value),
                    1 if at < bytes.len() => drop(bytes.remove(at)),
                    2 => bytes.truncate(at),
                    _ => if let Some(byte) = bytes.get_mut(at) { *byte = value },
                }
            }
            promise(&bytes);
        }
    }
}
