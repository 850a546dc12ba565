//! Members: who may sign in, and their grants. Roles that a team adds are in [`crate::roles`], invitations and
//! password resets in [`crate::invitations`].

use gubernum_core::directory::DirectoryKind;
use gubernum_core::rights::{ADMIN, Grant, Granted, Scope};
use jiff::Timestamp;
use rusqlite::{Connection, OptionalExtension, Row, params};

use crate::{Store, StoreError, directories, from_nanos, nanos};

/// The most members.
pub const MOST_MEMBERS: i64 = 1000;
/// The most grants of one member.
pub const MOST_GRANTS: usize = 100;

/// A member with the hash of the password.
#[derive(Debug, Clone)]
pub struct Member {
    /// Its number.
    pub id: i64,
    /// Its name as it was written first.
    pub name: String,
    /// Argon2id in PHC form; empty while no password was chosen.
    pub password_hash: String,
    /// Since when the member may not sign in any more.
    pub deactivated: Option<Timestamp>,
    /// The directory through which the member signs in; none for one with a password here.
    pub directory: Option<DirectoryKind>,
}

/// A member as others see it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct MemberRecord {
    /// Its number.
    pub id: i64,
    /// Its name.
    pub name: String,
    /// What it calls itself.
    pub display_name: String,
    /// When it came in.
    pub created: Timestamp,
    /// Since when it may not sign in any more.
    pub deactivated: Option<Timestamp>,
    /// When a session or token of its was last used.
    pub last_seen: Option<Timestamp>,
    /// Whether it has a second factor.
    pub second_factor: bool,
    /// What it is granted here.
    pub grants: Vec<Grant>,
    /// The directory through which it signs in; none for one with a password here.
    pub directory: Option<DirectoryKind>,
    /// The role that it works with until it steps up.
    pub works_as: Option<String>,
    /// What its groups in the directory grant it.
    pub directory_grants: Vec<Granted>,
}

impl MemberRecord {
    /// Everything that it is granted, wherever that comes from.
    pub fn all_grants(&self) -> Vec<Grant> {
        let more =
            self.directory_grants.iter().map(|g| Grant { role: g.role.clone(), scope: g.scope.clone() });
        self.grants.iter().cloned().chain(more).collect()
    }
}

/// The outcome of a change of a member.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum MemberChange {
    /// It was made.
    Done,
    /// There is no such member.
    Missing,
    /// Nobody could change members any more.
    LastAdmin,
}

const SELECT: &str = "SELECT m.id, m.name, m.display_name, m.created, m.deactivated,
    (SELECT max(c.last_used) FROM credentials c WHERE c.member = m.id), m.second_factor IS NOT NULL, m.directory, m.works_as FROM members m";

impl Store {
    /// Whether anybody may sign in yet.
    ///
    /// # Errors
    /// When the database fails.
    pub fn has_members(&self) -> Result<bool, StoreError> {
        let count: i64 =
            self.connection.lock().query_row("SELECT count(*) FROM members", [], |r| r.get(0))?;
        Ok(count > 0)
    }

    /// Adds the first member, an administrator. `false` when there is one already: of two who claim
    /// at once, one wins.
    ///
    /// # Errors
    /// When the database fails.
    pub fn claim(&self, name: &str, password_hash: &str, now: Timestamp) -> Result<bool, StoreError> {
        let mut connection = self.connection.lock();
        let transaction = connection.transaction()?;
        let changed = transaction.execute(
            "INSERT INTO members (name, password_hash, role, created)
             SELECT ?1, ?2, '', ?3 WHERE NOT EXISTS (SELECT 1 FROM members)",
            params![name, password_hash, nanos(now)],
        )?;
        if changed == 1 {
            let id = transaction.last_insert_rowid();
            put_grants(&transaction, id, &[Grant { role: ADMIN.to_owned(), scope: Scope::Fleet }])?;
        }
        transaction.commit()?;
        Ok(changed == 1)
    }

    /// Adds a further member and gives its number.
    ///
    /// # Errors
    /// [`StoreError::Taken`] when a member has that name, [`StoreError::Full`] at the limit.
    pub fn add_member(
        &self,
        name: &str,
        password_hash: &str,
        grants: &[Grant],
        now: Timestamp,
    ) -> Result<i64, StoreError> {
        let mut connection = self.connection.lock();
        let transaction = connection.transaction()?;
        let id = insert(&transaction, name, password_hash, now)?;
        put_grants(&transaction, id, grants)?;
        transaction.commit()?;
        Ok(id)
    }

