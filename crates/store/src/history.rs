//! Resource history in a file of its own: chunks of samples by series, step and time.
//!
//! A minute's samples of one host are first put down as they are ([`HistoryStore::note_minute`]), so that
//! a crash loses at most the present minute. When a window of ten minutes is over it is packed into one
//! chunk for each series, the coarser steps are made of it, and its minutes are let go, all in one
//! transaction ([`HistoryStore::close_window`]). How a chunk is packed is `gubernum_core::history`'s.

use std::collections::HashMap;
use std::path::{Path, PathBuf};

use gubernum_core::history::series::{buckets, coarser, push_coarse, sample};
use gubernum_core::history::{Bucket, Chunk, Code, Level};
use gubernum_core::usage::FIGURES;
use parking_lot::Mutex;
use rusqlite::{Connection, OptionalExtension, Transaction, params};

use crate::{OpenError, StoreError};

/// "GubH": resource history.
const APPLICATION_ID: i32 = 0x4775_6248;

const SCHEMA: &str = "
CREATE TABLE IF NOT EXISTS series (id INTEGER PRIMARY KEY, host TEXT NOT NULL, name TEXT NOT NULL, UNIQUE (host, name)) STRICT;
CREATE TABLE IF NOT EXISTS chunks (
    series INTEGER NOT NULL, level INTEGER NOT NULL, start INTEGER NOT NULL, data BLOB NOT NULL,
    PRIMARY KEY (series, level, start)
) STRICT, WITHOUT ROWID;
CREATE TABLE IF NOT EXISTS minutes (
    minute INTEGER NOT NULL, host TEXT NOT NULL, data BLOB NOT NULL, PRIMARY KEY (minute, host)
) STRICT, WITHOUT ROWID;
";

/// Rows of one series that are not packed yet.
pub type OpenRows = Vec<(i64, [Code; FIGURES])>;

/// An open history.
pub struct HistoryStore {
    connection: Mutex<Connection>,
    series: Mutex<HashMap<(String, String), i64>>,
    path: PathBuf,
}

/// What was read.
#[derive(Debug, Default)]
pub struct Read {
    /// In the order of time.
    pub buckets: Vec<Bucket>,
    /// Chunks that could not be read and were skipped.
    pub damaged: u32,
}

impl HistoryStore {
    /// Opens or makes the file. One that is damaged is put aside under another name, because history is
    /// not worth a service that does not start; its new name is given.
    ///
    /// # Errors
    /// When the folder cannot be written.
    pub fn open(path: &Path) -> Result<(Self, Option<PathBuf>), OpenError> {
        match Self::try_open(path) {
            Ok(store) => Ok((store, None)),
            Err(OpenError::Damaged { .. } | OpenError::Foreign(_)) => {
                let mut aside = path.with_extension("damaged.db");
                let mut n = 1;
                while aside.exists() {
                    n += 1;
                    aside = path.with_extension(format!("damaged-{n}.db"));
                }
                std::fs::rename(path, &aside)
                    .map_err(|source| OpenError::Io { path: path.to_owned(), source })?;
                for side in ["db-wal", "db-shm"] {
                    // They belong to the file that was put aside.
                    let _ = std::fs::remove_file(path.with_extension(side));
                }
                Ok((Self::try_open(path)?, Some(aside)))
            }
            Err(other) => Err(other),
        }
    }

    fn try_open(path: &Path) -> Result<Self, OpenError> {
        let damaged =
            |e: rusqlite::Error| OpenError::Damaged { path: path.to_owned(), detail: e.to_string() };
        let is_new = std::fs::metadata(path).map_or(true, |m| m.len() == 0);
        if is_new {
            use std::os::unix::fs::OpenOptionsExt;
            let made =
                std::fs::OpenOptions::new().write(true).create(true).truncate(false).mode(0o600).open(path);
            made.map_err(|source| OpenError::Io { path: path.to_owned(), source })?;
        }
        let connection = Connection::open(path).map_err(damaged)?;
        let prepare = || -> rusqlite::Result<i32> {
            connection.busy_timeout(std::time::Duration::from_secs(5))?;
            if is_new {
                connection.pragma_update(None, "page_size", 8192)?;
                connection.pragma_update(None, "application_id", APPLICATION_ID)?;
                // Pages of what is let go are used again; a little of them goes back to the disk each time.
                connection.pragma_update(None, "auto_vacuum", "INCREMENTAL")?;
            }
            connection.pragma_update(None, "journal_mode", "WAL")?;
            // A crash of the service loses nothing so; a power cut may lose the last seconds.
            connection.pragma_update(None, "synchronous", "NORMAL")?;
            connection.execute_batch(SCHEMA)?;
            connection.query_row("PRAGMA application_id", [], |r| r.get(0))
        };
        if prepare().map_err(damaged)? != APPLICATION_ID {
            return Err(OpenError::Foreign(path.to_owned()));
        }
        let series = load_series(&connection).map_err(damaged)?;
        Ok(Self { connection: Mutex::new(connection), series: Mutex::new(series), path: path.to_owned() })
    }

