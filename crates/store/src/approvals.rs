//! Changes that wait for a second member's approval. The service decides which need one; this keeps requests and
//! decisions.

use jiff::Timestamp;
use rusqlite::{OptionalExtension, Row, params};

use crate::{Store, StoreError, from_nanos, nanos};

/// The most that one member may have waiting.
pub const MOST_WAITING: i64 = 50;
/// The most that are kept; the oldest that are over make room.
const MOST_KEPT: i64 = 2000;

/// A change that was requested.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ApprovalRecord {
    /// Its number.
    pub id: u64,
    /// Who asked.
    pub member: String,
    /// What makes it dangerous, as a word.
    pub danger: String,
    /// On what.
    pub object: String,
    /// Exactly what would be done.
    pub detail: String,
    /// When it was requested.
    pub created: Timestamp,
    /// Until when it can be decided and used.
    pub expires: Timestamp,
    /// When it was decided.
    pub decided: Option<Timestamp>,
    /// By whom.
    pub decided_by: String,
    /// How.
    pub approved: bool,
    /// When it was used.
    pub used: Option<Timestamp>,
}

/// A change to be asked for.
#[derive(Debug, Clone, Copy)]
pub struct NewApproval<'a> {
    /// Who asks.
    pub member: &'a str,
    /// What makes it dangerous.
    pub danger: &'a str,
    /// On what.
    pub object: &'a str,
    /// Exactly what would be done, for whoever decides.
    pub detail: &'a str,
    /// Stands for the change with everything in it: another change is another one.
    pub hash: &'a [u8],
    /// Until when it can be decided and used.
    pub expires: Timestamp,
}

/// What became of asking.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Asked {
    /// It waits from now on.
    New(u64),
    /// It is approved, and used with this.
    Approved(u64),
    /// It waits already.
    Waits(u64),
    /// It was refused.
    Refused(u64),
}

const COLUMNS: &str =
    "id, member, danger, object, detail, created, expires, decided, decided_by, approved, used";

fn record(r: &Row<'_>) -> rusqlite::Result<ApprovalRecord> {
    Ok(ApprovalRecord {
        id: r.get::<_, i64>(0)?.unsigned_abs(),
        member: r.get(1)?,
        danger: r.get(2)?,
        object: r.get(3)?,
        detail: r.get(4)?,
        created: from_nanos(r.get(5)?),
        expires: from_nanos(r.get(6)?),
        decided: r.get::<_, Option<i64>>(7)?.map(from_nanos),
        decided_by: r.get(8)?,
        approved: r.get(9)?,
        used: r.get::<_, Option<i64>>(10)?.map(from_nanos),
    })
}

