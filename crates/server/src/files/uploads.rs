//! Uploads in progress, so that two senders never write one file.

use std::collections::HashMap;
use std::sync::{Arc, Weak};

use gubernum_store::uploads::HalfUpload;
use parking_lot::Mutex;
use tokio::sync::Mutex as AsyncMutex;

/// The most uploads under way.
const MOST_TURNS: usize = 1000;

/// Uploads under way: of each there is one sender at a time.
#[derive(Default)]
pub(crate) struct Uploads(Mutex<HashMap<String, Weak<AsyncMutex<()>>>>);

impl Uploads {
    /// Whose turn it is to write a file: one sender holds it at a time.
    pub(super) fn turn(&self, half: &HalfUpload) -> Arc<AsyncMutex<()>> {
        let id = format!("{} {}/{}", half.container, half.folder, half.part);
        let mut all = self.0.lock();
        if let Some(turn) = all.get(&id).and_then(Weak::upgrade) {
            return turn;
        }
        if all.len() >= MOST_TURNS {
            all.retain(|_, turn| turn.strong_count() > 0);
        }
        let turn = Arc::default();
        if all.len() < MOST_TURNS {
            all.insert(id, Arc::downgrade(&turn));
        }
        turn
    }
}