    /// Finds a member by name, in whatever case.
    ///
    /// # Errors
    /// When the database fails.
    pub fn member(&self, name: &str) -> Result<Option<Member>, StoreError> {
        let connection = self.connection.lock();
        let found = connection
            .query_row(
                "SELECT id, name, password_hash, deactivated, directory FROM members WHERE name = ?1",
                [name],
                |r| {
                    Ok(Member {
                        id: r.get(0)?,
                        name: r.get(1)?,
                        password_hash: r.get(2)?,
                        deactivated: r.get::<_, Option<i64>>(3)?.map(from_nanos),
                        directory: directory(4, r.get(4)?)?,
                    })
                },
            )
            .optional()?;
        Ok(found)
    }

    /// All members by name.
    ///
    /// # Errors
    /// When the database fails.
    pub fn members(&self) -> Result<Vec<MemberRecord>, StoreError> {
        let connection = self.connection.lock();
        let mut query = connection.prepare_cached(&format!("{SELECT} ORDER BY m.name"))?;
        let rows = query.query_map([], record)?.collect::<Result<Vec<_>, _>>()?;
        rows.into_iter().map(|member| with_grants(&connection, member)).collect()
    }

    /// One member by its number.
    ///
    /// # Errors
    /// When the database fails.
    pub fn member_record(&self, id: i64) -> Result<Option<MemberRecord>, StoreError> {
        let connection = self.connection.lock();
        let found = connection.query_row(&format!("{SELECT} WHERE m.id = ?1"), [id], record).optional()?;
        found.map(|member| with_grants(&connection, member)).transpose()
    }

    /// What a member is granted here, without what groups of a directory give.
    ///
    /// # Errors
    /// When the database fails.
    pub fn grants_of(&self, member: i64) -> Result<Vec<Grant>, StoreError> {
        grants(&self.connection.lock(), member)
    }

    /// Gives a member these grants in place of those that it had.
    ///
    /// # Errors
    /// When the database fails.
    pub fn set_grants(&self, member: i64, grants: &[Grant]) -> Result<MemberChange, StoreError> {
        self.change(member, |transaction| put_grants(transaction, member, grants))
    }

    /// Gives a member another password.
    ///
    /// # Errors
    /// When the database fails.
    pub fn set_password(&self, member: i64, password_hash: &str) -> Result<bool, StoreError> {
        let query = "UPDATE members SET password_hash = ?2 WHERE id = ?1";
        Ok(self.connection.lock().execute(query, params![member, password_hash])? == 1)
    }

    /// Lets a member sign in no more, or again. What it has open ends.
    ///
    /// # Errors
    /// When the database fails.
    pub fn set_deactivated(&self, member: i64, since: Option<Timestamp>) -> Result<MemberChange, StoreError> {
        self.change(member, |transaction| {
            transaction.execute(
                "UPDATE members SET deactivated = ?2 WHERE id = ?1",
                params![member, since.map(nanos)],
            )?;
            if since.is_some() {
                transaction.execute("DELETE FROM credentials WHERE member = ?1", [member])?;
                transaction.execute("DELETE FROM invitations WHERE member = ?1", [member])?;
            }
            Ok(())
        })
    }

    /// Removes a member with its sessions and tokens. What it did stays in the audit log.
    ///
    /// # Errors
    /// When the database fails.
    pub fn remove_member(&self, member: i64) -> Result<MemberChange, StoreError> {
        self.change(member, |transaction| {
            transaction.execute("DELETE FROM members WHERE id = ?1", [member])?;
            Ok(())
        })
    }

    /// The numbers of all sessions and tokens of a member.
    ///
    /// # Errors
    /// When the database fails.
    pub fn credentials_of(&self, member: i64) -> Result<Vec<i64>, StoreError> {
        let connection = self.connection.lock();
        let mut query = connection.prepare_cached("SELECT id FROM credentials WHERE member = ?1")?;
        let rows = query.query_map([member], |r| r.get(0))?;
        Ok(rows.collect::<Result<_, _>>()?)
    }

    /// The numbers of all sessions and tokens of members who have a role.
    ///
    /// # Errors
    /// When the database fails.
    pub fn credentials_with_role(&self, role: &str) -> Result<Vec<i64>, StoreError> {
        let connection = self.connection.lock();
        let mut query = connection.prepare_cached(
            "SELECT c.id FROM credentials c WHERE c.member IN
             (SELECT g.member FROM grants g WHERE g.role = ?1 UNION SELECT d.member FROM directory_grants d WHERE d.role = ?1)",
        )?;
        let rows = query.query_map([role], |r| r.get(0))?;
        Ok(rows.collect::<Result<_, _>>()?)
    }

    /// Ends all sessions of a member but one; returns the numbers of those that ended.
    ///
    /// # Errors
    /// When the database fails.
    pub fn end_sessions(&self, member: i64, but: Option<i64>) -> Result<Vec<i64>, StoreError> {
        let connection = self.connection.lock();
        let mut query = connection.prepare_cached(
            "DELETE FROM credentials WHERE member = ?1 AND kind = 'session' AND id IS NOT ?2 RETURNING id",
        )?;
        let rows = query.query_map(params![member, but], |r| r.get(0))?;
        Ok(rows.collect::<Result<_, _>>()?)
    }

