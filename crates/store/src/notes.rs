//! Notes of members on objects, and who is mentioned in them.

use gubernum_core::note::{MOST_NOTES, Note, NotedObject};
use jiff::Timestamp;
use rusqlite::{Connection, OptionalExtension, params};

use crate::{Store, StoreError, from_nanos, nanos, readable};

impl Store {
    /// All notes, the newest first; those that mention `reader` and were not seen by them are marked as new.
    ///
    /// # Errors
    /// When the database fails.
    pub fn notes(&self, reader: &str) -> Result<Vec<Note>, StoreError> {
        let connection = self.connection.lock();
        let mut mentions: std::collections::HashMap<i64, Vec<(String, bool)>> =
            std::collections::HashMap::new();
        {
            let mut query =
                connection.prepare_cached("SELECT note, member, seen FROM mentions ORDER BY member")?;
            let rows = query
                .query_map([], |r| Ok((r.get::<_, i64>(0)?, r.get::<_, String>(1)?, r.get::<_, bool>(2)?)))?;
            for row in rows {
                let (note, member, seen) = row?;
                mentions.entry(note).or_default().push((member, seen));
            }
        }
        let mut query = connection.prepare_cached(
            "SELECT id, object, text, pinned, author, created, edited FROM notes ORDER BY id DESC",
        )?;
        let rows = query.query_map([], |r| {
            let id: i64 = r.get(0)?;
            let text: String = r.get(1)?;
            let on: NotedObject = text.parse().map_err(|_| crate::odd_word(1, "object of a note", &text))?;
            let mentioned = mentions.remove(&id).unwrap_or_default();
            Ok(Note {
                id: id.unsigned_abs(),
                on,
                text: r.get(2)?,
                pinned: r.get(3)?,
                author: r.get(4)?,
                created: from_nanos(r.get(5)?),
                edited: r.get::<_, Option<i64>>(6)?.map(from_nanos),
                is_new: mentioned.iter().any(|(member, seen)| !seen && member.eq_ignore_ascii_case(reader)),
                mentions: mentioned.into_iter().map(|(member, _)| member).collect(),
            })
        })?;
        readable("notes", rows)
    }

    /// Keeps a note and gives its number.
    ///
    /// # Errors
    /// [`StoreError::Full`] at the limit.
    pub fn add_note(&self, note: &Note) -> Result<u64, StoreError> {
        let mut connection = self.connection.lock();
        let transaction = connection.transaction()?;
        let held: i64 = transaction.query_row("SELECT count(*) FROM notes", [], |r| r.get(0))?;
        if usize::try_from(held).unwrap_or(usize::MAX) >= MOST_NOTES {
            return Err(StoreError::full(MOST_NOTES, "notes"));
        }
        transaction.execute(
            "INSERT INTO notes (object, text, pinned, author, created) VALUES (?1, ?2, ?3, ?4, ?5)",
            params![note.on.to_string(), note.text, note.pinned, note.author, nanos(note.created)],
        )?;
        let id = transaction.last_insert_rowid();
        mention(&transaction, id, &note.mentions)?;
        transaction.commit()?;
        Ok(id.unsigned_abs())
    }

    /// Gives a note another text, or pins it; `false` when nothing has that number. Whoever it mentioned already is not told again.
    ///
    /// # Errors
    /// When the database fails.
    pub fn change_note(&self, note: &Note, now: Timestamp) -> Result<bool, StoreError> {
        let id = i64::try_from(note.id).unwrap_or(i64::MAX);
        let mut connection = self.connection.lock();
        let transaction = connection.transaction()?;
        let changed = transaction.execute(
            "UPDATE notes SET edited = CASE WHEN text = ?2 THEN edited ELSE ?4 END, text = ?2, pinned = ?3 WHERE id = ?1",
            params![id, note.text, note.pinned, nanos(now)],
        )?;
        if changed == 1 {
            mention(&transaction, id, &note.mentions)?;
        }
        transaction.commit()?;
        Ok(changed == 1)
    }

    /// Removes a note; `false` when nothing has that number.
    ///
    /// # Errors
    /// When the database fails.
    pub fn remove_note(&self, id: u64) -> Result<bool, StoreError> {
        let id = i64::try_from(id).unwrap_or(i64::MAX);
        Ok(self.connection.lock().execute("DELETE FROM notes WHERE id = ?1", [id])? == 1)
    }

    /// One note as its author sees it.
    ///
    /// # Errors
    /// When the database fails.
    pub fn note(&self, id: u64) -> Result<Option<Note>, StoreError> {
        Ok(self.notes("")?.into_iter().find(|note| note.id == id))
    }

    /// A member has seen the notes that mention them.
    ///
    /// # Errors
    /// When the database fails.
    pub fn seen_mentions(&self, member: &str, notes: &[u64]) -> Result<(), StoreError> {
        let mut connection = self.connection.lock();
        let transaction = connection.transaction()?;
        for note in notes {
            let id = i64::try_from(*note).unwrap_or(i64::MAX);
            transaction.execute(
                "UPDATE mentions SET seen = 1 WHERE note = ?1 AND member = ?2",
                params![id, member],
            )?;
        }
        transaction.commit()?;
        Ok(())
    }

    /// The names of all members who may sign in.
    ///
    /// # Errors
    /// When the database fails.
    pub fn member_names(&self) -> Result<Vec<String>, StoreError> {
        let connection = self.connection.lock();
        let mut query =
            connection.prepare_cached("SELECT name FROM members WHERE deactivated IS NULL ORDER BY name")?;
        let rows = query.query_map([], |r| r.get(0))?;
        Ok(rows.collect::<Result<_, _>>()?)
    }

    /// A member's own settings, as JSON.
    ///
    /// # Errors
    /// When the database fails.
    pub fn profile(&self, member: i64) -> Result<Option<String>, StoreError> {
        let query = "SELECT profile FROM members WHERE id = ?1";
        Ok(self.connection.lock().query_row(query, [member], |r| r.get(0)).optional()?)
    }

    /// Sets a member's own settings: what it calls itself, the role that it works with until it steps up, and the rest as the service
    /// wrote it.
    ///
    /// # Errors
    /// When the database fails.
    pub fn set_profile(
        &self,
        member: i64,
        display_name: &str,
        works_as: Option<&str>,
        rest: &str,
    ) -> Result<(), StoreError> {
        self.connection.lock().execute(
            "UPDATE members SET display_name = ?2, works_as = ?3, profile = ?4 WHERE id = ?1",
            params![member, display_name, works_as, rest],
        )?;
        Ok(())
    }
}

fn mention(connection: &Connection, note: i64, members: &[String]) -> Result<(), StoreError> {
    let mut query =
        connection.prepare_cached("INSERT OR IGNORE INTO mentions (note, member) VALUES (?1, ?2)")?;
    for member in members {
        query.execute(params![note, member])?;
    }
    let kept = serde_json::to_string(members).unwrap_or_default();
    connection.execute(
        "DELETE FROM mentions WHERE note = ?1 AND member NOT IN (SELECT value FROM json_each(?2))",
        params![note, kept],
    )?;
    Ok(())
}
