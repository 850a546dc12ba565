//! Sessions and API tokens. Only their hashes are kept.

use gubernum_core::credential;
use gubernum_core::rights::{Bound, Grant};
use jiff::Timestamp;
use rusqlite::{OptionalExtension, params};

use crate::members;
use crate::{Store, StoreError, from_nanos, nanos, odd_word};

/// What a credential is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, strum::IntoStaticStr)]
#[strum(serialize_all = "lowercase")]
pub enum Kind {
    /// A browser's session.
    Session,
    /// An API token.
    Token,
}

impl Kind {
    fn word(self) -> &'static str {
        self.into()
    }
}

/// A credential that was shown and is valid.
#[derive(Debug, Clone)]
pub struct Presented {
    /// Its number.
    pub id: i64,
    /// What it is.
    pub kind: Kind,
    /// Whose it is.
    pub member_id: i64,
    /// The member's name.
    pub member: String,
    /// When it ends by itself.
    pub expires: Option<Timestamp>,
    /// Whether the member has a second factor.
    pub second_factor: bool,
    /// What the member is granted.
    pub grants: Vec<Grant>,
    /// What it is cut down to, where it is not as good as its member.
    pub bounds: Option<Vec<Bound>>,
}

/// A credential to be kept.
#[derive(Debug, Clone)]
pub struct NewCredential<'a> {
    /// What it is.
    pub kind: Kind,
    /// The SHA-256 of its text.
    pub hash: &'a [u8],
    /// Whose it is.
    pub member_id: i64,
    /// What it is for.
    pub name: &'a str,
    /// Where it was asked for from.
    pub address: &'a str,
    /// When it ends.
    pub expires: Option<Timestamp>,
    /// What it is cut down to; as good as its member when absent.
    pub bounds: Option<&'a [Bound]>,
}

/// Bounds that cannot be read make the credential unusable, never unbounded.
fn read(column: usize, text: Option<String>) -> rusqlite::Result<Option<Vec<Bound>>> {
    let read = |text: String| serde_json::from_str(&text).map_err(|_| odd_word(column, "bounds", &text));
    text.map(read).transpose()
}

/// How many sessions, or tokens, one member may have; the oldest session makes room.
pub const MOST_PER_MEMBER: i64 = 100;

