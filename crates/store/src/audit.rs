//! The audit log: append-only, each entry chained to the one before by a hash.
//!
//! An entry's hash is SHA-256 over the hash before it (64 hex digits; all zeros for the first), the
//! time in nanoseconds and the five texts, each followed by a zero byte.

use gubernum_api::timeline::{EventKind, TimelineEvent};
use gubernum_api::views::AuditEntry;
use gubernum_core::plan::Kind;
use jiff::Timestamp;
use ring::digest::{Context, SHA256};
use rusqlite::{Connection, OptionalExtension, Row, params};

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
    /// What came of it.
    pub outcome: &'a str,
}

impl Store {
    /// Appends an entry.
    ///
    /// # Errors
    /// When the database refuses.
    pub fn audit(&self, entry: NewEntry<'_>, now: Timestamp) -> Result<(), StoreError> {
        let cut = |text: &str| gubernum_core::text::shown(text, LONGEST);
        let texts = [entry.member, entry.address, entry.action, entry.object, entry.outcome].map(cut);
        let mut connection = self.connection.lock();
        let transaction = connection.transaction()?;
        let before: Option<String> = transaction
            .query_row("SELECT hash FROM audit ORDER BY id DESC LIMIT 1", [], |r| r.get(0))
            .optional()?;
        let hash =
            chain(before.as_deref().unwrap_or(FIRST), nanos(now), texts.each_ref().map(String::as_str));
        let [member, address, action, object, outcome] = &texts;
        transaction.execute(
            "INSERT INTO audit (time, member, address, action, object, outcome, hash) VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7)",
            params![nanos(now), member, address, action, object, outcome, hash],
        )?;
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
            };
            events::insert(&transaction, &event)?;
        }
        transaction.commit()?;
        Ok(())
    }

    /// The newest entries with a number below `before`, newest first.
    ///
    /// # Errors
    /// When the database refuses.
    pub fn audit_entries(&self, before: Option<u64>, most: u32) -> Result<Vec<AuditEntry>, StoreError> {
        let connection = self.connection.lock();
        let before = before.map_or(i64::MAX, |b| i64::try_from(b).unwrap_or(i64::MAX));
        let mut query =
            connection.prepare_cached(&format!("{SELECT} WHERE id < ?1 ORDER BY id DESC LIMIT ?2"))?;
        let rows = query.query_map(params![before, most], entry)?;
        Ok(rows.collect::<Result<_, _>>()?)
    }

    /// Walks the whole chain; gives the number of the first entry that does not fit, if any.
    ///
    /// # Errors
    /// When the database refuses.
    pub fn verify_audit(&self) -> Result<Option<u64>, StoreError> {
        let connection = self.connection.lock();
        verify(&connection)
    }
}

const SELECT: &str = "SELECT id, time, member, address, action, object, outcome, hash FROM audit";

fn verify(connection: &Connection) -> Result<Option<u64>, StoreError> {
    let mut query = connection.prepare(&format!("{SELECT} ORDER BY id"))?;
    let mut before = FIRST.to_owned();
    for row in query.query_map([], entry)? {
        let e = row?;
        let hash = chain(
            &before,
            nanos(e.time),
            [&e.member, &e.address, &e.action, &e.object, &e.outcome].map(String::as_str),
        );
        if hash != e.hash {
            return Ok(Some(e.id));
        }
        before = hash;
    }
    Ok(None)
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
    })
}

fn chain(before: &str, time: i64, texts: [&str; 5]) -> String {
    let mut context = Context::new(&SHA256);
    context.update(before.as_bytes());
    context.update(time.to_string().as_bytes());
    context.update(&[0]);
    for text in texts {
        context.update(text.as_bytes());
        context.update(&[0]);
    }
    context.finish().as_ref().iter().map(|b| format!("{b:02x}")).collect()
}
