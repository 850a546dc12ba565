//! Invitations: links to become a member or to choose a new password. Each works once and for a while; only its hash
//! is stored.

use gubernum_core::rights::Grant;
use jiff::Timestamp;
use rusqlite::{Connection, OptionalExtension, Row, params};

use crate::members::{insert, put_grants};
use crate::{Store, StoreError, from_nanos, nanos};

/// The most links that wait to be used.
pub const MOST_INVITATIONS: i64 = 500;

/// A link that waits to be used.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Invitation {
    /// Its number.
    pub id: i64,
    /// The name of the member that there will be, or that there is.
    pub name: String,
    /// What the new member is granted.
    pub grants: Vec<Grant>,
    /// The member whose password it is for; none for a new member.
    pub member: Option<i64>,
    /// Who gave it.
    pub giver: String,
    /// When it was given.
    pub created: Timestamp,
    /// Until when it is good.
    pub expires: Timestamp,
}

/// A link to be kept.
#[derive(Debug, Clone)]
pub struct NewInvitation<'a> {
    /// The SHA-256 of its secret.
    pub hash: &'a [u8],
    /// The name of the member.
    pub name: &'a str,
    /// What a new member is granted.
    pub grants: &'a [Grant],
    /// The member whose password it is for.
    pub member: Option<i64>,
    /// Who gives it.
    pub giver: &'a str,
    /// Until when it is good.
    pub expires: Timestamp,
}

const SELECT: &str =
    "SELECT id, name, grants, member, giver, created, expires FROM invitations WHERE expires > ?1";

impl Store {
    /// Keeps a link and gives its number. Of one member or one name there is one link: an earlier one is good no more.
    ///
    /// # Errors
    /// [`StoreError::Taken`] when a member has that name, [`StoreError::Full`] at the limit.
    pub fn add_invitation(&self, new: &NewInvitation<'_>, now: Timestamp) -> Result<i64, StoreError> {
        let mut connection = self.connection.lock();
        let transaction = connection.transaction()?;
        transaction.execute(
            "DELETE FROM invitations WHERE expires <= ?1 OR name = ?2 COLLATE NOCASE",
            params![nanos(now), new.name],
        )?;
        let there: i64 = transaction.query_row(
            "SELECT count(*) FROM members WHERE name = ?1 AND id IS NOT ?2",
            params![new.name, new.member],
            |r| r.get(0),
        )?;
        if there > 0 {
            return Err(StoreError::Taken(format!("the name '{}'", new.name)));
        }
        let waiting: i64 = transaction.query_row("SELECT count(*) FROM invitations", [], |r| r.get(0))?;
        if waiting >= MOST_INVITATIONS {
            return Err(StoreError::full(MOST_INVITATIONS, "invitations"));
        }
        transaction.execute(
            "INSERT INTO invitations (hash, name, grants, member, giver, created, expires)
             VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7)",
            params![
                new.hash,
                new.name,
                serde_json::to_string(new.grants).unwrap_or_default(),
                new.member,
                new.giver,
                nanos(now),
                nanos(new.expires)
            ],
        )?;
        let id = transaction.last_insert_rowid();
        transaction.commit()?;
        Ok(id)
    }

    /// All links that wait to be used, the newest first.
    ///
    /// # Errors
    /// When the database fails.
    pub fn invitations(&self, now: Timestamp) -> Result<Vec<Invitation>, StoreError> {
        let connection = self.connection.lock();
        let mut query = connection.prepare_cached(&format!("{SELECT} ORDER BY id DESC"))?;
        let rows = query.query_map([nanos(now)], invitation)?;
        crate::readable("invitations", rows)
    }

    /// The link of a secret, if it is good.
    ///
    /// # Errors
    /// When the database fails.
    pub fn invitation(&self, hash: &[u8], now: Timestamp) -> Result<Option<Invitation>, StoreError> {
        find(&self.connection.lock(), hash, now)
    }

    /// Takes a link back; `false` when nothing has that number.
    ///
    /// # Errors
    /// When the database fails.
    pub fn withdraw_invitation(&self, id: i64) -> Result<bool, StoreError> {
        Ok(self.connection.lock().execute("DELETE FROM invitations WHERE id = ?1", [id])? == 1)
    }

    /// Uses a link: makes the member, or gives the member it is for another password and ends what it has open. Gives
    /// the name, and the numbers of the sessions and tokens that ended; `None` when the link is not good (any more).
    ///
    /// # Errors
    /// [`StoreError::Taken`] when somebody has the name meanwhile.
    pub fn accept_invitation(
        &self,
        hash: &[u8],
        password_hash: &str,
        now: Timestamp,
    ) -> Result<Option<(String, Vec<i64>)>, StoreError> {
        let mut connection = self.connection.lock();
        let transaction = connection.transaction()?;
        let Some(link) = find(&transaction, hash, now)? else { return Ok(None) };
        let mut ended = Vec::new();
        if let Some(member) = link.member {
            transaction.execute(
                "UPDATE members SET password_hash = ?2 WHERE id = ?1",
                params![member, password_hash],
            )?;
            let mut query = transaction
                .prepare("DELETE FROM credentials WHERE member = ?1 AND kind = 'session' RETURNING id")?;
            ended = query.query_map([member], |r| r.get(0))?.collect::<Result<_, _>>()?;
        } else {
            let id = insert(&transaction, &link.name, password_hash, now)?;
            put_grants(&transaction, id, &link.grants)?;
        }
        transaction.execute("DELETE FROM invitations WHERE id = ?1", [link.id])?;
        transaction.commit()?;
        Ok(Some((link.name, ended)))
    }
}

fn find(connection: &Connection, hash: &[u8], now: Timestamp) -> Result<Option<Invitation>, StoreError> {
    let query = format!("{SELECT} AND hash = ?2");
    Ok(connection.query_row(&query, params![nanos(now), hash], invitation).optional()?)
}

fn invitation(r: &Row<'_>) -> rusqlite::Result<Invitation> {
    let text: String = r.get(2)?;
    let grants: Vec<Grant> =
        serde_json::from_str(&text).map_err(|_| crate::odd_word(2, "list of grants", &text))?;
    Ok(Invitation {
        id: r.get(0)?,
        name: r.get(1)?,
        grants,
        member: r.get(3)?,
        giver: r.get(4)?,
        created: from_nanos(r.get(5)?),
        expires: from_nanos(r.get(6)?),
    })
}
