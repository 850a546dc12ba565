//! Git sources of stacks, with their sealed secrets, and the commit of each that waits for approval.

use std::collections::{BTreeMap, BTreeSet};

use gubernum_core::plan::request::ApplyRequest;
use gubernum_core::stack::source::GitPlace;
use jiff::Timestamp;
use rusqlite::{Connection, OptionalExtension, Row, params};
use serde::{Deserialize, Serialize};

use crate::{Seal, Store, StoreError, from_nanos, nanos};

/// What of a source is sealed.
#[derive(Clone, Serialize, Deserialize)]
pub struct SourceSettings {
    /// The place.
    pub place: GitPlace,
    /// The account for the token.
    pub account: Option<String>,
    /// A token for `https`.
    pub token: Option<String>,
    /// A private key for `ssh`.
    pub ssh_key: Option<String>,
    /// The keys of the SSH server.
    pub known_hosts: Option<String>,
    /// The secret with which pushes are signed.
    pub hook_secret: String,
    /// Values of variables.
    pub variables: BTreeMap<String, String>,
    /// The profiles that are wanted.
    pub profiles: BTreeSet<String>,
}

/// A commit that was fetched.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct FoundCommit {
    /// Its name.
    pub id: String,
    /// The first line of what its author said.
    pub subject: String,
    /// Who made it.
    pub author: String,
    /// When.
    pub time: Timestamp,
}

/// A source of a stack.
#[derive(Clone)]
pub struct SourceRecord {
    /// The host.
    pub host: String,
    /// The stack.
    pub stack: String,
    /// What its hook is called.
    pub hook: String,
    /// Its settings with their secrets.
    pub settings: SourceSettings,
    /// Seconds between two looks; 0 for none.
    pub poll_seconds: u32,
    /// A change is applied without approval.
    pub applies: bool,
    /// The commit that was fetched last.
    pub found: Option<FoundCommit>,
    /// Whether that one waits for approval.
    pub waits: bool,
    /// When it was looked last.
    pub checked: Option<Timestamp>,
    /// Why that failed.
    pub failed: Option<String>,
    /// The member whose rights it uses: who set it. Empty for one that was set before that was kept.
    pub member: String,
}

/// What a look at a repository came to.
pub enum CheckOutcome {
    /// It is as it was.
    Same,
    /// Another commit, with what it wants of the stack; nothing where the stack is up to date.
    Found(FoundCommit, Option<Box<ApplyRequest>>),
    /// It failed; why.
    Failed(String),
}

const COLUMNS: &str =
    "host, stack, hook, sealed, poll_seconds, applies, found, waiting IS NOT NULL, checked, failed, member";

pub(crate) fn purpose(host: &str, stack: &str) -> String {
    format!("source of {host}/{stack}")
}

pub(crate) fn waiting_purpose(host: &str, stack: &str) -> String {
    format!("waiting commit of {host}/{stack}")
}

/// A row whose seal is not opened yet.
struct Sealed {
    host: String,
    stack: String,
    hook: String,
    sealed: Vec<u8>,
    poll_seconds: u32,
    applies: bool,
    found: Option<String>,
    waits: bool,
    checked: Option<i64>,
    failed: Option<String>,
    member: String,
}

fn row(r: &Row<'_>) -> rusqlite::Result<Sealed> {
    Ok(Sealed {
        host: r.get(0)?,
        stack: r.get(1)?,
        hook: r.get(2)?,
        sealed: r.get(3)?,
        poll_seconds: r.get(4)?,
        applies: r.get(5)?,
        found: r.get(6)?,
        waits: r.get(7)?,
        checked: r.get(8)?,
        failed: r.get(9)?,
        member: r.get(10)?,
    })
}

/// The commit that waited is applied: it waits no more.
pub(crate) fn is_applied(
    connection: &Connection,
    host: &str,
    stack: &str,
    commit: &str,
) -> Result<(), StoreError> {
    connection.execute(
        "UPDATE stack_sources SET waiting = NULL
         WHERE host = ?1 AND stack = ?2 AND json_extract(found, '$.id') = ?3",
        [host, stack, commit],
    )?;
    Ok(())
}

/// A stack has moved: its source moves too. A commit that waited for approval is looked up again.
pub(crate) fn move_source(
    connection: &Connection,
    seal: &Seal,
    new: &SourceRecord,
    host: &str,
    stack: &str,
) -> Result<(), StoreError> {
    connection.execute("DELETE FROM stack_sources WHERE host = ?1 AND stack = ?2", [host, stack])?;
    insert_source(connection, seal, new)
}

fn insert_source(connection: &Connection, seal: &Seal, new: &SourceRecord) -> Result<(), StoreError> {
    let whole = serde_json::to_vec(&new.settings).map_err(|e| StoreError::Damaged(e.to_string()))?;
    let sealed = seal.seal(&purpose(&new.host, &new.stack), &whole)?;
    connection.execute(
        "INSERT OR REPLACE INTO stack_sources (host, stack, hook, sealed, poll_seconds, applies, member)
         VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7)",
        params![new.host, new.stack, new.hook, sealed, new.poll_seconds, new.applies, new.member],
    )?;
    Ok(())
}

