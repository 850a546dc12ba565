//! The audit log: append-only, each entry chained to the one before by a hash.
//!
//! An entry's hash is SHA-256 over the hash before it (64 hex digits; all zeros for the first), the
//! time in nanoseconds and the six texts, each followed by a zero byte; the sixth, by which session or token, only where it is not empty. The newest entry's number and hash are in
//! `audit_head` with an authentication code (HMAC-SHA256 under a key derived from `seal.key`): whoever rewrites the
//! chain or cuts its end off without that key is found.

use gubernum_core::audit::AuditEntry;
use gubernum_core::plan::Kind;
use gubernum_core::timeline::{EventKind, TimelineEvent};
use jiff::Timestamp;
use ring::digest::{Context, SHA256};
use rusqlite::types::Value;
use rusqlite::{Connection, OptionalExtension, Row, params, params_from_iter};

use crate::seal::Seal;
use crate::{Store, StoreError, events, from_nanos, nanos};

const FIRST: &str = "0000000000000000000000000000000000000000000000000000000000000000";

/// The longest text of an entry that is kept.
const LONGEST: usize = 1000;

/// An entry to be written.
#[derive(Debug, Clone, Copy)]
pub struct NewEntry<'a> {
    /// Who.
    pub member: &'a str,
    /// From which address.
    pub address: &'a str,
    /// What.
    pub action: &'a str,
    /// On what.
    pub object: &'a str,
    /// The outcome of it.
    pub outcome: &'a str,
    /// By which session or token, such as `session 12`; empty where there is none.
    pub via: &'a str,
}

/// Which entries are wanted.
#[derive(Debug, Clone, Default)]
pub struct AuditQuery {
    /// Only with a lower number than this.
    pub before: Option<u64>,
    /// Only with a higher number than this, oldest first.
    pub after: Option<u64>,
    /// Only from this time on.
    pub since: Option<Timestamp>,
    /// Only before this time.
    pub until: Option<Timestamp>,
    /// Only of this member, in whatever case.
    pub member: Option<String>,
    /// Only of this action.
    pub action: Option<String>,
    /// Only with this text in their object, outcome or address, in whatever case.
    pub text: Option<String>,
    /// The most entries.
    pub most: u32,
}

impl Store {
    /// Appends an entry.
    ///
    /// # Errors
    /// When the database fails.
    pub fn audit(&self, entry: NewEntry<'_>, now: Timestamp) -> Result<(), StoreError> {
        let cut = |text: &str| gubernum_core::text::shown(text, LONGEST);
        let texts =
            [entry.member, entry.address, entry.action, entry.object, entry.outcome, entry.via].map(cut);
        let mut connection = self.connection.lock();
        let transaction = connection.transaction()?;
        let before: Option<String> = transaction
            .query_row("SELECT hash FROM audit ORDER BY id DESC LIMIT 1", [], |r| r.get(0))
            .optional()?;
        let hash =
            chain(before.as_deref().unwrap_or(FIRST), nanos(now), texts.each_ref().map(String::as_str));
        let [member, address, action, object, outcome, via] = &texts;
        transaction.execute(
            "INSERT INTO audit (time, member, address, action, object, outcome, hash, via) VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8)",
            params![nanos(now), member, address, action, object, outcome, hash, via],
        )?;
        anchor(&transaction, &self.seal, transaction.last_insert_rowid(), &hash)?;
        // What an operation did is told target by target when it is done.
        if action.parse::<Kind>().is_err() {
            let host = matches!(action.as_str(), "add-host" | "remove-host" | "set-host" | "import-images");
            let (of_host, name) = object.split_once('/').unwrap_or(("", ""));
            let event = TimelineEvent {
                id: 0,
                time: now,
                kind: if host { EventKind::Host } else { EventKind::Access },
                host: if host { object.clone() } else { of_host.to_owned() },
                // What is said of something on a host is about a container, unless its name is a path's or an image's.
                object: match (host, of_host) {
                    (true, _) => "host",
                    (false, "") => "service",
                    (false, _) if action.ends_with("volume") => "volume",
                    (false, _) if action.ends_with("image") => "image",
                    (false, _) => "container",
                }
                .to_owned(),
                name: if host {
                    object.clone()
                } else {
                    name.split(' ').next().unwrap_or_default().to_owned()
                },
                action: action.clone(),
                member: Some(member.clone()),
                sentence: outcome.clone(),
                bad: outcome.contains("fail") || outcome.contains("refused") || outcome.contains("wrong"),
                operation: None,
                folded: 0,
            };
            events::insert(&transaction, &event)?;
        }
        transaction.commit()?;
        Ok(())
    }

