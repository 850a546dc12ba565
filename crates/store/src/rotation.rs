//! Rotation of the seal key, while the service runs.
//!
//! First the new key is written next to the older one: from then on it seals. Then every secret is re-sealed, a few rows at a time. Then
//! the older key is removed. A crash in between leaves both keys in the file; the next start continues.

use rusqlite::types::Value;
use rusqlite::{OptionalExtension, params_from_iter};

use crate::key_file::KeyError;
use crate::{
    Store, StoreError, audit, directories, earlier, hosts, journal, registries, second_factors, sources,
};

/// How many rows are re-sealed in one transaction.
const AT_ONCE: usize = 50;

/// Why keys could not be changed. Everything can still be opened.
#[derive(Debug, thiserror::Error)]
pub enum RotationError {
    /// The key file.
    #[error(transparent)]
    Key(#[from] KeyError),
    /// The records.
    #[error(transparent)]
    Store(#[from] StoreError),
}

/// A column that holds what is sealed.
pub(crate) struct SealedColumn {
    pub(crate) table: &'static str,
    pub(crate) column: &'static str,
    /// What tells its rows apart.
    keys: &'static [&'static str],
    /// What its values are sealed for.
    purpose: fn(&[String]) -> String,
}

/// Every place where something is sealed. A test holds this against the schema.
pub(crate) const SEALED_COLUMNS: &[SealedColumn] = &[
    SealedColumn {
        table: "hosts",
        column: "tls_key_sealed",
        keys: &["name"],
        purpose: |k| hosts::purpose(&k[0]),
    },
    SealedColumn {
        table: "operations",
        column: "sealed",
        keys: &["id"],
        purpose: |_| journal::SEALED_REQUEST.to_owned(),
    },
    SealedColumn {
        table: "earlier",
        column: "sealed",
        keys: &["id"],
        purpose: |_| earlier::SEALED.to_owned(),
    },
    SealedColumn {
        table: "registries",
        column: "secret_sealed",
        keys: &["address"],
        purpose: |k| registries::purpose(&k[0]),
    },
    SealedColumn {
        table: "stack_revisions",
        column: "sealed",
        keys: &["host", "stack", "number"],
        purpose: |_| journal::SEALED_REQUEST.to_owned(),
    },
    SealedColumn {
        table: "stack_sources",
        column: "sealed",
        keys: &["host", "stack"],
        purpose: |k| sources::purpose(&k[0], &k[1]),
    },
    SealedColumn {
        table: "stack_sources",
        column: "waiting",
        keys: &["host", "stack"],
        purpose: |k| sources::waiting_purpose(&k[0], &k[1]),
    },
    SealedColumn {
        table: "members",
        column: "second_factor",
        keys: &["id"],
        purpose: |k| second_factors::purpose(&k[0]),
    },
    SealedColumn {
        table: "members",
        column: "directory_secret",
        keys: &["id"],
        purpose: |k| directories::token_purpose(&k[0]),
    },
    SealedColumn {
        table: "directories",
        column: "sealed",
        keys: &["kind"],
        purpose: |k| directories::purpose(&k[0]),
    },
    SealedColumn {
        table: "credentials",
        column: "sealed_id_token",
        keys: &["id"],
        purpose: |_| crate::credentials::ID_TOKEN.to_owned(),
    },
];

impl Store {
    /// Makes a fresh key and seals everything with it; resumes a change that an earlier run left in the middle. Gives how many
    /// secrets were re-sealed.
    ///
    /// # Errors
    /// When the key file or the records cannot be written: everything can still be opened then, and it can be tried again.
    pub fn rotate_seal(&self) -> Result<u64, RotationError> {
        let _one_at_a_time = self.rotating.lock();
        if !self.seal.is_rotating() {
            self.seal.begin_rotation()?;
        }
        self.finish_rotation()
    }

    /// Finishes a change of keys that an earlier run left in the middle, if there is one.
    ///
    /// # Errors
    /// As [`Self::rotate_seal`].
    pub fn resume_rotation(&self) -> Result<(), RotationError> {
        let _one_at_a_time = self.rotating.lock();
        if self.seal.is_rotating() {
            self.finish_rotation()?;
        }
        Ok(())
    }

    fn finish_rotation(&self) -> Result<u64, RotationError> {
        let mut done = 0;
        for place in SEALED_COLUMNS {
            done += self.reseal(place)?;
        }
        audit::anchor_anew(&self.connection.lock(), &self.seal)?;
        self.seal.end_rotation()?;
        Ok(done)
    }

    fn reseal(&self, place: &SealedColumn) -> Result<u64, StoreError> {
        let SealedColumn { table, column, keys, purpose } = place;
        let names = keys.join(", ");
        let rows: Vec<Vec<Value>> = {
            let connection = self.connection.lock();
            let mut query =
                connection.prepare(&format!("SELECT {names} FROM {table} WHERE {column} IS NOT NULL"))?;
            let read = query.query_map([], |r| (0..keys.len()).map(|n| r.get(n)).collect())?;
            read.collect::<Result<_, _>>()?
        };
        let which: Vec<String> = keys.iter().map(|key| format!("{key} = ?")).collect();
        let which = which.join(" AND ");
        let select = format!("SELECT {column} FROM {table} WHERE {which} AND {column} IS NOT NULL");
        let update = format!("UPDATE {table} SET {column} = ? WHERE {which}");
        let mut done = 0;
        for rows in rows.chunks(AT_ONCE) {
            let mut connection = self.connection.lock();
            let transaction = connection.transaction()?;
            for row in rows {
                let sealed: Option<Vec<u8>> =
                    transaction.query_row(&select, params_from_iter(row), |r| r.get(0)).optional()?;
                let Some(sealed) = sealed.filter(|sealed| !self.seal.is_newest(sealed)) else { continue };
                let purpose = purpose(&row.iter().map(shown).collect::<Vec<_>>());
                // What no key opens is damaged, and stays as it is.
                let Ok(opened) = self.seal.open_sealed(&purpose, &sealed) else {
                    crate::damage::note(table, "a sealed value that no key opens is left as it is");
                    continue;
                };
                let sealed = self.seal.seal(&purpose, &opened)?;
                let values = std::iter::once(Value::Blob(sealed)).chain(row.iter().cloned());
                transaction.execute(&update, params_from_iter(values))?;
                done += 1;
            }
            transaction.commit()?;
        }
        Ok(done)
    }
}

fn shown(value: &Value) -> String {
    match value {
        Value::Text(text) => text.clone(),
        Value::Integer(number) => number.to_string(),
        _ => String::new(),
    }
}