impl Store {
    fn opened(&self, row: Sealed) -> Result<SourceRecord, StoreError> {
        let damaged = |e: serde_json::Error| StoreError::Damaged(e.to_string());
        let opened = self.seal.open_sealed(&purpose(&row.host, &row.stack), &row.sealed)?;
        Ok(SourceRecord {
            settings: serde_json::from_slice(&opened).map_err(damaged)?,
            found: row.found.map(|text| serde_json::from_str(&text)).transpose().map_err(damaged)?,
            host: row.host,
            stack: row.stack,
            hook: row.hook,
            poll_seconds: row.poll_seconds,
            applies: row.applies,
            waits: row.waits,
            checked: row.checked.map(from_nanos),
            failed: row.failed,
            member: row.member,
        })
    }

    fn one_source(&self, by: &str, with: &[&str]) -> Result<Option<SourceRecord>, StoreError> {
        let found = {
            let connection = self.connection.lock();
            let mut query =
                connection.prepare_cached(&format!("SELECT {COLUMNS} FROM stack_sources WHERE {by}"))?;
            query.query_row(rusqlite::params_from_iter(with), row).optional()?
        };
        found.map(|row| self.opened(row)).transpose()
    }

    /// All sources.
    ///
    /// # Errors
    /// When the database fails or a seal cannot be opened.
    pub fn sources(&self) -> Result<Vec<SourceRecord>, StoreError> {
        let rows: Vec<Sealed> = {
            let connection = self.connection.lock();
            let mut query = connection
                .prepare_cached(&format!("SELECT {COLUMNS} FROM stack_sources ORDER BY host, stack"))?;
            query.query_map([], row)?.collect::<Result<_, _>>()?
        };
        rows.into_iter().map(|row| self.opened(row)).collect()
    }

    /// The source of a stack.
    ///
    /// # Errors
    /// When the database fails or the seal cannot be opened.
    pub fn source(&self, host: &str, stack: &str) -> Result<Option<SourceRecord>, StoreError> {
        self.one_source("host = ?1 AND stack = ?2", &[host, stack])
    }

    /// The source whose hook is called so.
    ///
    /// # Errors
    /// When the database fails or the seal cannot be opened.
    pub fn source_of_hook(&self, hook: &str) -> Result<Option<SourceRecord>, StoreError> {
        self.one_source("hook = ?1", &[hook])
    }

    /// Sets a stack's source in place of what was set. What was found of another place is forgotten.
    ///
    /// # Errors
    /// When the database fails.
    pub fn set_source(&self, new: &SourceRecord) -> Result<(), StoreError> {
        insert_source(&self.connection.lock(), &self.seal, new)
    }

    /// Removes a stack's source; whether there was one.
    ///
    /// # Errors
    /// When the database fails.
    pub fn remove_source(&self, host: &str, stack: &str) -> Result<bool, StoreError> {
        let connection = self.connection.lock();
        Ok(connection.execute("DELETE FROM stack_sources WHERE host = ?1 AND stack = ?2", [host, stack])? > 0)
    }

    /// Writes down what a look came to.
    ///
    /// # Errors
    /// When the database fails.
    pub fn set_looked(
        &self,
        host: &str,
        stack: &str,
        looked: &CheckOutcome,
        now: Timestamp,
    ) -> Result<(), StoreError> {
        let damaged = |e: serde_json::Error| StoreError::Damaged(e.to_string());
        let checked = nanos(now);
        match looked {
            CheckOutcome::Same => {
                self.connection.lock().execute(
                    "UPDATE stack_sources SET checked = ?3, failed = NULL WHERE host = ?1 AND stack = ?2",
                    params![host, stack, checked],
                )?;
            }
            CheckOutcome::Failed(why) => {
                self.connection.lock().execute(
                    "UPDATE stack_sources SET checked = ?3, failed = ?4 WHERE host = ?1 AND stack = ?2",
                    params![host, stack, checked, why],
                )?;
            }
            CheckOutcome::Found(commit, request) => {
                let waiting = match request {
                    Some(request) => {
                        let whole = serde_json::to_vec(request).map_err(damaged)?;
                        Some(self.seal.seal(&waiting_purpose(host, stack), &whole)?)
                    }
                    None => None,
                };
                let found = serde_json::to_string(commit).map_err(damaged)?;
                self.connection.lock().execute(
                    "UPDATE stack_sources SET checked = ?3, failed = NULL, found = ?4, waiting = ?5
                     WHERE host = ?1 AND stack = ?2",
                    params![host, stack, checked, found, waiting],
                )?;
            }
        }
        Ok(())
    }

    /// What the commit that waits wants of its stack.
    ///
    /// # Errors
    /// When the database fails or the seal cannot be opened.
    pub fn waiting_commit(&self, host: &str, stack: &str) -> Result<Option<ApplyRequest>, StoreError> {
        let sealed: Option<Option<Vec<u8>>> = self
            .connection
            .lock()
            .query_row(
                "SELECT waiting FROM stack_sources WHERE host = ?1 AND stack = ?2",
                [host, stack],
                |r| r.get(0),
            )
            .optional()?;
        let Some(sealed) = sealed.flatten() else { return Ok(None) };
        let opened = self.seal.open_sealed(&waiting_purpose(host, stack), &sealed)?;
        serde_json::from_slice(&opened).map(Some).map_err(|e| StoreError::Damaged(e.to_string()))
    }
}
