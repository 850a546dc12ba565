//! Directories, the members who come from them, and what their groups grant.

use gubernum_core::directory::DirectoryKind;
use gubernum_core::rights::Granted;
use jiff::Timestamp;
use rusqlite::{Connection, OptionalExtension, params};

use crate::members::{self, insert};
use crate::{Store, StoreError, from_nanos, nanos, readable};

/// A directory as it is kept.
#[derive(Clone)]
pub struct DirectoryRecord {
    /// What it speaks.
    pub kind: DirectoryKind,
    /// How it is reached and what its groups grant, as JSON.
    pub settings: String,
    /// The client's secret, or the password that the service binds with.
    pub secret: Option<String>,
}

/// A member who came from a directory.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct DirectoryMember {
    /// Its number.
    pub id: i64,
    /// Its name.
    pub name: String,
    /// Who it is in the directory.
    pub subject: String,
    /// Since when it may not sign in any more.
    pub deactivated: Option<Timestamp>,
    /// When its groups were last asked for.
    pub checked: Timestamp,
}

/// What a directory says of somebody.
#[derive(Debug, Clone, Copy)]
pub struct FromDirectory<'a> {
    /// Which directory.
    pub kind: DirectoryKind,
    /// Who it is there: this stays when a name changes.
    pub subject: &'a str,
    /// The name that the member gets.
    pub name: &'a str,
    /// What its groups grant.
    pub grants: &'a [Granted],
}

pub(crate) fn purpose(kind: &str) -> String {
    format!("secret of the directory {kind}")
}

pub(crate) fn token_purpose(member: impl std::fmt::Display) -> String {
    format!("directory token of member {member}")
}

impl Store {
    /// The directories that are set up.
    ///
    /// # Errors
    /// When the database fails or the seal cannot be opened.
    pub fn directories(&self) -> Result<Vec<DirectoryRecord>, StoreError> {
        let connection = self.connection.lock();
        let mut query = connection.prepare("SELECT kind, settings, sealed FROM directories ORDER BY kind")?;
        let rows = query.query_map([], |r| {
            let word: String = r.get(0)?;
            let kind = word.parse().map_err(|_| crate::odd_word(0, "kind of directory", &word))?;
            Ok((kind, r.get::<_, String>(1)?, r.get::<_, Option<Vec<u8>>>(2)?))
        })?;
        let rows: Vec<(DirectoryKind, String, Option<Vec<u8>>)> = readable("directories", rows)?;
        drop(query);
        drop(connection);
        let opened = rows.into_iter().map(|(kind, settings, sealed)| {
            let secret =
                sealed.map(|sealed| self.seal.open_sealed(&purpose(kind.word()), &sealed)).transpose()?;
            let secret = secret.and_then(|secret| String::from_utf8(secret).ok());
            Ok(DirectoryRecord { kind, settings, secret })
        });
        opened.collect()
    }

    /// Sets a directory up, in place of what was set for its kind.
    ///
    /// # Errors
    /// When the database fails or no random numbers are available.
    pub fn set_directory(&self, record: &DirectoryRecord) -> Result<(), StoreError> {
        let secret = record.secret.as_ref();
        let sealed =
            secret.map(|s| self.seal.seal(&purpose(record.kind.word()), s.as_bytes())).transpose()?;
        self.connection.lock().execute(
            "INSERT OR REPLACE INTO directories (kind, settings, sealed) VALUES (?1, ?2, ?3)",
            params![record.kind.word(), record.settings, sealed],
        )?;
        Ok(())
    }