    /// The entries that are wanted, newest first; oldest first when they are asked for after a number.
    ///
    /// # Errors
    /// When the database fails.
    pub fn audit_entries(&self, wish: &AuditQuery) -> Result<Vec<AuditEntry>, StoreError> {
        let mut query = format!("{SELECT} WHERE 1");
        let mut values: Vec<Value> = Vec::new();
        let mut limit = |text: &str, value: Value| {
            query.push_str(text);
            values.push(value);
        };
        let number = |n: u64| i64::try_from(n).unwrap_or(i64::MAX);
        if let Some(before) = wish.before {
            limit(" AND id < ?", number(before).into());
        }
        if let Some(after) = wish.after {
            limit(" AND id > ?", number(after).into());
        }
        if let Some(since) = wish.since {
            limit(" AND time >= ?", nanos(since).into());
        }
        if let Some(until) = wish.until {
            limit(" AND time < ?", nanos(until).into());
        }
        if let Some(member) = &wish.member {
            limit(" AND member = ? COLLATE NOCASE", member.clone().into());
        }
        if let Some(action) = &wish.action {
            limit(" AND action = ?", action.clone().into());
        }
        if let Some(text) = &wish.text {
            // `instr` takes the text as it is: nothing in it is a pattern.
            limit(
                " AND instr(lower(object || ' ' || outcome || ' ' || address || ' ' || via), ?) > 0",
                text.to_lowercase().into(),
            );
        }
        let order = if wish.after.is_some() { "ASC" } else { "DESC" };
        query.push_str(&format!(" ORDER BY id {order} LIMIT ?"));
        values.push(i64::from(wish.most).into());
        let connection = self.connection.lock();
        let mut query = connection.prepare_cached(&query)?;
        let rows = query.query_map(params_from_iter(values), entry)?;
        Ok(rows.collect::<Result<_, _>>()?)
    }

    /// Walks the whole chain, a piece at a time so that nobody waits long, and compares its end with the anchor.
    ///
    /// # Errors
    /// When the database fails.
    pub fn verify_audit(&self) -> Result<AuditVerdict, StoreError> {
        let mut walk = Walk::default();
        loop {
            let connection = self.connection.lock();
            if let Some(verdict) = walk.piece(&connection, &self.seal)? {
                return Ok(verdict);
            }
        }
    }
}

const SELECT: &str = "SELECT id, time, member, address, action, object, outcome, hash, via FROM audit";
/// What the anchor's code is bound to.
const ANCHOR: &str = "head of the audit log";
/// Entries that are looked at together.
const PIECE: u32 = 2000;

/// The outcome of looking through the audit log.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum AuditVerdict {
    /// Nothing was altered; the number of entries.
    Whole(u64),
    /// Something was altered.
    Altered {
        /// The first entry that does not fit, or the last that does when the end is missing.
        entry: u64,
        /// What does not fit, in one sentence.
        why: String,
    },
}

/// Where the walk through the chain stands.
struct Walk {
    last: i64,
    hash: String,
    count: u64,
}

impl Default for Walk {
    fn default() -> Self {
        Self { last: 0, hash: FIRST.to_owned(), count: 0 }
    }
}

