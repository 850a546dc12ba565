//! Freezes: which part of the fleet, by whom, until when.

use gubernum_core::freeze::{Freeze, MOST_FREEZES};
use gubernum_core::rights::Scope;
use jiff::Timestamp;
use rusqlite::params;

use crate::{Store, StoreError, from_nanos, nanos, readable};

impl Store {
    /// Keeps a freeze and gives its number.
    ///
    /// # Errors
    /// [`StoreError::Full`] at the limit.
    pub fn add_freeze(
        &self,
        scope: &Scope,
        reason: &str,
        member: &str,
        now: Timestamp,
        until: Timestamp,
    ) -> Result<u64, StoreError> {
        let mut connection = self.connection.lock();
        let transaction = connection.transaction()?;
        transaction.execute("DELETE FROM freezes WHERE until <= ?1", [nanos(now)])?;
        let held: i64 = transaction.query_row("SELECT count(*) FROM freezes", [], |r| r.get(0))?;
        if usize::try_from(held).unwrap_or(usize::MAX) >= MOST_FREEZES {
            return Err(StoreError::full(MOST_FREEZES, "freezes"));
        }
        transaction.execute(
            "INSERT INTO freezes (scope, reason, member, created, until) VALUES (?1, ?2, ?3, ?4, ?5)",
            params![scope.to_string(), reason, member, nanos(now), nanos(until)],
        )?;
        let id = transaction.last_insert_rowid().unsigned_abs();
        transaction.commit()?;
        Ok(id)
    }

    /// The freezes that hold at a time, the oldest first.
    ///
    /// # Errors
    /// When the database fails.
    pub fn freezes(&self, now: Timestamp) -> Result<Vec<Freeze>, StoreError> {
        let connection = self.connection.lock();
        let mut query = connection.prepare_cached(
            "SELECT id, scope, reason, member, created, until FROM freezes WHERE until > ?1 ORDER BY id",
        )?;
        let rows = query.query_map([nanos(now)], |r| {
            let text: String = r.get(1)?;
            Ok(Freeze {
                id: r.get::<_, i64>(0)?.unsigned_abs(),
                scope: text.parse().map_err(|_| crate::odd_word(1, "scope", &text))?,
                reason: r.get(2)?,
                member: r.get(3)?,
                created: from_nanos(r.get(4)?),
                until: from_nanos(r.get(5)?),
            })
        })?;
        readable("freezes", rows)
    }

    /// Ends a freeze; `false` when nothing has that number.
    ///
    /// # Errors
    /// When the database fails.
    pub fn end_freeze(&self, id: u64) -> Result<bool, StoreError> {
        let id = i64::try_from(id).unwrap_or(i64::MAX);
        Ok(self.connection.lock().execute("DELETE FROM freezes WHERE id = ?1", [id])? == 1)
    }
}
