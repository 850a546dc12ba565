//! Opening the database file: ours, whole and not of a newer Gubernum, or left untouched.

use std::fs::{File, OpenOptions};
use std::io::{self, Read};
use std::os::unix::fs::OpenOptionsExt;
use std::path::{Path, PathBuf};

use parking_lot::Mutex;
use rusqlite::{Connection, OpenFlags};

use crate::audit::anchor_as_it_is;
use crate::schema::{ANCHORED, APPLICATION_ID, NEWEST, migrations};
use crate::seal::Seal;
use crate::{Store, StoreError};

/// Why a database was not opened. Nothing was written to it.
#[derive(Debug, thiserror::Error)]
pub enum OpenError {
    /// It is not an SQLite database, or a damaged one.
    #[error(
        "{path} is damaged or not a database ({detail}); it was left untouched: restore it from a backup, \
         or choose another --data-dir"
    )]
    Damaged {
        /// The file.
        path: PathBuf,
        /// What SQLite says.
        detail: String,
    },
    /// It belongs to another program.
    #[error("{0} is the database of another program; it was left untouched: choose another --data-dir")]
    Foreign(PathBuf),
    /// It was written by a newer Gubernum.
    #[error(
        "{path} has schema {found}, this Gubernum knows up to {known}; it was left untouched: start the newer version, \
         or restore a backup made before the update"
    )]
    Newer {
        /// The file.
        path: PathBuf,
        /// Its schema.
        found: i64,
        /// Ours.
        known: i64,
    },
    /// The file system refused.
    #[error("{path} cannot be opened: {source}; check that the folder exists and may be written")]
    Io {
        /// The file.
        path: PathBuf,
        /// Why.
        source: io::Error,
    },
    /// Bringing it to the present schema failed.
    #[error("{path} could not be migrated to the current schema: {detail}")]
    Migration {
        /// The file.
        path: PathBuf,
        /// Why.
        detail: String,
    },
    /// Preparing it failed.
    #[error(transparent)]
    Store(#[from] StoreError),
}

impl Store {
    /// Opens the database at `path`, or makes it, and brings it to the present schema. Secrets are
    /// sealed with `seal`.
    ///
    /// # Errors
    /// See [`OpenError`]; the file is untouched then.
    pub fn open(path: &Path, seal: Seal) -> Result<Self, OpenError> {
        let is_new = inspect(path)?;
        if is_new {
            // SQLite gives its side files the mode of the database.
            let made = OpenOptions::new().write(true).create(true).truncate(false).mode(0o600).open(path);
            made.map_err(|source| OpenError::Io { path: path.to_owned(), source })?;
        }
        let mut connection = Connection::open(path).map_err(|e| damaged(path, &e))?;
        narrow(path);
        let prepare = |connection: &Connection| -> rusqlite::Result<()> {
            connection.busy_timeout(std::time::Duration::from_secs(5))?;
            if is_new {
                connection.pragma_update(None, "application_id", APPLICATION_ID)?;
            }
            connection.pragma_update(None, "journal_mode", "WAL")?;
            // A power cut may lose the last moments of an unfinished operation, not damage the file;
            // the journal is written with a full sync of its own.
            connection.pragma_update(None, "synchronous", "FULL")?;
            connection.pragma_update(None, "foreign_keys", "ON")
        };
        prepare(&connection).map_err(|e| damaged(path, &e))?;
        let before: i64 = connection
            .query_row("PRAGMA user_version", [], |row| row.get(0))
            .map_err(|e| damaged(path, &e))?;
        migrations()
            .to_latest(&mut connection)
            .map_err(|e| OpenError::Migration { path: path.to_owned(), detail: e.to_string() })?;
        connection.pragma_update(None, "foreign_keys", "ON").map_err(StoreError::from)?;
        if before < ANCHORED {
            anchor_as_it_is(&connection, &seal)?;
        }
        Ok(Self { connection: Mutex::new(connection), seal, rotating: Mutex::new(()) })
    }
}

/// Removes what others may do with the file: it holds hashes of passwords, and the journal.
fn narrow(path: &Path) {
    use std::os::unix::fs::PermissionsExt;
    for end in ["", "-wal", "-shm"] {
        let file = PathBuf::from(format!("{}{end}", path.display()));
        let Ok(data) = std::fs::metadata(&file) else { continue };
        if data.permissions().mode() & 0o077 == 0 {
            continue;
        }
        match std::fs::set_permissions(&file, std::fs::Permissions::from_mode(0o600)) {
            Ok(()) => tracing::warn!("{} could be read by others; its mode is 0600 now", file.display()),
            Err(error) => tracing::warn!("{} can be read by others: {error}", file.display()),
        }
    }
}

fn damaged(path: &Path, error: &dyn std::error::Error) -> OpenError {
    OpenError::Damaged { path: path.to_owned(), detail: error.to_string() }
}

/// Looks at what is there without writing; tells whether there is nothing yet.
fn inspect(path: &Path) -> Result<bool, OpenError> {
    let io = |source| OpenError::Io { path: path.to_owned(), source };
    let mut head = [0u8; 100];
    let length = match File::open(path) {
        Err(e) if e.kind() == io::ErrorKind::NotFound => return Ok(true),
        Err(e) => return Err(io(e)),
        Ok(file) => {
            let mut file = file.take(100);
            let mut read = 0;
            while read < head.len() {
                match file.read(&mut head[read..]).map_err(io)? {
                    0 => break,
                    n => read += n,
                }
            }
            read
        }
    };
    if length == 0 {
        return Ok(true);
    }
    if length < head.len() || !head.starts_with(b"SQLite format 3\0") {
        return Err(damaged(path, &io::Error::other("it has no SQLite header")));
    }
    // The application id never changes after the file is made, so the head tells without opening.
    let id = i32::from_be_bytes([head[68], head[69], head[70], head[71]]);
    if id != APPLICATION_ID {
        return Err(OpenError::Foreign(path.to_owned()));
    }
    let connection =
        Connection::open_with_flags(path, OpenFlags::SQLITE_OPEN_READ_ONLY).map_err(|e| damaged(path, &e))?;
    let found: i64 =
        connection.query_row("PRAGMA user_version", [], |row| row.get(0)).map_err(|e| damaged(path, &e))?;
    if found > NEWEST {
        return Err(OpenError::Newer { path: path.to_owned(), found, known: NEWEST });
    }
    let verdict: String =
        connection.query_row("PRAGMA quick_check(1)", [], |row| row.get(0)).map_err(|e| damaged(path, &e))?;
    if verdict != "ok" {
        return Err(damaged(path, &io::Error::other(verdict)));
    }
    Ok(false)
}