    /// Forgets a directory. Its members stay and are granted nothing by it any more; their sessions end. `None` when there is none
    /// of that kind, otherwise the numbers of the sessions and tokens that ended.
    ///
    /// # Errors
    /// When the database fails.
    pub fn remove_directory(&self, kind: DirectoryKind) -> Result<Option<Vec<i64>>, StoreError> {
        let mut connection = self.connection.lock();
        let transaction = connection.transaction()?;
        if transaction.execute("DELETE FROM directories WHERE kind = ?1", [kind.word()])? == 0 {
            return Ok(None);
        }
        transaction.execute(
            "DELETE FROM directory_grants WHERE member IN (SELECT id FROM members WHERE directory = ?1)",
            [kind.word()],
        )?;
        let ended = {
            let mut query = transaction.prepare(
                "DELETE FROM credentials WHERE member IN (SELECT id FROM members WHERE directory = ?1) RETURNING id",
            )?;
            query.query_map([kind.word()], |r| r.get(0))?.collect::<Result<Vec<i64>, _>>()?
        };
        transaction.commit()?;
        Ok(Some(ended))
    }

    /// The member who is somebody in a directory.
    ///
    /// # Errors
    /// When the database fails.
    pub fn directory_member(
        &self,
        kind: DirectoryKind,
        subject: &str,
    ) -> Result<Option<DirectoryMember>, StoreError> {
        let connection = self.connection.lock();
        let found = connection
            .query_row(
                "SELECT id, name, subject, deactivated, checked FROM members WHERE directory = ?1 AND subject = ?2",
                params![kind.word(), subject],
                directory_member,
            )
            .optional()?;
        Ok(found)
    }

    /// The directory that a member comes from, with who it is there.
    ///
    /// # Errors
    /// When the database fails.
    pub fn directory_of(&self, member: i64) -> Result<Option<(DirectoryKind, DirectoryMember)>, StoreError> {
        let connection = self.connection.lock();
        let found = connection
            .query_row(
                "SELECT id, name, subject, deactivated, checked, directory FROM members
                 WHERE id = ?1 AND directory IS NOT NULL",
                [member],
                |r| Ok((members::directory(5, r.get(5)?)?, directory_member(r)?)),
            )
            .optional()?;
        Ok(found.and_then(|(kind, member)| Some((kind?, member))))
    }

    /// Takes over what a directory says of somebody: makes the member where there is none yet, and gives what its groups grant.
    ///
    /// # Errors
    /// [`StoreError::Taken`] when another member has the name, [`StoreError::Full`] at the limit.
    pub fn put_directory_member(
        &self,
        said: &FromDirectory<'_>,
        now: Timestamp,
    ) -> Result<DirectoryMember, StoreError> {
        let mut connection = self.connection.lock();
        let transaction = connection.transaction()?;
        let found: Option<i64> = transaction
            .query_row(
                "SELECT id FROM members WHERE directory = ?1 AND subject = ?2",
                params![said.kind.word(), said.subject],
                |r| r.get(0),
            )
            .optional()?;
        let id = match found {
            Some(id) => id,
            None => {
                let id = insert(&transaction, said.name, "", now)?;
                transaction.execute(
                    "UPDATE members SET directory = ?2, subject = ?3 WHERE id = ?1",
                    params![id, said.kind.word(), said.subject],
                )?;
                id
            }
        };
        put(&transaction, id, said.grants, now)?;
        let member = transaction.query_row(
            "SELECT id, name, subject, deactivated, checked FROM members WHERE id = ?1",
            [id],
            directory_member,
        )?;
        transaction.commit()?;
        Ok(member)
    }

    /// Gives a member what its groups grant now; whether that is another than before.
    ///
    /// # Errors
    /// When the database fails.
    pub fn set_directory_grants(
        &self,
        member: i64,
        granted: &[Granted],
        now: Timestamp,
    ) -> Result<bool, StoreError> {
        let mut connection = self.connection.lock();
        let transaction = connection.transaction()?;
        let before = grants(&transaction, member)?;
        put(&transaction, member, granted, now)?;
        let changed = grants(&transaction, member)? != before;
        transaction.commit()?;
        Ok(changed)
    }

