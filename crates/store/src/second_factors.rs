//! Second factors: the sealed secret of a member's codes, and hashes of the unused recovery codes. Each code works
//! once.

use rusqlite::{OptionalExtension, params};

use crate::{Store, StoreError};

pub(crate) fn purpose(member: impl std::fmt::Display) -> String {
    format!("second factor of member {member}")
}

impl Store {
    /// Gives a member a second factor, in place of one that there was.
    ///
    /// # Errors
    /// When the database fails or no random numbers are available.
    pub fn set_second_factor(
        &self,
        member: i64,
        secret: &[u8],
        recovery: &[Vec<u8>],
    ) -> Result<(), StoreError> {
        let sealed = self.seal.seal(&purpose(member), secret)?;
        let mut connection = self.connection.lock();
        let transaction = connection.transaction()?;
        transaction.execute(
            "UPDATE members SET second_factor = ?2, last_step = 0 WHERE id = ?1",
            params![member, sealed],
        )?;
        transaction.execute("DELETE FROM recovery_codes WHERE member = ?1", [member])?;
        for hash in recovery {
            transaction.execute(
                "INSERT INTO recovery_codes (member, hash) VALUES (?1, ?2)",
                params![member, hash],
            )?;
        }
        transaction.commit()?;
        Ok(())
    }

    /// The secret of a member's second factor, if there is one.
    ///
    /// # Errors
    /// When the database fails or the seal cannot be opened.
    pub fn second_factor(&self, member: i64) -> Result<Option<Vec<u8>>, StoreError> {
        let sealed: Option<Option<Vec<u8>>> = self
            .connection
            .lock()
            .query_row("SELECT second_factor FROM members WHERE id = ?1", [member], |r| r.get(0))
            .optional()?;
        sealed.flatten().map(|sealed| self.seal.open_sealed(&purpose(member), &sealed)).transpose()
    }

    /// Uses the code of a step of time; `false` when it, or a later one, was used already.
    ///
    /// # Errors
    /// When the database fails.
    pub fn use_step(&self, member: i64, step: i64) -> Result<bool, StoreError> {
        let changed = self.connection.lock().execute(
            "UPDATE members SET last_step = ?2 WHERE id = ?1 AND last_step < ?2 AND second_factor IS NOT NULL",
            params![member, step],
        )?;
        Ok(changed == 1)
    }

    /// Uses a recovery code; `false` when there is none such.
    ///
    /// # Errors
    /// When the database fails.
    pub fn use_recovery_code(&self, member: i64, hash: &[u8]) -> Result<bool, StoreError> {
        let query = "DELETE FROM recovery_codes WHERE member = ?1 AND hash = ?2";
        Ok(self.connection.lock().execute(query, params![member, hash])? == 1)
    }

    /// Removes a member's second factor; `false` when there was none.
    ///
    /// # Errors
    /// When the database fails.
    pub fn remove_second_factor(&self, member: i64) -> Result<bool, StoreError> {
        let mut connection = self.connection.lock();
        let transaction = connection.transaction()?;
        transaction.execute("DELETE FROM recovery_codes WHERE member = ?1", [member])?;
        let query = "UPDATE members SET second_factor = NULL WHERE id = ?1 AND second_factor IS NOT NULL";
        let changed = transaction.execute(query, [member])?;
        transaction.commit()?;
        Ok(changed == 1)
    }
}