    /// Its path.
    pub fn path(&self) -> &Path {
        &self.path
    }

    /// Puts down what one host's containers used within a minute.
    ///
    /// # Errors
    /// When the database fails.
    pub fn note_minute(
        &self,
        minute: i64,
        hosts: &[(String, Vec<(String, OpenRows)>)],
    ) -> Result<(), StoreError> {
        let mut connection = self.connection.lock();
        let transaction = connection.transaction()?;
        {
            let mut write = transaction
                .prepare_cached("INSERT OR REPLACE INTO minutes (minute, host, data) VALUES (?1, ?2, ?3)")?;
            for (host, all) in hosts {
                write.execute(params![minute, host, pack_minute(all)])?;
            }
        }
        transaction.commit()?;
        Ok(())
    }

    /// Writes whole series at once, as for a made-up past: samples from `fine_from` on as they are, minutes from
    /// `minute_from` on, and the coarser steps of everything. Rows are in the order of time. What is there of
    /// these series is replaced where it overlaps.
    ///
    /// # Errors
    /// When the database fails; nothing has changed then.
    pub fn import(
        &self,
        series: &[(String, String, OpenRows)],
        fine_from: i64,
        minute_from: i64,
    ) -> Result<(), StoreError> {
        let mut connection = self.connection.lock();
        let transaction = connection.transaction()?;
        for (host, name, rows) in series {
            transaction
                .prepare_cached("INSERT OR IGNORE INTO series (host, name) VALUES (?1, ?2)")?
                .execute(params![host, name])?;
            let id: i64 = transaction
                .prepare_cached("SELECT id FROM series WHERE host = ?1 AND name = ?2")?
                .query_row(params![host, name], |r| r.get(0))?;
            let samples: Vec<Bucket> = rows.iter().map(|(t, codes)| sample(*t, codes)).collect();
            let fine = rows.partition_point(|r| r.0 < fine_from);
            for window in rows[fine..].chunk_by(|a, b| a.0.div_euclid(600) == b.0.div_euclid(600)) {
                let mut chunk = Chunk::new(FIGURES);
                window.iter().for_each(|(time, row)| chunk.push(*time, row));
                let span = Level::Fine.span();
                write_chunk(&transaction, id, Level::Fine, window[0].0.div_euclid(span) * span, &chunk)?;
            }
            let minutes = coarser(samples.iter().filter(|b| b.time >= minute_from).cloned(), 60);
            add_coarse(&transaction, id, Level::Minute, minutes)?;
            let tens = add_coarse(&transaction, id, Level::TenMinutes, samples)?;
            add_coarse(&transaction, id, Level::Hour, tens)?;
        }
        transaction.commit()?;
        *self.series.lock() = load_series(&connection)?;
        Ok(())
    }

    /// What was put down and is not packed yet: host, name and rows.
    ///
    /// # Errors
    /// When the database fails; damaged minutes are skipped.
    pub fn open_minutes(&self) -> Result<Vec<(String, String, OpenRows)>, StoreError> {
        let connection = self.connection.lock();
        let mut query = connection.prepare("SELECT host, data FROM minutes ORDER BY minute")?;
        let rows = query.query_map([], |r| Ok((r.get::<_, String>(0)?, r.get::<_, Vec<u8>>(1)?)))?;
        let mut out = Vec::new();
        for row in rows {
            let (host, data) = row?;
            for (name, rows) in unpack_minute(&data) {
                out.push((host.clone(), name, rows));
            }
        }
        Ok(out)
    }

    /// Packs the samples of one window of ten minutes that began at `start`, makes the coarser steps and
    /// lets the window's minutes go.
    ///
    /// # Errors
    /// When the database fails; nothing has changed then.
    pub fn close_window(&self, start: i64, series: &[(String, String, OpenRows)]) -> Result<(), StoreError> {
        let mut connection = self.connection.lock();
        let transaction = connection.transaction()?;
        let mut fresh = Vec::new();
        {
            let mut known = self.series.lock();
            for (host, name, _) in series {
                let key = (host.clone(), name.clone());
                if let std::collections::hash_map::Entry::Vacant(place) = known.entry(key.clone()) {
                    transaction
                        .prepare_cached("INSERT OR IGNORE INTO series (host, name) VALUES (?1, ?2)")?
                        .execute(params![host, name])?;
                    let id = transaction
                        .prepare_cached("SELECT id FROM series WHERE host = ?1 AND name = ?2")?
                        .query_row(params![host, name], |r| r.get(0))?;
                    place.insert(id);
                    fresh.push(key);
                }
            }
        }
        let result = self.pack(&transaction, start, series).and_then(|()| {
            transaction.execute(
                "DELETE FROM minutes WHERE minute >= ?1 AND minute < ?2",
                [start, start + Level::Fine.span()],
            )?;
            transaction.commit()?;
            Ok(())
        });
        if result.is_err() {
            let mut known = self.series.lock();
            fresh.iter().for_each(|key| {
                known.remove(key);
            });
        }
        result
    }

