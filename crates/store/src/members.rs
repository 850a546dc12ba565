//! Members: who may sign in.

use jiff::Timestamp;
use rusqlite::{OptionalExtension, params};

use crate::{Store, StoreError, nanos};

/// A member with the hash of the password.
#[derive(Debug, Clone)]
pub struct Member {
    /// Its number.
    pub id: i64,
    /// Its name as it was written first.
    pub name: String,
    /// Argon2id in PHC form.
    pub password_hash: String,
}

impl Store {
    /// Whether anybody may sign in yet.
    ///
    /// # Errors
    /// When the database refuses.
    pub fn has_members(&self) -> Result<bool, StoreError> {
        let count: i64 =
            self.connection.lock().query_row("SELECT count(*) FROM members", [], |r| r.get(0))?;
        Ok(count > 0)
    }

    /// Adds the first member, an administrator. `false` when there is one already: of two who claim
    /// at once, one wins.
    ///
    /// # Errors
    /// When the database refuses.
    pub fn claim(&self, name: &str, password_hash: &str, now: Timestamp) -> Result<bool, StoreError> {
        let changed = self.connection.lock().execute(
            "INSERT INTO members (name, password_hash, role, created)
             SELECT ?1, ?2, 'administrator', ?3 WHERE NOT EXISTS (SELECT 1 FROM members)",
            params![name, password_hash, nanos(now)],
        )?;
        Ok(changed == 1)
    }

    /// Adds a further member.
    ///
    /// # Errors
    /// [`StoreError::Taken`] when there is one of that name.
    pub fn add_member(&self, name: &str, password_hash: &str, now: Timestamp) -> Result<(), StoreError> {
        let result = self.connection.lock().execute(
            "INSERT INTO members (name, password_hash, role, created) VALUES (?1, ?2, 'administrator', ?3)",
            params![name, password_hash, nanos(now)],
        );
        match result {
            Err(e) if is_taken(&e) => Err(StoreError::Taken(format!("the name `{name}`"))),
            other => other.map(|_| ()).map_err(Into::into),
        }
    }

    /// Finds a member by name, in whatever case.
    ///
    /// # Errors
    /// When the database refuses.
    pub fn member(&self, name: &str) -> Result<Option<Member>, StoreError> {
        let connection = self.connection.lock();
        let found = connection
            .query_row("SELECT id, name, password_hash FROM members WHERE name = ?1", [name], |r| {
                Ok(Member { id: r.get(0)?, name: r.get(1)?, password_hash: r.get(2)? })
            })
            .optional()?;
        Ok(found)
    }
}

pub(crate) fn is_taken(error: &rusqlite::Error) -> bool {
    matches!(error.sqlite_error_code(), Some(rusqlite::ErrorCode::ConstraintViolation))
}
