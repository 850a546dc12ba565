//! Revisions of stacks: each applied set of files and variables, sealed.

use gubernum_core::plan::Request;
use gubernum_core::plan::request::ApplyRequest;
use gubernum_core::revision::StackRevision;
use jiff::Timestamp;
use rusqlite::{OptionalExtension, Transaction, params};

use crate::journal::SEALED_REQUEST;
use crate::{Store, StoreError, from_nanos, nanos};

/// The most revisions of one stack on one host; beyond that the oldest go.
pub const MOST_REVISIONS: i64 = 50;

impl Store {
    /// Keeps the text of a stack that was written down from what runs; returns the revision's number.
    ///
    /// # Errors
    /// When the database fails.
    pub fn adopt(
        &self,
        host: &str,
        request: &ApplyRequest,
        member: &str,
        now: Timestamp,
    ) -> Result<u64, StoreError> {
        let sealed = self.sealed_text(request)?;
        let mut connection = self.connection.lock();
        let transaction = connection.transaction()?;
        let number: i64 = transaction.query_row(
            "INSERT INTO stack_revisions (host, stack, number, sealed, operation, member, comment, created)
             VALUES (?1, ?2, 1 + COALESCE((SELECT MAX(number) FROM stack_revisions WHERE host = ?1 AND stack = ?2), 0),
                     ?3, 0, ?4, ?5, ?6) RETURNING number",
            params![host, request.stack, sealed, member, request.comment, nanos(now)],
            |r| r.get(0),
        )?;
        drop_oldest(&transaction, host, &request.stack)?;
        transaction
            .execute("DELETE FROM removed_stacks WHERE host = ?1 AND stack = ?2", [host, &request.stack])?;
        transaction.commit()?;
        Ok(number.unsigned_abs())
    }

    /// What is kept of a text as a revision.
    pub(crate) fn sealed_text(&self, request: &ApplyRequest) -> Result<Vec<u8>, StoreError> {
        let whole = serde_json::to_vec(&Request::Apply(request.clone()));
        self.seal.seal(SEALED_REQUEST, &whole.map_err(|e| StoreError::Damaged(e.to_string()))?)
    }

    /// The stacks that are to run as their newest revision says: host, stack and the revision's number. Those that were removed are
    /// not among them.
    ///
    /// # Errors
    /// When the database fails.
    pub fn kept_stacks(&self) -> Result<Vec<(String, String, u64)>, StoreError> {
        let connection = self.connection.lock();
        let mut query = connection.prepare_cached(
            "SELECT host, stack, MAX(number) FROM stack_revisions AS kept WHERE NOT EXISTS
             (SELECT 1 FROM removed_stacks WHERE host = kept.host AND stack = kept.stack)
             GROUP BY host, stack ORDER BY host, stack",
        )?;
        let rows = query.query_map([], |r| Ok((r.get(0)?, r.get(1)?, r.get::<_, i64>(2)?.unsigned_abs())))?;
        Ok(rows.collect::<Result<_, _>>()?)
    }

    /// Whether a stack's change was decided to hold before the service ended.
    ///
    /// # Errors
    /// When the database fails.
    pub fn is_decided(&self, operation: u64) -> Result<bool, StoreError> {
        let id = i64::try_from(operation).unwrap_or(i64::MAX);
        let connection = self.connection.lock();
        let found = connection
            .query_row("SELECT decided FROM operations WHERE id = ?1", [id], |r| r.get(0))
            .optional()?;
        Ok(found.unwrap_or(false))
    }

    /// The revisions of a stack on a host, the newest first.
    ///
    /// # Errors
    /// When the database fails.
    pub fn stack_revisions(&self, host: &str, stack: &str) -> Result<Vec<StackRevision>, StoreError> {
        let connection = self.connection.lock();
        let mut query = connection.prepare_cached(
            "SELECT number, operation, member, comment, created, source_commit FROM stack_revisions
             WHERE host = ?1 AND stack = ?2 ORDER BY number DESC",
        )?;
        let rows = query.query_map([host, stack], |r| {
            Ok(StackRevision {
                number: r.get::<_, i64>(0)?.unsigned_abs(),
                operation: r.get::<_, i64>(1)?.unsigned_abs(),
                member: r.get(2)?,
                comment: r.get(3)?,
                created: from_nanos(r.get(4)?),
                commit: r.get(5)?,
            })
        })?;
        Ok(rows.collect::<Result<_, _>>()?)
    }

    /// What was applied as a revision of a stack, with the secrets in it; the newest when `number` is absent.
    ///
    /// # Errors
    /// When the database fails or the seal cannot be opened.
    pub fn stack_revision(
        &self,
        host: &str,
        stack: &str,
        number: Option<u64>,
    ) -> Result<Option<ApplyRequest>, StoreError> {
        let number = number.map(|n| i64::try_from(n).unwrap_or(i64::MAX));
        let sealed: Option<Vec<u8>> = self
            .connection
            .lock()
            .query_row(
                "SELECT sealed FROM stack_revisions WHERE host = ?1 AND stack = ?2 AND (?3 IS NULL OR number = ?3)
                 ORDER BY number DESC LIMIT 1",
                params![host, stack, number],
                |r| r.get(0),
            )
            .optional()?;
        let Some(sealed) = sealed else { return Ok(None) };
        let opened = self.seal.open_sealed(SEALED_REQUEST, &sealed)?;
        let request = serde_json::from_slice(&opened).map_err(|e| StoreError::Damaged(e.to_string()))?;
        match request {
            Request::Apply(request) => Ok(Some(request)),
            _ => Err(StoreError::Damaged("a revision of a stack cannot be read".to_owned())),
        }
    }
}

/// Keeps the text of an operation as a stack's newest revision. `sealed` is what the operation's request has of it, where that is
/// not the whole.
pub(crate) fn add_revision(
    transaction: &Transaction<'_>,
    operation: i64,
    host: &str,
    request: &ApplyRequest,
    sealed: Option<&[u8]>,
    now: Timestamp,
) -> Result<(), StoreError> {
    transaction.execute(
        "INSERT INTO stack_revisions (host, stack, number, sealed, operation, member, comment, created, source_commit)
         SELECT ?1, ?2, 1 + COALESCE((SELECT MAX(number) FROM stack_revisions WHERE host = ?1 AND stack = ?2), 0),
                COALESCE(?7, sealed), id, author, ?4, ?5, ?6 FROM operations WHERE id = ?3",
        params![host, request.stack, operation, request.comment, nanos(now), request.commit, sealed],
    )?;
    drop_oldest(transaction, host, &request.stack)
}

fn drop_oldest(transaction: &Transaction<'_>, host: &str, stack: &str) -> Result<(), StoreError> {
    transaction.execute(
        "DELETE FROM stack_revisions WHERE host = ?1 AND stack = ?2 AND number <=
         (SELECT MAX(number) FROM stack_revisions WHERE host = ?1 AND stack = ?2) - ?3",
        params![host, stack, MOST_REVISIONS],
    )?;
    Ok(())
}