    fn pack(
        &self,
        transaction: &Transaction<'_>,
        start: i64,
        series: &[(String, String, OpenRows)],
    ) -> Result<(), StoreError> {
        for (host, name, rows) in series {
            let Some(id) = self.series.lock().get(&(host.clone(), name.clone())).copied() else { continue };
            let mut chunk = match read_chunk(transaction, id, Level::Fine, start)? {
                Some(Ok(chunk)) => chunk,
                _ => Chunk::new(FIGURES),
            };
            rows.iter().for_each(|(time, row)| chunk.push(*time, row));
            if chunk.times.is_empty() {
                continue;
            }
            write_chunk(transaction, id, Level::Fine, start, &chunk)?;
            let fine = buckets(Level::Fine, &chunk);
            let minutes = add_coarse(transaction, id, Level::Minute, fine)?;
            add_coarse(transaction, id, Level::TenMinutes, minutes)?;
            // The hour is made of what its ten minutes say so far, and again with the next of them.
            let hour = hour_of(transaction, id, start)?;
            add_coarse(transaction, id, Level::Hour, hour)?;
        }
        Ok(())
    }

    /// The rows of a series at a level, from `from` to `to` (seconds since 1970, the end not included).
    ///
    /// # Errors
    /// When the database fails. Damaged chunks are skipped and counted.
    pub fn read(&self, host: &str, name: &str, level: Level, from: i64, to: i64) -> Result<Read, StoreError> {
        let mut out = Read::default();
        let Some(id) = self.series.lock().get(&(host.to_owned(), name.to_owned())).copied() else {
            return Ok(out);
        };
        let chunks: Vec<Vec<u8>> = {
            let connection = self.connection.lock();
            let mut query = connection.prepare_cached(
                "SELECT data FROM chunks WHERE series = ?1 AND level = ?2 AND start > ?3 AND start < ?4 ORDER BY start",
            )?;
            let rows = query.query_map(params![id, level.number(), from - level.span(), to], |r| r.get(0))?;
            rows.collect::<Result<_, _>>()?
        };
        for data in chunks {
            match Chunk::decode(&data) {
                Ok(chunk) => {
                    let within = |b: &Bucket| b.time > from - level.step() && b.time < to;
                    out.buckets.extend(buckets(level, &chunk).into_iter().filter(within));
                }
                Err(_) => out.damaged += 1,
            }
        }
        Ok(out)
    }

    /// The names of one host's series, those of containers that are gone too.
    ///
    /// # Errors
    /// Never; the names are held.
    pub fn names(&self, host: &str) -> Vec<String> {
        self.series.lock().keys().filter(|(h, _)| h == host).map(|(_, n)| n.clone()).collect()
    }

    /// Lets go of what a level holds before a time, and of series that have nothing left.
    ///
    /// # Errors
    /// When the database fails.
    pub fn forget(&self, before: [(Level, i64); 4]) -> Result<(), StoreError> {
        for (level, time) in before {
            // In pieces, so that nobody waits long.
            loop {
                let connection = self.connection.lock();
                let gone = connection
                    .prepare_cached(
                        "DELETE FROM chunks WHERE (series, level, start) IN
                     (SELECT series, level, start FROM chunks WHERE level = ?1 AND start < ?2 LIMIT 5000)",
                    )?
                    .execute(params![level.number(), time - level.span()])?;
                if gone < 5000 {
                    break;
                }
            }
        }
        let connection = self.connection.lock();
        connection.execute(
            "DELETE FROM series WHERE NOT EXISTS (SELECT 1 FROM chunks WHERE chunks.series = series.id)",
            [],
        )?;
        connection.execute_batch("PRAGMA incremental_vacuum(2000)")?;
        *self.series.lock() = load_series(&connection)?;
        Ok(())
    }

    /// How many bytes the packed chunks take, and how many there are.
    ///
    /// # Errors
    /// When the database fails.
    pub fn size(&self) -> Result<(u64, u64), StoreError> {
        let connection = self.connection.lock();
        let sum: (i64, i64) =
            connection.query_row("SELECT coalesce(sum(length(data)), 0), count(*) FROM chunks", [], |r| {
                Ok((r.get(0)?, r.get(1)?))
            })?;
        Ok((sum.0.unsigned_abs(), sum.1.unsigned_abs()))
    }
}