impl Store {
    /// Uses the approval of exactly this change, or says that it waits; asks for one where nobody has yet.
    ///
    /// # Errors
    /// [`StoreError::Full`] when too much of the member's waits already.
    pub fn ask_approval(&self, new: &NewApproval<'_>, now: Timestamp) -> Result<Asked, StoreError> {
        let mut connection = self.connection.lock();
        let transaction = connection.transaction()?;
        let found: Option<(i64, Option<i64>, bool)> = transaction
            .query_row(
                "SELECT id, decided, approved FROM approvals
                 WHERE member = ?1 AND hash = ?2 AND expires > ?3 AND used IS NULL ORDER BY id DESC LIMIT 1",
                params![new.member, new.hash, nanos(now)],
                |r| Ok((r.get(0)?, r.get(1)?, r.get(2)?)),
            )
            .optional()?;
        let asked = match found {
            Some((id, None, _)) => Asked::Waits(id.unsigned_abs()),
            Some((id, Some(_), approved)) => {
                transaction
                    .execute("UPDATE approvals SET used = ?2 WHERE id = ?1", params![id, nanos(now)])?;
                if approved { Asked::Approved(id.unsigned_abs()) } else { Asked::Refused(id.unsigned_abs()) }
            }
            None => {
                let waiting: i64 = transaction.query_row(
                    "SELECT count(*) FROM approvals WHERE member = ?1 AND decided IS NULL AND expires > ?2",
                    params![new.member, nanos(now)],
                    |r| r.get(0),
                )?;
                if waiting >= MOST_WAITING {
                    return Err(StoreError::full(MOST_WAITING, "changes waiting for approval"));
                }
                transaction.execute(
                    "INSERT INTO approvals (member, danger, object, detail, hash, created, expires)
                     VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7)",
                    params![
                        new.member,
                        new.danger,
                        new.object,
                        new.detail,
                        new.hash,
                        nanos(now),
                        nanos(new.expires)
                    ],
                )?;
                let id = transaction.last_insert_rowid();
                transaction.execute(
                    "DELETE FROM approvals WHERE id <= ?1 - ?2 AND (decided IS NOT NULL OR expires <= ?3)",
                    params![id, MOST_KEPT, nanos(now)],
                )?;
                Asked::New(id.unsigned_abs())
            }
        };
        transaction.commit()?;
        Ok(asked)
    }

    /// Gives an approval back that was used for a change that did not begin.
    ///
    /// # Errors
    /// When the database fails.
    pub fn give_approval_back(&self, id: u64) -> Result<(), StoreError> {
        let id = i64::try_from(id).unwrap_or(i64::MAX);
        self.connection.lock().execute("UPDATE approvals SET used = NULL WHERE id = ?1", [id])?;
        Ok(())
    }

    /// Those that wait, and those that were decided lately; the newest first.
    ///
    /// # Errors
    /// When the database fails.
    pub fn approvals(&self, now: Timestamp, since: Timestamp) -> Result<Vec<ApprovalRecord>, StoreError> {
        let connection = self.connection.lock();
        let mut query = connection.prepare_cached(&format!(
            "SELECT {COLUMNS} FROM approvals WHERE (decided IS NULL AND expires > ?1) OR decided > ?2
             ORDER BY decided IS NOT NULL, id DESC LIMIT 500"
        ))?;
        let rows = query.query_map([nanos(now), nanos(since)], record)?;
        Ok(rows.collect::<Result<_, _>>()?)
    }

    /// One that still waits.
    ///
    /// # Errors
    /// When the database fails.
    pub fn waiting_approval(&self, id: u64, now: Timestamp) -> Result<Option<ApprovalRecord>, StoreError> {
        let connection = self.connection.lock();
        let id = i64::try_from(id).unwrap_or(i64::MAX);
        let query =
            format!("SELECT {COLUMNS} FROM approvals WHERE id = ?1 AND decided IS NULL AND expires > ?2");
        Ok(connection.query_row(&query, params![id, nanos(now)], record).optional()?)
    }

    /// Decides; `false` when it does not wait any more, or is the member's own.
    ///
    /// # Errors
    /// When the database fails.
    pub fn decide_approval(
        &self,
        id: u64,
        member: &str,
        approved: bool,
        now: Timestamp,
    ) -> Result<bool, StoreError> {
        let id = i64::try_from(id).unwrap_or(i64::MAX);
        let changed = self.connection.lock().execute(
            "UPDATE approvals SET decided = ?2, decided_by = ?3, approved = ?4
             WHERE id = ?1 AND decided IS NULL AND expires > ?2 AND member <> ?3",
            params![id, nanos(now), member, approved],
        )?;
        Ok(changed == 1)
    }

    /// Takes one's own back; `false` when it does not wait any more.
    ///
    /// # Errors
    /// When the database fails.
    pub fn withdraw_approval(&self, id: u64, member: &str) -> Result<bool, StoreError> {
        let id = i64::try_from(id).unwrap_or(i64::MAX);
        let changed = self.connection.lock().execute(
            "DELETE FROM approvals WHERE id = ?1 AND member = ?2 AND decided IS NULL",
            params![id, member],
        )?;
        Ok(changed == 1)
    }
}