impl Store {
    /// Keeps a credential and gives its number.
    ///
    /// # Errors
    /// When the database refuses, or the member has too many tokens.
    pub fn add_credential(&self, new: &NewCredential<'_>, now: Timestamp) -> Result<i64, StoreError> {
        let mut connection = self.connection.lock();
        let transaction = connection.transaction()?;
        transaction.execute("DELETE FROM credentials WHERE expires <= ?1", [nanos(now)])?;
        let held: i64 = transaction.query_row(
            "SELECT count(*) FROM credentials WHERE member = ?1 AND kind = ?2",
            params![new.member_id, new.kind.word()],
            |r| r.get(0),
        )?;
        if held >= MOST_PER_MEMBER {
            if new.kind == Kind::Token {
                return Err(StoreError::Taken(format!("the last of {MOST_PER_MEMBER} places for tokens")));
            }
            transaction.execute(
                "DELETE FROM credentials WHERE id = (SELECT id FROM credentials WHERE member = ?1 AND kind = 'session'
                 ORDER BY created LIMIT 1)",
                [new.member_id],
            )?;
        }
        transaction.execute(
            "INSERT INTO credentials (kind, hash, member, name, address, created, expires, bounds)
             VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8)",
            params![
                new.kind.word(),
                new.hash,
                new.member_id,
                new.name,
                new.address,
                nanos(now),
                new.expires.map(nanos),
                new.bounds.map(|bounds| serde_json::to_string(bounds).unwrap_or_default())
            ],
        )?;
        let id = transaction.last_insert_rowid();
        transaction.commit()?;
        Ok(id)
    }

    /// Finds a valid credential by the hash of its text and notes its use, at most once a minute.
    ///
    /// # Errors
    /// When the database refuses.
    pub fn present(&self, hash: &[u8], now: Timestamp) -> Result<Option<Presented>, StoreError> {
        let connection = self.connection.lock();
        let found = connection
            .query_row(
                "SELECT c.id, c.kind, c.member, m.name, c.last_used, c.expires, c.bounds, m.second_factor IS NOT NULL
                 FROM credentials c JOIN members m ON m.id = c.member
                 WHERE c.hash = ?1 AND (c.expires IS NULL OR c.expires > ?2) AND m.deactivated IS NULL",
                params![hash, nanos(now)],
                |r| {
                    let word: String = r.get(1)?;
                    let known = [Kind::Session, Kind::Token].into_iter().find(|k| k.word() == word);
                    let kind = known.ok_or_else(|| odd_word(1, "kind of credential", &word))?;
                    let expires = r.get::<_, Option<i64>>(5)?.map(from_nanos);
                    let bounds = read(6, r.get(6)?)?;
                    let presented = Presented {
                        id: r.get(0)?,
                        kind,
                        member_id: r.get(2)?,
                        member: r.get(3)?,
                        expires,
                        second_factor: r.get(7)?,
                        grants: Vec::new(),
                        bounds,
                    };
                    Ok((presented, r.get::<_, Option<i64>>(4)?))
                },
            )
            .optional()?;
        let Some((mut presented, last_used)) = found else { return Ok(None) };
        presented.grants = members::grants(&connection, presented.member_id)?;
        let minute = 60_000_000_000;
        if last_used.is_none_or(|last| nanos(now).saturating_sub(last) >= minute) {
            connection.execute(
                "UPDATE credentials SET last_used = ?2 WHERE id = ?1",
                params![presented.id, nanos(now)],
            )?;
        }
        Ok(Some(presented))
    }

    /// A member's valid sessions, newest first; `current` marks the one that asks.
    ///
    /// # Errors
    /// When the database refuses.
    pub fn sessions(
        &self,
        member_id: i64,
        current: i64,
        now: Timestamp,
    ) -> Result<Vec<credential::Session>, StoreError> {
        let connection = self.connection.lock();
        let mut query = connection.prepare_cached(
            "SELECT c.id, m.name, c.created, c.expires, c.address FROM credentials c JOIN members m ON m.id = c.member
             WHERE c.member = ?1 AND c.kind = 'session' AND c.expires > ?2 ORDER BY c.created DESC",
        )?;
        let rows = query.query_map(params![member_id, nanos(now)], |r| {
            let id: i64 = r.get(0)?;
            Ok(credential::Session {
                id: id.unsigned_abs(),
                member: r.get(1)?,
                created: from_nanos(r.get(2)?),
                expires: from_nanos(r.get(3)?),
                address: r.get(4)?,
                current: id == current,
            })
        })?;
        Ok(rows.collect::<Result<_, _>>()?)
    }

    /// A member's valid tokens, newest first.
    ///
    /// # Errors
    /// When the database refuses.
    pub fn tokens(&self, member_id: i64, now: Timestamp) -> Result<Vec<credential::Token>, StoreError> {
        let connection = self.connection.lock();
        let mut query = connection.prepare_cached(
            "SELECT c.id, c.name, m.name, c.created, c.expires, c.last_used, c.bounds
             FROM credentials c JOIN members m ON m.id = c.member
             WHERE c.member = ?1 AND c.kind = 'token' AND (c.expires IS NULL OR c.expires > ?2) ORDER BY c.created DESC",
        )?;
        let rows = query.query_map(params![member_id, nanos(now)], |r| {
            Ok(credential::Token {
                id: r.get::<_, i64>(0)?.unsigned_abs(),
                name: r.get(1)?,
                member: r.get(2)?,
                created: from_nanos(r.get(3)?),
                expires: r.get::<_, Option<i64>>(4)?.map(from_nanos),
                last_used: r.get::<_, Option<i64>>(5)?.map(from_nanos),
                bounds: read(6, r.get(6)?)?,
            })
        })?;
        Ok(rows.collect::<Result<_, _>>()?)
    }

    /// Whether a member has a session or token that was opened from this address and is still valid.
    ///
    /// # Errors
    /// When the database refuses.
    pub fn has_credential_from(
        &self,
        member: &str,
        address: &str,
        now: Timestamp,
    ) -> Result<bool, StoreError> {
        let connection = self.connection.lock();
        let found = connection
            .query_row(
                "SELECT 1 FROM credentials c JOIN members m ON m.id = c.member
                 WHERE m.name = ?1 AND c.address = ?2 AND (c.expires IS NULL OR c.expires > ?3) LIMIT 1",
                (member, address, nanos(now)),
                |_| Ok(()),
            )
            .optional()?;
        Ok(found.is_some())
    }

    /// The name of a member's token.
    ///
    /// # Errors
    /// When the database refuses.
    pub fn token_name(&self, member_id: i64, id: i64) -> Result<Option<String>, StoreError> {
        let connection = self.connection.lock();
        let found = connection
            .query_row(
                "SELECT name FROM credentials WHERE id = ?1 AND member = ?2 AND kind = 'token'",
                params![id, member_id],
                |r| r.get(0),
            )
            .optional()?;
        Ok(found)
    }

    /// Ends a credential of a member; `false` when there is none of that number and kind.
    ///
    /// # Errors
    /// When the database refuses.
    pub fn revoke(&self, member_id: i64, id: i64, kind: Kind) -> Result<bool, StoreError> {
        let changed = self.connection.lock().execute(
            "DELETE FROM credentials WHERE id = ?1 AND member = ?2 AND kind = ?3",
            params![id, member_id, kind.word()],
        )?;
        Ok(changed == 1)
    }
}
