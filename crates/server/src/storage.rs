//! The database from asynchronous code: each query on a blocking thread. A few threads are enough, as SQLite runs one
//! query at a time; further queries wait in a queue.

use std::sync::Arc;

use gubernum_store::{Store, StoreError};
use tokio::sync::Semaphore;

/// How many threads may be at the records or wait for them.
const THREADS: usize = 8;

/// A handle to the store. Cheap to clone.
#[derive(Clone)]
pub(crate) struct Db(Arc<Store>, Arc<Semaphore>);

impl Db {
    pub(crate) fn new(store: Arc<Store>) -> Self {
        Self(store, Arc::new(Semaphore::new(THREADS)))
    }

    /// The sealer that belongs to the records.
    pub(crate) fn seal(&self) -> &gubernum_store::Seal {
        self.0.seal()
    }

    /// Runs a query. Once asked for it is carried out, also when nobody waits for it any more.
    pub(crate) async fn run<T: Send + 'static>(
        &self,
        query: impl FnOnce(&Store) -> Result<T, StoreError> + Send + 'static,
    ) -> Result<T, StoreError> {
        let (store, threads) = (self.0.clone(), self.1.clone());
        let asked = tokio::spawn(async move {
            let _thread = threads.acquire_owned().await;
            tokio::task::spawn_blocking(move || query(&store)).await
        });
        match asked.await {
            Ok(Ok(result)) => result,
            Ok(Err(error)) | Err(error) => Err(StoreError::Damaged(format!("a query failed: {error}"))),
        }
    }
}
