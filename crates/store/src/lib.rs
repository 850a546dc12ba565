//! The service's records in SQLite: the only crate that knows SQL.
//!
//! [`Store::open`] opens or makes the database file and brings it to the present schema; the
//! modules hold the typed queries: [`members`], [`roles`], [`invitations`], [`freezes`], [`credentials`], [`hosts`], [`journal`], [`audit`], [`events`], [`settings`],
//! [`registries`], [`earlier`], [`stacks`], [`sources`], [`jobs`], [`preferences`].
//! [`history`] and [`segments`] keep resource use and log lines in files of their own. Calls
//! block for as long as the disk takes: async callers move them to a blocking thread.

pub mod approvals;
pub mod audit;
pub mod credentials;
pub mod damage;
mod decisions;
pub mod directories;
pub mod earlier;
pub mod events;
pub mod file;
pub mod freezes;
pub mod history;
pub mod hosts;
pub mod invitations;
pub mod jobs;
pub mod journal;
pub mod key_file;
pub mod members;
pub mod notes;
pub mod preferences;
pub mod registries;
pub mod roles;
pub mod rotation;
mod schema;
pub mod seal;
mod second_factors;
pub mod segments;
pub mod settings;
pub mod snoozes;
pub mod sources;
pub mod stacks;
pub mod syslog;
pub mod uploads;

use jiff::Timestamp;
use parking_lot::Mutex;
use rusqlite::Connection;

pub use file::OpenError;
pub use seal::Seal;

/// An open database.
pub struct Store {
    connection: Mutex<Connection>,
    seal: Seal,
    /// Held while keys are changed.
    rotating: Mutex<()>,
}

/// A query that failed.
#[derive(Debug, thiserror::Error)]
pub enum StoreError {
    /// SQLite refused: a full disk, a damaged file, a programming error.
    #[error("the records could not be read or written: {0}; check the disk of the data folder")]
    Sql(#[from] rusqlite::Error),
    /// A record does not hold what it should.
    #[error("a record in the database is invalid: {0}")]
    Damaged(String),
    /// A name is taken.
    #[error("{0} is taken; choose another")]
    Taken(String),
    /// As many of a kind as the records hold.
    #[error("the limit of {most} {kind} is reached; remove one first")]
    Full {
        /// The most of them.
        most: u64,
        /// What they are, in the plural.
        kind: &'static str,
    },
    /// Something sealed cannot be opened.
    #[error("a sealed secret cannot be opened; was the key file 'seal.key' replaced?")]
    Sealed,
    /// An idempotency key came again with another request.
    #[error("this Idempotency-Key was used for another request; use a new key for a new request")]
    KeyReused,
}

impl Store {
    /// The sealer of secrets that belongs to this database.
    pub fn seal(&self) -> &Seal {
        &self.seal
    }

    /// Whether the database answers.
    ///
    /// # Errors
    /// When it does not.
    pub fn check(&self) -> Result<(), StoreError> {
        self.connection.lock().query_row("SELECT 1", [], |_| Ok(()))?;
        Ok(())
    }
}

impl StoreError {
    /// The refusal of one more of a kind than the records hold.
    pub(crate) fn full(most: impl TryInto<u64>, kind: &'static str) -> Self {
        Self::Full { most: most.try_into().unwrap_or(u64::MAX), kind }
    }
}

/// A word in a record that this version does not know: damage, which is named.
pub(crate) fn odd_word(column: usize, what: &str, word: &str) -> rusqlite::Error {
    let text = format!("the {what} '{}' is not known", gubernum_core::text::shown(word, 60));
    rusqlite::Error::FromSqlConversionFailure(column, rusqlite::types::Type::Text, text.into())
}

/// The rows of a list that can be read. One that cannot is named in the service's log and does not stop the rest.
pub(crate) fn readable<T>(
    what: &str,
    rows: impl Iterator<Item = rusqlite::Result<T>>,
) -> Result<Vec<T>, StoreError> {
    let mut found = Vec::new();
    for row in rows {
        match row {
            Ok(row) => found.push(row),
            Err(
                error @ (rusqlite::Error::FromSqlConversionFailure(..)
                | rusqlite::Error::InvalidColumnType(..)
                | rusqlite::Error::IntegralValueOutOfRange(..)),
            ) => damage::note(what, &error.to_string()),
            Err(error) => return Err(error.into()),
        }
    }
    Ok(found)
}

/// Times are kept as nanoseconds since 1970.
pub(crate) fn nanos(time: Timestamp) -> i64 {
    i64::try_from(time.as_nanosecond()).unwrap_or(i64::MAX)
}

pub(crate) fn from_nanos(nanos: i64) -> Timestamp {
    Timestamp::from_nanosecond(i128::from(nanos)).unwrap_or(Timestamp::UNIX_EPOCH)
}

#[cfg(test)]
#[path = "store_tests.rs"]
mod tests;

#[cfg(test)]
#[path = "records_tests.rs"]
mod records_tests;

#[cfg(test)]
#[path = "access_tests.rs"]
mod access_tests;

#[cfg(test)]
#[path = "stacks_tests.rs"]
mod stacks_tests;

#[cfg(test)]
#[path = "sources_tests.rs"]
mod sources_tests;

#[cfg(test)]
#[path = "rotation_tests.rs"]
mod rotation_tests;

#[cfg(test)]
#[path = "members_tests.rs"]
mod members_tests;
