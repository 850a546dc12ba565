//! The database from asynchronous code: each query on a blocking thread.

use std::sync::Arc;

use gubernum_store::{Store, StoreError};

/// A handle to the store. Cheap to clone.
#[derive(Clone)]
pub(crate) struct Db(Arc<Store>);

impl Db {
    pub(crate) fn new(store: Arc<Store>) -> Self {
        Self(store)
    }

    /// The sealer that belongs to the records.
    pub(crate) fn seal(&self) -> &gubernum_store::Seal {
        self.0.seal()
    }

    /// Runs a query.
    pub(crate) async fn run<T: Send + 'static>(
        &self,
        query: impl FnOnce(&Store) -> Result<T, StoreError> + Send + 'static,
    ) -> Result<T, StoreError> {
        let store = self.0.clone();
        match tokio::task::spawn_blocking(move || query(&store)).await {
            Ok(result) => result,
            Err(error) => Err(StoreError::Damaged(format!("a query broke off: {error}"))),
        }
    }
}
