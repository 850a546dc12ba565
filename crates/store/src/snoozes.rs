//! Snoozes: which reasons are hidden, by whom and until when.

use gubernum_core::note::NotedObject;
use gubernum_core::snooze::{MOST_SNOOZES, Snooze};
use jiff::Timestamp;
use rusqlite::params;

use crate::{Store, StoreError, from_nanos, nanos, readable};

impl Store {
    /// Sets a reason on an object aside, in place of what was set aside there before, and gives its number.
    ///
    /// # Errors
    /// [`StoreError::Full`] at the limit.
    pub fn add_snooze(
        &self,
        on: &NotedObject,
        code: &str,
        reason: &str,
        member: &str,
        (now, until): (Timestamp, Timestamp),
    ) -> Result<u64, StoreError> {
        let mut connection = self.connection.lock();
        let transaction = connection.transaction()?;
        transaction.execute("DELETE FROM snoozes WHERE until <= ?1", [nanos(now)])?;
        transaction
            .execute("DELETE FROM snoozes WHERE object = ?1 AND code = ?2", params![on.to_string(), code])?;
        let held: i64 = transaction.query_row("SELECT count(*) FROM snoozes", [], |r| r.get(0))?;
        if usize::try_from(held).unwrap_or(usize::MAX) >= MOST_SNOOZES {
            return Err(StoreError::full(MOST_SNOOZES, "snoozes"));
        }
        transaction.execute(
            "INSERT INTO snoozes (object, code, reason, member, created, until) VALUES (?1, ?2, ?3, ?4, ?5, ?6)",
            params![on.to_string(), code, reason, member, nanos(now), nanos(until)],
        )?;
        let id = transaction.last_insert_rowid().unsigned_abs();
        transaction.commit()?;
        Ok(id)
    }

    /// What is set aside at a time, the oldest first.
    ///
    /// # Errors
    /// When the database fails.
    pub fn snoozes(&self, now: Timestamp) -> Result<Vec<Snooze>, StoreError> {
        let connection = self.connection.lock();
        let mut query = connection.prepare_cached(
            "SELECT id, object, code, reason, member, created, until FROM snoozes WHERE until > ?1 ORDER BY id",
        )?;
        let rows = query.query_map([nanos(now)], |r| {
            let text: String = r.get(1)?;
            Ok(Snooze {
                id: r.get::<_, i64>(0)?.unsigned_abs(),
                on: text.parse().map_err(|_| crate::odd_word(1, "object", &text))?,
                code: r.get(2)?,
                reason: r.get(3)?,
                member: r.get(4)?,
                created: from_nanos(r.get(5)?),
                until: from_nanos(r.get(6)?),
            })
        })?;
        readable("snoozes", rows)
    }

    /// Ends a snooze; `false` when nothing has that number.
    ///
    /// # Errors
    /// When the database fails.
    pub fn end_snooze(&self, id: u64) -> Result<bool, StoreError> {
        let id = i64::try_from(id).unwrap_or(i64::MAX);
        Ok(self.connection.lock().execute("DELETE FROM snoozes WHERE id = ?1", [id])? == 1)
    }
}
