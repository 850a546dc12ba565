//! Preferences of the service, and objects protected from tidying.

use gubernum_core::plan::TidyPiece;
use gubernum_core::preferences::{KeepNote, Preferences};
use jiff::Timestamp;
use rusqlite::{OptionalExtension, params};

use crate::journal::object;
use crate::{Store, StoreError, nanos, readable};

/// The row in which all settings stand.
const SERVICE: &str = "service";

/// The most things that are noted to be kept.
pub const MOST_NOTES: u32 = 5000;

impl Store {
    /// The settings; the usual ones where nobody has set any.
    ///
    /// # Errors
    /// When the database fails.
    pub fn preferences(&self) -> Result<Preferences, StoreError> {
        let connection = self.connection.lock();
        let found: Option<String> = connection
            .prepare_cached("SELECT value FROM preferences WHERE name = ?1")?
            .query_row([SERVICE], |r| r.get(0))
            .optional()?;
        let Some(text) = found else { return Ok(Preferences::default()) };
        if let Ok(all) = serde_json::from_str(&text) {
            return Ok(all);
        }
        // One that cannot be read is at its default, and named; the others count.
        let mut all = serde_json::to_value(Preferences::default()).unwrap_or_default();
        match serde_json::from_str::<serde_json::Map<String, serde_json::Value>>(&text) {
            Ok(set) => {
                for (name, value) in set {
                    let before = all[&name].clone();
                    all[&name] = value;
                    if serde_json::from_value::<Preferences>(all.clone()).is_err() {
                        crate::damage::note("preferences", &format!("'{name}' cannot be read"));
                        match before {
                            serde_json::Value::Null => {
                                drop(all.as_object_mut().and_then(|a| a.remove(&name)))
                            }
                            before => all[&name] = before,
                        }
                    }
                }
            }
            Err(error) => crate::damage::note("preferences", &error.to_string()),
        }
        Ok(serde_json::from_value(all).unwrap_or_default())
    }

    /// Sets them.
    ///
    /// # Errors
    /// When the database fails.
    pub fn set_preferences(&self, all: &Preferences) -> Result<(), StoreError> {
        let text = serde_json::to_string(all).map_err(|e| StoreError::Damaged(e.to_string()))?;
        let connection = self.connection.lock();
        connection.execute(
            "INSERT INTO preferences (name, value) VALUES (?1, ?2)
             ON CONFLICT (name) DO UPDATE SET value = excluded.value",
            [SERVICE, &text],
        )?;
        Ok(())
    }

    /// What members want kept.
    ///
    /// # Errors
    /// When the database fails.
    pub fn keep_notes(&self) -> Result<Vec<KeepNote>, StoreError> {
        let connection = self.connection.lock();
        let mut query = connection.prepare_cached("SELECT host, object, id, text, member FROM keep_notes")?;
        let rows = query.query_map([], |r| {
            Ok(KeepNote {
                piece: TidyPiece {
                    host: r.get(0)?,
                    object: object(1, &r.get::<_, String>(1)?)?,
                    id: r.get(2)?,
                },
                text: r.get(3)?,
                member: r.get(4)?,
            })
        })?;
        readable("keep_notes", rows)
    }

    /// Writes down that something is to be kept; `false` when as much is noted as can be.
    ///
    /// # Errors
    /// When the database fails.
    pub fn keep(&self, note: &KeepNote, now: Timestamp) -> Result<bool, StoreError> {
        let connection = self.connection.lock();
        let noted = connection.execute(
            "INSERT OR REPLACE INTO keep_notes (host, object, id, text, member, created)
             SELECT ?1, ?2, ?3, ?4, ?5, ?6
             WHERE (SELECT count(*) FROM keep_notes) < ?7
                OR EXISTS (SELECT 1 FROM keep_notes WHERE host = ?1 AND object = ?2 AND id = ?3)",
            params![
                note.piece.host,
                note.piece.object.word(),
                note.piece.id,
                note.text,
                note.member,
                nanos(now),
                MOST_NOTES
            ],
        )?;
        Ok(noted == 1)
    }

    /// Takes that back; `false` when nothing was written.
    ///
    /// # Errors
    /// When the database fails.
    pub fn let_go(&self, piece: &TidyPiece) -> Result<bool, StoreError> {
        let connection = self.connection.lock();
        let gone = connection.execute(
            "DELETE FROM keep_notes WHERE host = ?1 AND object = ?2 AND id = ?3",
            [piece.host.as_str(), piece.object.word(), piece.id.as_str()],
        )?;
        Ok(gone > 0)
    }
}