    /// The members of a directory who have something open and whose groups were last asked for before a moment.
    ///
    /// # Errors
    /// When the database fails.
    pub fn stale_directory_members(
        &self,
        kind: DirectoryKind,
        before: Timestamp,
        now: Timestamp,
    ) -> Result<Vec<i64>, StoreError> {
        let connection = self.connection.lock();
        let mut query = connection.prepare_cached(
            "SELECT m.id FROM members m WHERE m.directory = ?1 AND m.checked < ?2 AND m.deactivated IS NULL
             AND EXISTS (SELECT 1 FROM credentials c WHERE c.member = m.id AND (c.expires IS NULL OR c.expires > ?3))",
        )?;
        let rows = query.query_map(params![kind.word(), nanos(before), nanos(now)], |r| r.get(0))?;
        Ok(rows.collect::<Result<_, _>>()?)
    }

    /// What is known of the groups of a directory's members counts as old.
    ///
    /// # Errors
    /// When the database fails.
    pub fn forget_checks(&self, kind: DirectoryKind) -> Result<(), StoreError> {
        self.connection
            .lock()
            .execute("UPDATE members SET checked = 0 WHERE directory = ?1", [kind.word()])?;
        Ok(())
    }

    /// Keeps the token by which a member's groups are asked for again.
    ///
    /// # Errors
    /// When the database fails or no random numbers are available.
    pub fn set_directory_token(&self, member: i64, token: Option<&str>) -> Result<(), StoreError> {
        let sealed = token.map(|t| self.seal.seal(&token_purpose(member), t.as_bytes())).transpose()?;
        let query = "UPDATE members SET directory_secret = ?2 WHERE id = ?1";
        self.connection.lock().execute(query, params![member, sealed])?;
        Ok(())
    }

    /// The token by which a member's groups are asked for again.
    ///
    /// # Errors
    /// When the database fails or the seal cannot be opened.
    pub fn directory_token(&self, member: i64) -> Result<Option<String>, StoreError> {
        let sealed: Option<Option<Vec<u8>>> = self
            .connection
            .lock()
            .query_row("SELECT directory_secret FROM members WHERE id = ?1", [member], |r| r.get(0))
            .optional()?;
        let Some(sealed) = sealed.flatten() else { return Ok(None) };
        Ok(String::from_utf8(self.seal.open_sealed(&token_purpose(member), &sealed)?).ok())
    }
}

fn directory_member(r: &rusqlite::Row<'_>) -> rusqlite::Result<DirectoryMember> {
    Ok(DirectoryMember {
        id: r.get(0)?,
        name: r.get(1)?,
        subject: r.get(2)?,
        deactivated: r.get::<_, Option<i64>>(3)?.map(from_nanos),
        checked: from_nanos(r.get(4)?),
    })
}

fn put(connection: &Connection, member: i64, granted: &[Granted], now: Timestamp) -> Result<(), StoreError> {
    connection.execute("UPDATE members SET checked = ?2 WHERE id = ?1", params![member, nanos(now)])?;
    connection.execute("DELETE FROM directory_grants WHERE member = ?1", [member])?;
    let mut query = connection.prepare_cached(
        "INSERT OR IGNORE INTO directory_grants (member, role, scope, origin) VALUES (?1, ?2, ?3, ?4)",
    )?;
    for grant in granted {
        query.execute(params![member, grant.role, grant.scope.to_string(), grant.from])?;
    }
    Ok(())
}

/// What the groups of a member grant it.
pub(crate) fn grants(connection: &Connection, member: i64) -> Result<Vec<Granted>, StoreError> {
    let mut query = connection.prepare_cached(
        "SELECT role, scope, origin FROM directory_grants WHERE member = ?1 ORDER BY role, scope",
    )?;
    let rows = query.query_map([member], |r| {
        let text: String = r.get(1)?;
        let scope = text.parse().map_err(|_| crate::odd_word(1, "scope", &text))?;
        Ok(Granted { role: r.get(0)?, scope, from: r.get(2)? })
    })?;
    // A grant that cannot be read grants nothing.
    readable("directory_grants", rows)
}
