//! Roles that a team adds to the built-in ones.

use gubernum_core::rights::{MOST_ROLES, Right, Role, built_in};
use rusqlite::params;

use crate::{Store, StoreError, readable};

/// The outcome of removing a role.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum RoleRemoval {
    /// It is gone.
    Done,
    /// There is no such role.
    Missing,
    /// How many members have it.
    InUse(u64),
}

impl Store {
    /// All roles: those that came with the service first.
    ///
    /// # Errors
    /// When the database fails.
    pub fn roles(&self) -> Result<Vec<Role>, StoreError> {
        let connection = self.connection.lock();
        let mut query =
            connection.prepare_cached("SELECT name, rights, second_factor FROM roles ORDER BY name")?;
        let rows = query.query_map([], |r| {
            let words: String = r.get(1)?;
            let rights = words
                .split(' ')
                .filter(|w| !w.is_empty())
                .map(|word| word.parse::<Right>().map_err(|_| crate::odd_word(1, "right", word)));
            Ok(Role {
                name: r.get(0)?,
                rights: rights.collect::<Result<_, _>>()?,
                second_factor: r.get(2)?,
                built_in: false,
            })
        })?;
        let own = readable("roles", rows)?;
        Ok(built_in().into_iter().chain(own).collect())
    }

    /// Adds a role, or changes the one of this name.
    ///
    /// # Errors
    /// [`StoreError::Full`] at the limit.
    pub fn set_role(&self, name: &str, rights: &[Right], second_factor: bool) -> Result<(), StoreError> {
        let connection = self.connection.lock();
        let others: i64 =
            connection.query_row("SELECT count(*) FROM roles WHERE name <> ?1", [name], |r| r.get(0))?;
        if usize::try_from(others).unwrap_or(usize::MAX) >= MOST_ROLES {
            return Err(StoreError::full(MOST_ROLES, "roles"));
        }
        let words: Vec<&str> = rights.iter().map(|right| right.word()).collect();
        connection.execute(
            "INSERT OR REPLACE INTO roles (name, rights, second_factor) VALUES (?1, ?2, ?3)",
            params![name, words.join(" "), second_factor],
        )?;
        Ok(())
    }

    /// Removes a role that nobody has.
    ///
    /// # Errors
    /// When the database fails.
    pub fn remove_role(&self, name: &str) -> Result<RoleRemoval, StoreError> {
        let mut connection = self.connection.lock();
        let transaction = connection.transaction()?;
        let holders: i64 = transaction.query_row(
            "SELECT count(DISTINCT member) FROM grants WHERE role = ?1",
            [name],
            |r| r.get(0),
        )?;
        if holders > 0 {
            return Ok(RoleRemoval::InUse(holders.unsigned_abs()));
        }
        let removed = transaction.execute("DELETE FROM roles WHERE name = ?1", [name])?;
        transaction.commit()?;
        Ok(if removed == 1 { RoleRemoval::Done } else { RoleRemoval::Missing })
    }
}