fn load_series(connection: &Connection) -> rusqlite::Result<HashMap<(String, String), i64>> {
    let mut query = connection.prepare("SELECT host, name, id FROM series")?;
    let rows = query.query_map([], |r| Ok(((r.get(0)?, r.get(1)?), r.get(2)?)))?;
    rows.collect()
}

type MaybeChunk = Option<Result<Chunk, gubernum_core::history::DamagedChunk>>;

fn read_chunk(t: &Transaction<'_>, series: i64, level: Level, start: i64) -> Result<MaybeChunk, StoreError> {
    let data: Option<Vec<u8>> = t
        .prepare_cached("SELECT data FROM chunks WHERE series = ?1 AND level = ?2 AND start = ?3")?
        .query_row(params![series, level.number(), start], |r| r.get(0))
        .optional()?;
    Ok(data.map(|d| Chunk::decode(&d)))
}

fn write_chunk(
    t: &Transaction<'_>,
    series: i64,
    level: Level,
    start: i64,
    chunk: &Chunk,
) -> Result<(), StoreError> {
    let step = u32::try_from(level.step()).unwrap_or(1);
    t.prepare_cached("INSERT OR REPLACE INTO chunks (series, level, start, data) VALUES (?1, ?2, ?3, ?4)")?
        .execute(params![series, level.number(), start, chunk.encode(step)])?;
    Ok(())
}

/// Adds what a finer level says to a coarser one, and gives the coarser buckets.
fn add_coarse(
    t: &Transaction<'_>,
    series: i64,
    level: Level,
    finer: Vec<Bucket>,
) -> Result<Vec<Bucket>, StoreError> {
    let fresh = coarser(finer, level.step());
    let mut from = 0;
    while from < fresh.len() {
        let start = fresh[from].time.div_euclid(level.span()) * level.span();
        let to = from + fresh[from..].iter().take_while(|b| b.time < start + level.span()).count();
        let mut chunk = match read_chunk(t, series, level, start)? {
            Some(Ok(chunk)) if chunk.columns == level.columns() => chunk,
            // A damaged one is replaced by an empty one: its content is lost either way.
            _ => Chunk::new(level.columns()),
        };
        // What is made again takes the place of what was made of less.
        chunk.cut_from(fresh[from].time);
        push_coarse(&mut chunk, &fresh[from..to]);
        write_chunk(t, series, level, start, &chunk)?;
        from = to;
    }
    Ok(fresh)
}

/// The ten-minute buckets of the hour that the window beginning at `start` is in.
fn hour_of(t: &Transaction<'_>, series: i64, start: i64) -> Result<Vec<Bucket>, StoreError> {
    let begin = start.div_euclid(Level::Hour.step()) * Level::Hour.step();
    let day = begin.div_euclid(Level::TenMinutes.span()) * Level::TenMinutes.span();
    Ok(match read_chunk(t, series, Level::TenMinutes, day)? {
        Some(Ok(chunk)) => {
            let all = buckets(Level::TenMinutes, &chunk);
            all.into_iter().filter(|b| b.time >= begin && b.time < begin + Level::Hour.step()).collect()
        }
        _ => Vec::new(),
    })
}

/// Name and packed rows of each container, each with its length before it.
fn pack_minute(all: &[(String, OpenRows)]) -> Vec<u8> {
    let mut out = Vec::new();
    let mut put = |bytes: &[u8]| {
        out.extend_from_slice(&u32::try_from(bytes.len()).unwrap_or(0).to_le_bytes());
        out.extend_from_slice(bytes);
    };
    for (name, rows) in all {
        let mut chunk = Chunk::new(FIGURES);
        rows.iter().for_each(|(time, row)| chunk.push(*time, row));
        put(name.as_bytes());
        put(&chunk.encode(10));
    }
    out
}

fn unpack_minute(data: &[u8]) -> Vec<(String, OpenRows)> {
    let mut rest = data;
    let mut take = || {
        let (length, after) = rest.split_first_chunk::<4>()?;
        let (bytes, after) = after.split_at_checked(u32::from_le_bytes(*length) as usize)?;
        rest = after;
        Some(bytes)
    };
    let mut out = Vec::new();
    while let Some(name) = take() {
        let Some(packed) = take() else { break };
        let (Ok(name), Ok(chunk)) = (std::str::from_utf8(name), Chunk::decode(packed)) else { continue };
        let rows = chunk.rows().filter_map(|(time, row)| Some((time, row.try_into().ok()?)));
        out.push((name.to_owned(), rows.collect()));
    }
    out
}

#[cfg(test)]
#[path = "history_tests.rs"]
mod tests;
