//! Unfinished uploads into containers: recorded before anything is written, so that what a stop of the service leaves
//! behind is found and removed.
//!
//! Only where they lie is here; how they are written, resumed and moved is the service's.

use jiff::Timestamp;
use rusqlite::params;

use crate::{Store, StoreError, nanos};

/// The most that are noted at a time.
pub const MOST_UPLOADS: u32 = 1000;
/// The most that are given as overdue at once.
const MOST_OVERDUE: u32 = 100;

/// Where the received part of a file is.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct HalfUpload {
    /// The host.
    pub host: String,
    /// The container's id.
    pub container: String,
    /// The folder in the container.
    pub folder: String,
    /// The name of what has come.
    pub part: String,
    /// The name of what comes behind that.
    pub more: String,
}

impl Store {
    /// Notes it, or that it may be resumed until another time; `false` when too many are noted already.
    ///
    /// # Errors
    /// When the database fails.
    pub fn note_upload(&self, upload: &HalfUpload, until: Timestamp) -> Result<bool, StoreError> {
        let connection = self.connection.lock();
        let noted = connection.execute(
            "INSERT INTO uploads (host, container, folder, part, more, until)
             SELECT ?1, ?2, ?3, ?4, ?5, ?6
             WHERE (SELECT count(*) FROM uploads) < ?7
                OR EXISTS (SELECT 1 FROM uploads
                           WHERE host = ?1 AND container = ?2 AND folder = ?3 AND part = ?4)
             ON CONFLICT (host, container, folder, part) DO UPDATE SET until = excluded.until",
            params![
                upload.host,
                upload.container,
                upload.folder,
                upload.part,
                upload.more,
                nanos(until),
                MOST_UPLOADS
            ],
        )?;
        Ok(noted == 1)
    }

    /// Forgets it: it is whole, or removed.
    ///
    /// # Errors
    /// When the database fails.
    pub fn forget_upload(&self, upload: &HalfUpload) -> Result<(), StoreError> {
        self.connection.lock().execute(
            "DELETE FROM uploads WHERE host = ?1 AND container = ?2 AND folder = ?3 AND part = ?4",
            params![upload.host, upload.container, upload.folder, upload.part],
        )?;
        Ok(())
    }

    /// Those whose time is over, the longest overdue first, not more than a hundred.
    ///
    /// # Errors
    /// When the database fails.
    pub fn overdue_uploads(&self, now: Timestamp) -> Result<Vec<HalfUpload>, StoreError> {
        let connection = self.connection.lock();
        let mut query = connection.prepare_cached(
            "SELECT host, container, folder, part, more FROM uploads WHERE until < ?1 ORDER BY until LIMIT ?2",
        )?;
        let rows = query.query_map(params![nanos(now), MOST_OVERDUE], |r| {
            Ok(HalfUpload {
                host: r.get(0)?,
                container: r.get(1)?,
                folder: r.get(2)?,
                part: r.get(3)?,
                more: r.get(4)?,
            })
        })?;
        Ok(rows.collect::<Result<_, _>>()?)
    }
}