impl Walk {
    /// Looks at the next entries; returns the verdict at the end or at the first that does not fit.
    fn piece(&mut self, connection: &Connection, seal: &Seal) -> Result<Option<AuditVerdict>, StoreError> {
        let mut query = connection.prepare_cached(&format!("{SELECT} WHERE id > ?1 ORDER BY id LIMIT ?2"))?;
        let mut any = false;
        for row in query.query_map(params![self.last, PIECE], entry)? {
            let e = row?;
            let texts = [&e.member, &e.address, &e.action, &e.object, &e.outcome, &e.via].map(String::as_str);
            let hash = chain(&self.hash, nanos(e.time), texts);
            if hash != e.hash {
                let why =
                    format!("Entry {} of the audit log was altered, or one before it was removed.", e.id);
                return Ok(Some(AuditVerdict::Altered { entry: e.id, why }));
            }
            (self.hash, self.last, any) = (hash, i64::try_from(e.id).unwrap_or(i64::MAX), true);
            self.count += 1;
        }
        if any {
            return Ok(None);
        }
        let entry = self.last.unsigned_abs();
        let altered = |why: String| Ok(Some(AuditVerdict::Altered { entry, why }));
        let head: Option<(i64, String, Vec<u8>)> = connection
            .query_row("SELECT entry, hash, code FROM audit_head", [], |r| {
                Ok((r.get(0)?, r.get(1)?, r.get(2)?))
            })
            .optional()?;
        match head {
            None if self.count == 0 => Ok(Some(AuditVerdict::Whole(0))),
            None => altered("The anchor of the audit log was removed.".to_owned()),
            Some((last, hash, code)) if !seal.is_anchor(ANCHOR, &anchored(last, &hash), &code) => {
                altered("The anchor of the audit log was altered.".to_owned())
            }
            Some((last, hash, _)) if last != self.last || hash != self.hash => {
                let why = format!(
                    "The audit log ends at entry {entry}; its anchor names entry {last}: entries were removed or rewritten."
                );
                altered(why)
            }
            Some(_) => Ok(Some(AuditVerdict::Whole(self.count))),
        }
    }
}

fn anchored(entry: i64, hash: &str) -> String {
    format!("{entry} {hash}")
}

/// Anchors the end of the chain.
fn anchor(connection: &Connection, seal: &Seal, entry: i64, hash: &str) -> Result<(), StoreError> {
    let code = seal.anchor(ANCHOR, &anchored(entry, hash));
    connection
        .prepare_cached("INSERT OR REPLACE INTO audit_head (one, entry, hash, code) VALUES (1, ?1, ?2, ?3)")?
        .execute(params![entry, hash, code])?;
    Ok(())
}

/// Anchors the log with the newest key, unless its anchor does not fit: what was altered must go on to show.
pub(crate) fn anchor_anew(connection: &Connection, seal: &Seal) -> Result<(), StoreError> {
    let head: Option<(i64, String, Vec<u8>)> = connection
        .query_row("SELECT entry, hash, code FROM audit_head", [], |r| Ok((r.get(0)?, r.get(1)?, r.get(2)?)))
        .optional()?;
    match head {
        Some((entry, hash, code)) if seal.is_anchor(ANCHOR, &anchored(entry, &hash), &code) => {
            anchor(connection, seal, entry, &hash)
        }
        _ => Ok(()),
    }
}

/// Anchors a log that was written before there were anchors.
pub(crate) fn anchor_as_it_is(connection: &Connection, seal: &Seal) -> Result<(), StoreError> {
    let end: Option<(i64, String)> = connection
        .query_row("SELECT id, hash FROM audit ORDER BY id DESC LIMIT 1", [], |r| Ok((r.get(0)?, r.get(1)?)))
        .optional()?;
    end.map_or(Ok(()), |(id, hash)| anchor(connection, seal, id, &hash))
}

fn entry(r: &Row<'_>) -> rusqlite::Result<AuditEntry> {
    Ok(AuditEntry {
        id: r.get::<_, i64>(0)?.unsigned_abs(),
        time: from_nanos(r.get(1)?),
        member: r.get(2)?,
        address: r.get(3)?,
        action: r.get(4)?,
        object: r.get(5)?,
        outcome: r.get(6)?,
        hash: r.get(7)?,
        via: r.get(8)?,
    })
}

fn chain(before: &str, time: i64, texts: [&str; 6]) -> String {
    let mut context = Context::new(&SHA256);
    context.update(before.as_bytes());
    context.update(time.to_string().as_bytes());
    context.update(&[0]);
    let [.., via] = texts;
    // Entries of before there was a sixth text have none.
    let written = if via.is_empty() { &texts[..5] } else { &texts[..] };
    for text in written {
        context.update(text.as_bytes());
        context.update(&[0]);
    }
    context.finish().as_ref().iter().map(|b| format!("{b:02x}")).collect()
}
