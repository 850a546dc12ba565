//! Sessions and API tokens. Only their hashes are kept.

use gubernum_core::credential;
use gubernum_core::directory::DirectoryKind;
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
    /// What a token is for; empty for a session.
    pub name: String,
    /// When it ends by itself.
    pub expires: Option<Timestamp>,
    /// Whether the member has a second factor.
    pub second_factor: bool,
    /// What the member is granted.
    pub grants: Vec<Grant>,
    /// What it is cut down to, where it is not as good as its member.
    pub bounds: Option<Vec<Bound>>,
    /// The networks that it is good from; from anywhere when empty.
    pub networks: Vec<String>,
    /// The directory that the member comes from, and when its groups were last asked for there.
    pub directory: Option<(DirectoryKind, Timestamp)>,
    /// The role that the member works with until it steps up.
    pub works_as: Option<String>,
    /// Until when a session has stepped up.
    pub stepped_until: Option<Timestamp>,
    /// The role through which a session looks at everything for now.
    pub view_as: Option<String>,
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
    /// Where it was requested from.
    pub address: &'a str,
    /// When it ends.
    pub expires: Option<Timestamp>,
    /// What it is cut down to; as good as its member when absent.
    pub bounds: Option<&'a [Bound]>,
    /// The networks that it is good from; from anywhere when empty.
    pub networks: &'a [String],
    /// The session at the provider of OpenID Connect that it came from.
    pub provider: Option<ProviderSession<'a>>,
}

/// A session at a provider of OpenID Connect.
#[derive(Debug, Clone, Copy)]
pub struct ProviderSession<'a> {
    /// Its id there, when the provider tells it.
    pub id: Option<&'a str>,
    /// The identity token, which the provider wants to see when the member signs out.
    pub id_token: &'a str,
}

/// What identity tokens are sealed for.
pub(crate) const ID_TOKEN: &str = "identity token of a session";

/// Bounds that cannot be read make the credential unusable, never unbounded.
fn read(column: usize, text: Option<String>) -> rusqlite::Result<Option<Vec<Bound>>> {
    let read = |text: String| serde_json::from_str(&text).map_err(|_| odd_word(column, "bounds", &text));
    text.map(read).transpose()
}

/// Networks that cannot be read make the credential unusable, never good from anywhere.
fn read_networks(column: usize, text: &str) -> rusqlite::Result<Vec<String>> {
    serde_json::from_str(text).map_err(|_| odd_word(column, "networks", text))
}

/// How many sessions, or tokens, one member may have; the oldest session makes room.
pub const MOST_PER_MEMBER: i64 = 100;