    /// Makes a change of a member, unless nobody could change members after it.
    fn change(
        &self,
        member: i64,
        change: impl FnOnce(&Connection) -> Result<(), StoreError>,
    ) -> Result<MemberChange, StoreError> {
        let mut connection = self.connection.lock();
        let transaction = connection.transaction()?;
        let there: i64 =
            transaction.query_row("SELECT count(*) FROM members WHERE id = ?1", [member], |r| r.get(0))?;
        if there == 0 {
            return Ok(MemberChange::Missing);
        }
        change(&transaction)?;
        let admins: i64 = transaction.query_row(
            "SELECT count(*) FROM members m JOIN grants g ON g.member = m.id
             WHERE g.role = ?1 AND g.scope = 'fleet' AND m.deactivated IS NULL AND m.directory IS NULL",
            [ADMIN],
            |r| r.get(0),
        )?;
        if admins == 0 {
            return Ok(MemberChange::LastAdmin);
        }
        transaction.commit()?;
        Ok(MemberChange::Done)
    }
}

pub(crate) fn insert(
    connection: &Connection,
    name: &str,
    password_hash: &str,
    now: Timestamp,
) -> Result<i64, StoreError> {
    let count: i64 = connection.query_row("SELECT count(*) FROM members", [], |r| r.get(0))?;
    if count >= MOST_MEMBERS {
        return Err(StoreError::full(MOST_MEMBERS, "members"));
    }
    let result = connection.execute(
        "INSERT INTO members (name, password_hash, role, created) VALUES (?1, ?2, '', ?3)",
        params![name, password_hash, nanos(now)],
    );
    match result {
        Err(e) if is_taken(&e) => Err(StoreError::Taken(format!("the name '{name}'"))),
        other => other.map(|_| connection.last_insert_rowid()).map_err(Into::into),
    }
}

pub(crate) fn put_grants(connection: &Connection, member: i64, grants: &[Grant]) -> Result<(), StoreError> {
    connection.execute("DELETE FROM grants WHERE member = ?1", [member])?;
    let mut query = connection
        .prepare_cached("INSERT OR IGNORE INTO grants (member, role, scope) VALUES (?1, ?2, ?3)")?;
    for grant in grants {
        query.execute(params![member, grant.role, grant.scope.to_string()])?;
    }
    Ok(())
}

pub(crate) fn grants(connection: &Connection, member: i64) -> Result<Vec<Grant>, StoreError> {
    let mut query =
        connection.prepare_cached("SELECT role, scope FROM grants WHERE member = ?1 ORDER BY role, scope")?;
    let rows = query.query_map([member], |r| {
        let text: String = r.get(1)?;
        let scope = text.parse().map_err(|_| crate::odd_word(1, "scope", &text))?;
        Ok(Grant { role: r.get(0)?, scope })
    })?;
    // A grant that cannot be read grants nothing.
    crate::readable("grants", rows)
}

/// Everything that a member is granted, here and by groups of a directory.
pub(crate) fn all_grants(connection: &Connection, member: i64) -> Result<Vec<Grant>, StoreError> {
    let mut all = grants(connection, member)?;
    for given in directories::grants(connection, member)? {
        all.push(Grant { role: given.role, scope: given.scope });
    }
    Ok(all)
}

/// The kind of a directory, as it is kept.
pub(crate) fn directory(column: usize, word: Option<String>) -> rusqlite::Result<Option<DirectoryKind>> {
    word.map(|word| word.parse().map_err(|_| crate::odd_word(column, "kind of directory", &word))).transpose()
}

fn record(r: &Row<'_>) -> rusqlite::Result<MemberRecord> {
    Ok(MemberRecord {
        id: r.get(0)?,
        name: r.get(1)?,
        display_name: r.get(2)?,
        created: from_nanos(r.get(3)?),
        deactivated: r.get::<_, Option<i64>>(4)?.map(from_nanos),
        last_seen: r.get::<_, Option<i64>>(5)?.map(from_nanos),
        second_factor: r.get(6)?,
        grants: Vec::new(),
        directory: directory(7, r.get(7)?)?,
        works_as: r.get(8)?,
        directory_grants: Vec::new(),
    })
}

fn with_grants(connection: &Connection, mut member: MemberRecord) -> Result<MemberRecord, StoreError> {
    member.grants = grants(connection, member.id)?;
    member.directory_grants = directories::grants(connection, member.id)?;
    Ok(member)
}

pub(crate) fn is_taken(error: &rusqlite::Error) -> bool {
    matches!(error.sqlite_error_code(), Some(rusqlite::ErrorCode::ConstraintViolation))
}
