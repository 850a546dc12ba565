//! Earlier revisions of containers, kept for rollback.

use gubernum_core::definition::Definition;
use gubernum_core::revision::Revision;
use jiff::Timestamp;
use rusqlite::{OptionalExtension, params};

use crate::{Store, StoreError, from_nanos, nanos};

/// What an earlier state is bound to.
pub(crate) const SEALED: &str = "earlier state of a container";

/// The most earlier states of all containers together; beyond that the oldest go.
pub const MOST_EARLIER: u32 = 20_000;

/// An earlier state to be kept.
#[derive(Debug, Clone)]
pub struct NewRevision<'a> {
    /// The host.
    pub host: &'a str,
    /// The container's name.
    pub name: &'a str,
    /// Its definition, with the secrets in it.
    pub definition: &'a Definition,
    /// The image's id.
    pub image_id: &'a str,
    /// What was changed.
    pub summary: &'a str,
    /// By which operation.
    pub operation: u64,
    /// Whose.
    pub member: &'a str,
}

impl Store {
    /// Keeps an earlier state; of each container the newest `most` stay, of all together the newest [`MOST_EARLIER`].
    ///
    /// # Errors
    /// When the database fails.
    pub fn add_earlier(&self, new: &NewRevision<'_>, most: u32, now: Timestamp) -> Result<(), StoreError> {
        let json = serde_json::to_vec(new.definition).map_err(|e| StoreError::Damaged(e.to_string()))?;
        let sealed = self.seal.seal(SEALED, &json)?;
        let mut connection = self.connection.lock();
        let transaction = connection.transaction()?;
        transaction.execute(
            "INSERT INTO earlier (host, name, image, image_id, summary, sealed, operation, member, created)
             VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9)",
            params![
                new.host,
                new.name,
                new.definition.image,
                new.image_id,
                new.summary,
                sealed,
                i64::try_from(new.operation).unwrap_or(i64::MAX),
                new.member,
                nanos(now)
            ],
        )?;
        transaction.execute(
            "DELETE FROM earlier WHERE host = ?1 AND name = ?2 AND id NOT IN
             (SELECT id FROM earlier WHERE host = ?1 AND name = ?2 ORDER BY id DESC LIMIT ?3)",
            params![new.host, new.name, most],
        )?;
        // Those of containers that are long gone would stay for ever.
        transaction.execute(
            "DELETE FROM earlier WHERE id <= (SELECT id FROM earlier ORDER BY id DESC LIMIT 1 OFFSET ?1)",
            [MOST_EARLIER],
        )?;
        transaction.commit()?;
        Ok(())
    }

    /// The earlier states of a container, the newest first.
    ///
    /// # Errors
    /// When the database fails.
    pub fn earlier(&self, host: &str, name: &str) -> Result<Vec<Revision>, StoreError> {
        let connection = self.connection.lock();
        let mut query = connection.prepare_cached(
            "SELECT id, image, image_id, summary, operation, member, created FROM earlier
             WHERE host = ?1 AND name = ?2 ORDER BY id DESC",
        )?;
        let rows = query.query_map([host, name], |r| {
            Ok(Revision {
                id: r.get::<_, i64>(0)?.unsigned_abs(),
                image: r.get(1)?,
                image_id: r.get(2)?,
                summary: r.get(3)?,
                operation: r.get::<_, i64>(4)?.unsigned_abs(),
                member: r.get(5)?,
                created: from_nanos(r.get(6)?),
            })
        })?;
        Ok(rows.collect::<Result<_, _>>()?)
    }

    /// One earlier state of a container with its definition and image; the newest when `id` is absent.
    ///
    /// # Errors
    /// When the database fails or the seal cannot be opened.
    pub fn earlier_state(
        &self,
        host: &str,
        name: &str,
        id: Option<u64>,
    ) -> Result<Option<(Definition, String)>, StoreError> {
        let id = id.map(|id| i64::try_from(id).unwrap_or(i64::MAX));
        let found = self
            .connection
            .lock()
            .query_row(
                "SELECT sealed, image_id FROM earlier WHERE host = ?1 AND name = ?2 AND (?3 IS NULL OR id = ?3)
                 ORDER BY id DESC LIMIT 1",
                params![host, name, id],
                |r| Ok((r.get::<_, Vec<u8>>(0)?, r.get::<_, String>(1)?)),
            )
            .optional()?;
        let Some((sealed, image_id)) = found else { return Ok(None) };
        let opened = self.seal.open_sealed(SEALED, &sealed)?;
        let definition = serde_json::from_slice(&opened).map_err(|e| StoreError::Damaged(e.to_string()))?;
        Ok(Some((definition, image_id)))
    }

    /// Ids of the images that earlier states of a host's containers were made from.
    ///
    /// # Errors
    /// When the database fails.
    pub fn kept_images(&self, host: &str) -> Result<Vec<String>, StoreError> {
        let connection = self.connection.lock();
        let mut query = connection.prepare_cached("SELECT DISTINCT image_id FROM earlier WHERE host = ?1")?;
        let rows = query.query_map([host], |r| r.get(0))?;
        Ok(rows.collect::<Result<_, _>>()?)
    }

    /// Follows a container to its new name.
    ///
    /// # Errors
    /// When the database fails.
    pub fn rename_earlier(&self, host: &str, from: &str, to: &str) -> Result<(), StoreError> {
        let connection = self.connection.lock();
        connection.execute("UPDATE earlier SET name = ?3 WHERE host = ?1 AND name = ?2", [host, from, to])?;
        Ok(())
    }
}