impl Store {
    /// Keeps a credential and gives its number.
    ///
    /// # Errors
    /// When the database fails, or the member has too many tokens.
    pub fn add_credential(&self, new: &NewCredential<'_>, now: Timestamp) -> Result<i64, StoreError> {
        let sealed = new.provider.map(|p| self.seal.seal(ID_TOKEN, p.id_token.as_bytes())).transpose()?;
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
                return Err(StoreError::full(MOST_PER_MEMBER, "tokens"));
            }
            transaction.execute(
                "DELETE FROM credentials WHERE id = (SELECT id FROM credentials WHERE member = ?1 AND kind = 'session'
                 ORDER BY created LIMIT 1)",
                [new.member_id],
            )?;
        }
        transaction.execute(
            "INSERT INTO credentials (kind, hash, member, name, address, created, expires, bounds, networks,
                provider_session, sealed_id_token)
             VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10, ?11)",
            params![
                new.kind.word(),
                new.hash,
                new.member_id,
                new.name,
                new.address,
                nanos(now),
                new.expires.map(nanos),
                new.bounds.map(|bounds| serde_json::to_string(bounds).unwrap_or_default()),
                serde_json::to_string(new.networks).unwrap_or_default(),
                new.provider.and_then(|p| p.id),
                sealed,
            ],
        )?;
        let id = transaction.last_insert_rowid();
        transaction.commit()?;
        Ok(id)
    }

    /// Finds a valid credential by the hash of its text and notes its use, at most once a minute.
    ///
    /// # Errors
    /// When the database fails.
    pub fn present(&self, hash: &[u8], now: Timestamp) -> Result<Option<Presented>, StoreError> {
        let connection = self.connection.lock();
        let found = connection
            .query_row(
                "SELECT c.id, c.kind, c.member, m.name, c.last_used, c.expires, c.bounds, m.second_factor IS NOT NULL,
                    c.networks, m.directory, m.checked, c.name, m.works_as, c.stepped_until, c.view_as
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
                        name: r.get(11)?,
                        expires,
                        second_factor: r.get(7)?,
                        grants: Vec::new(),
                        bounds,
                        networks: read_networks(8, &r.get::<_, String>(8)?)?,
                        directory: members::directory(9, r.get(9)?)?
                            .map(|kind| Ok::<_, rusqlite::Error>((kind, from_nanos(r.get(10)?))))
                            .transpose()?,
                        works_as: r.get(12)?,
                        stepped_until: Some(r.get::<_, i64>(13)?).filter(|t| *t > 0).map(from_nanos),
                        view_as: r.get(14)?,
                    };
                    Ok((presented, r.get::<_, Option<i64>>(4)?))
                },
            )
            .optional()?;
        let Some((mut presented, last_used)) = found else { return Ok(None) };
        presented.grants = members::all_grants(&connection, presented.member_id)?;
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
    /// When the database fails.
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
    /// When the database fails.
    pub fn tokens(&self, member_id: i64, now: Timestamp) -> Result<Vec<credential::Token>, StoreError> {
        let connection = self.connection.lock();
        let mut query = connection.prepare_cached(
            "SELECT c.id, c.name, m.name, c.created, c.expires, c.last_used, c.bounds, c.networks
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
                networks: read_networks(7, &r.get::<_, String>(7)?)?,
            })
        })?;
        Ok(rows.collect::<Result<_, _>>()?)
    }

    /// The identity token with which a session was opened at a provider of OpenID Connect.
    ///
    /// # Errors
    /// When the database fails or the seal cannot be opened.
    pub fn id_token(&self, credential: i64) -> Result<Option<String>, StoreError> {
        let sealed: Option<Option<Vec<u8>>> = self
            .connection
            .lock()
            .query_row("SELECT sealed_id_token FROM credentials WHERE id = ?1", [credential], |r| r.get(0))
            .optional()?;
        let Some(sealed) = sealed.flatten() else { return Ok(None) };
        let opened = self.seal.open_sealed(ID_TOKEN, &sealed)?;
        Ok(String::from_utf8(opened).ok())
    }

    /// Ends the sessions that came from a session at the provider, or all of a member's when no session is named. Gives
    /// the numbers of those that ended.
    ///
    /// # Errors
    /// When the database fails.
    pub fn end_provider_sessions(
        &self,
        subject: Option<&str>,
        session: Option<&str>,
    ) -> Result<Vec<i64>, StoreError> {
        let connection = self.connection.lock();
        let mut query = connection.prepare_cached(
            "DELETE FROM credentials WHERE kind = 'session' AND sealed_id_token IS NOT NULL
             AND (?1 IS NOT NULL OR ?2 IS NOT NULL) AND (?2 IS NULL OR provider_session = ?2)
             AND (?1 IS NULL OR member IN (SELECT id FROM members WHERE directory = 'openid' AND subject = ?1))
             RETURNING id",
        )?;
        let rows = query.query_map(params![subject, session], |r| r.get(0))?;
        Ok(rows.collect::<Result<_, _>>()?)
    }

    /// Whether a member has a session or token that was opened from this address and is still valid.
    ///
    /// # Errors
    /// When the database fails.
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
    /// When the database fails.
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

    /// Until when a session has stepped up; not at all with `None`.
    ///
    /// # Errors
    /// When the database fails.
    pub fn set_stepped(&self, session: i64, until: Option<Timestamp>) -> Result<(), StoreError> {
        self.connection.lock().execute(
            "UPDATE credentials SET stepped_until = ?2 WHERE id = ?1 AND kind = 'session'",
            params![session, until.map_or(0, nanos)],
        )?;
        Ok(())
    }

    /// The role through which a session looks at everything for now; its member's own rights with `None`.
    ///
    /// # Errors
    /// When the database fails.
    pub fn set_view_as(&self, session: i64, role: Option<&str>) -> Result<(), StoreError> {
        self.connection.lock().execute(
            "UPDATE credentials SET view_as = ?2 WHERE id = ?1 AND kind = 'session'",
            params![session, role],
        )?;
        Ok(())
    }

    /// Ends a credential of a member; `false` when nothing has that number and kind.
    ///
    /// # Errors
    /// When the database fails.
    pub fn revoke(&self, member_id: i64, id: i64, kind: Kind) -> Result<bool, StoreError> {
        let changed = self.connection.lock().execute(
            "DELETE FROM credentials WHERE id = ?1 AND member = ?2 AND kind = ?3",
            params![id, member_id, kind.word()],
        )?;
        Ok(changed == 1)
    }
}
