//! The timeline's events.

use gubernum_core::timeline::{EventKind, TimelineEvent, event_word};
use jiff::Timestamp;
use rusqlite::types::Value;
use rusqlite::{Connection, Row, params, params_from_iter};

use crate::{Store, StoreError, from_nanos, nanos, odd_word, readable};

/// Which events are wanted.
#[derive(Debug, Clone, Default)]
pub struct EventQuery {
    /// Only from this time on.
    pub since: Option<Timestamp>,
    /// Only before this time.
    pub until: Option<Timestamp>,
    /// Only with a lower number than this, at `until` or before: the last one of the page before.
    pub before: Option<(Timestamp, u64)>,
    /// Only of these kinds; all when empty.
    pub kinds: Vec<EventKind>,
    /// Only of this host.
    pub host: Option<String>,
    /// Only of objects of this name.
    pub name: Option<String>,
    /// Only of objects of one of these names; of any when absent.
    pub names: Option<Vec<String>>,
    /// Only of this member.
    pub member: Option<String>,
    /// Only what belongs to this operation, its engine's events too. Otherwise those are folded under their operations.
    pub operation: Option<u64>,
    /// Only of these hosts, or of these objects as `host/name`; of everything when absent.
    pub seen: Option<(Vec<String>, Vec<String>)>,
    /// Only what went wrong.
    pub bad: bool,
    /// The most events.
    pub most: u32,
}

pub(crate) fn insert(connection: &Connection, e: &TimelineEvent) -> Result<(), StoreError> {
    connection
        .prepare_cached(
            "INSERT INTO events (time, kind, host, object, name, action, member, sentence, bad, operation)
             VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10)",
        )?
        .execute(params![
            nanos(e.time),
            e.kind.word(),
            e.host,
            e.object,
            e.name,
            e.action,
            e.member.as_deref().unwrap_or_default(),
            e.sentence,
            e.bad,
            e.operation.and_then(|o| i64::try_from(o).ok()),
        ])?;
    Ok(())
}

impl Store {
    /// Puts events on the timeline.
    ///
    /// # Errors
    /// When the database fails; then none is there.
    pub fn add_events(&self, events: &[TimelineEvent]) -> Result<(), StoreError> {
        let mut connection = self.connection.lock();
        let transaction = connection.transaction()?;
        for event in events {
            insert(&transaction, event)?;
        }
        transaction.commit()?;
        Ok(())
    }

    /// The newest events that are wanted, newest first.
    ///
    /// # Errors
    /// When the database fails.
    pub fn events(&self, wish: &EventQuery) -> Result<Vec<TimelineEvent>, StoreError> {
        let mut query = String::from(
            "SELECT id, time, kind, host, object, name, action, member, sentence, bad, operation,
                CASE WHEN kind = 'operation' THEN (SELECT count(*) FROM events f WHERE f.operation = e.operation
                    AND f.kind = 'engine' AND f.host = e.host) ELSE 0 END
             FROM events e WHERE 1",
        );
        let mut values: Vec<Value> = Vec::new();
        let mut limit = |text: &str, value: Value| {
            query.push_str(text);
            values.push(value);
        };
        if let Some(since) = wish.since {
            limit(" AND time >= ?", nanos(since).into());
        }
        if let Some(until) = wish.until {
            limit(" AND time < ?", nanos(until).into());
        }
        if let Some((time, id)) = wish.before {
            limit(" AND (time, id) < (?", nanos(time).into());
            limit(", ?)", i64::try_from(id).unwrap_or(i64::MAX).into());
        }
        if let Some(host) = &wish.host {
            limit(" AND host = ?", host.clone().into());
        }
        if let Some(names) = &wish.names {
            let names = serde_json::to_string(names).map_err(|e| StoreError::Damaged(e.to_string()))?;
            limit(" AND name IN (SELECT value FROM json_each(?))", names.into());
        }
        if let Some(name) = &wish.name {
            limit(" AND name = ?", name.clone().into());
        }
        if let Some(member) = &wish.member {
            limit(" AND member = ?", member.clone().into());
        }
        match wish.operation.map(|o| i64::try_from(o).unwrap_or(i64::MAX)) {
            Some(operation) => limit(" AND operation = ?", operation.into()),
            None => limit(" AND NOT (kind = ? AND operation IS NOT NULL)", "engine".to_owned().into()),
        }
        if let Some((hosts, objects)) = &wish.seen {
            let json =
                |all: &[String]| serde_json::to_string(all).map_err(|e| StoreError::Damaged(e.to_string()));
            limit(" AND (host IN (SELECT value FROM json_each(?))", json(hosts)?.into());
            limit(" OR host || '/' || name IN (SELECT value FROM json_each(?)))", json(objects)?.into());
        }
        for (n, kind) in wish.kinds.iter().enumerate() {
            limit(if n == 0 { " AND kind IN (?" } else { ", ?" }, kind.word().to_owned().into());
        }
        if !wish.kinds.is_empty() {
            query.push(')');
        }
        if wish.bad {
            query.push_str(" AND bad");
        }
        query.push_str(" ORDER BY time DESC, id DESC LIMIT ?");
        values.push(i64::from(wish.most).into());
        let connection = self.connection.lock();
        let mut query = connection.prepare_cached(&query)?;
        let rows = query.query_map(params_from_iter(values), event)?;
        readable("events", rows)
    }

    /// Ends of these containers since a time, as host and name, were asked for: they are nothing that went wrong.
    ///
    /// # Errors
    /// When the database fails.
    pub fn excuse_ends(&self, ends: &[(String, String)], since: Timestamp) -> Result<(), StoreError> {
        let connection = self.connection.lock();
        let mut update = connection.prepare_cached(
            "UPDATE events SET bad = 0 WHERE host = ?1 AND name = ?2 AND time >= ?3 AND kind = 'engine' AND action = 'die'",
        )?;
        for (host, name) in ends {
            update.execute(params![host, name, nanos(since)])?;
        }
        Ok(())
    }

    /// Lets go of events before a time.
    ///
    /// # Errors
    /// When the database fails.
    pub fn forget_events(&self, before: Timestamp) -> Result<usize, StoreError> {
        let mut all = 0;
        loop {
            // In pieces, so that nobody waits long.
            let gone = self.connection.lock().execute(
                "DELETE FROM events WHERE id IN (SELECT id FROM events WHERE time < ?1 LIMIT 2000)",
                [nanos(before)],
            )?;
            all += gone;
            if gone < 2000 {
                return Ok(all);
            }
        }
    }
}

fn event(r: &Row<'_>) -> rusqlite::Result<TimelineEvent> {
    let kind: String = r.get(2)?;
    let member: String = r.get(7)?;
    let kind = kind.parse::<EventKind>().map_err(|_| odd_word(2, "event kind", &kind))?;
    let (object, action): (String, String) = (r.get(4)?, r.get(6)?);
    // Early versions kept the engines' own words.
    let action = match kind {
        EventKind::Engine | EventKind::Host => event_word(&object, &action).to_owned(),
        EventKind::Operation | EventKind::Access => action,
    };
    Ok(TimelineEvent {
        id: r.get::<_, i64>(0)?.unsigned_abs(),
        time: from_nanos(r.get(1)?),
        kind,
        host: r.get(3)?,
        object,
        name: r.get(5)?,
        action,
        member: Some(member).filter(|m| !m.is_empty()),
        sentence: r.get(8)?,
        bad: r.get(9)?,
        operation: r.get::<_, Option<i64>>(10)?.map(i64::unsigned_abs),
        folded: r.get(11)?,
    })
}
