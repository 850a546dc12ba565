//! The syslog export: its settings, and how much of the audit log was sent.

use rusqlite::{OptionalExtension, params};

use crate::{Store, StoreError};

impl Store {
    /// The settings, as the service wrote them, and the number of the last entry that was sent.
    ///
    /// # Errors
    /// When the database fails.
    pub fn syslog(&self) -> Result<Option<(String, u64)>, StoreError> {
        let connection = self.connection.lock();
        let found = connection.query_row("SELECT settings, sent FROM syslog", [], |r| {
            Ok((r.get(0)?, r.get::<_, i64>(1)?.unsigned_abs()))
        });
        Ok(found.optional()?)
    }

    /// Sets where it is sent. What is in the log already is not sent, unless it was being sent before.
    ///
    /// # Errors
    /// When the database fails.
    pub fn set_syslog(&self, settings: &str) -> Result<(), StoreError> {
        self.connection.lock().execute(
            "INSERT INTO syslog (one, settings, sent) VALUES (1, ?1, (SELECT coalesce(max(id), 0) FROM audit))
             ON CONFLICT (one) DO UPDATE SET settings = excluded.settings",
            [settings],
        )?;
        Ok(())
    }

    /// Sends it nowhere any more; `false` when it was not sent anywhere.
    ///
    /// # Errors
    /// When the database fails.
    pub fn remove_syslog(&self) -> Result<bool, StoreError> {
        Ok(self.connection.lock().execute("DELETE FROM syslog", [])? > 0)
    }

    /// Notes that everything up to this entry has gone.
    ///
    /// # Errors
    /// When the database fails.
    pub fn set_syslog_sent(&self, entry: u64) -> Result<(), StoreError> {
        let entry = i64::try_from(entry).unwrap_or(i64::MAX);
        self.connection.lock().execute("UPDATE syslog SET sent = max(sent, ?1)", params![entry])?;
        Ok(())
    }

    /// How many entries have not gone yet.
    ///
    /// # Errors
    /// When the database fails.
    pub fn syslog_waiting(&self) -> Result<u64, StoreError> {
        let query = "SELECT coalesce((SELECT max(id) FROM audit), 0) - sent FROM syslog";
        let found: Option<i64> = self.connection.lock().query_row(query, [], |r| r.get(0)).optional()?;
        Ok(found.unwrap_or(0).max(0).unsigned_abs())
    }
}
