//! Registries with their sealed secrets, and the last known digests of their tags.

use gubernum_core::registry::{NewRegistry, Registry};
use jiff::Timestamp;
use rusqlite::params;

use crate::{Store, StoreError, from_nanos, nanos};

/// A registry with its secret, for use.
#[derive(Clone)]
pub struct RegistryRecord {
    /// As it is shown.
    pub shown: Registry,
    /// The account's secret.
    pub secret: Option<String>,
    /// The authority that is trusted for it.
    pub ca: Option<String>,
}

/// What a tag was found to mean: the image, its digest or why that is not known, and when.
pub type Check = (String, Option<String>, Option<String>, Timestamp);

/// Whether a registry has a digest, as `name@sha256:…`, and when it was requested.
pub type DigestCheck = (String, bool, Timestamp);

pub(crate) fn purpose(address: &str) -> String {
    format!("registry secret of {address}")
}

impl Store {
    /// All registries by address.
    ///
    /// # Errors
    /// When the database fails or a seal cannot be opened.
    pub fn registries(&self) -> Result<Vec<RegistryRecord>, StoreError> {
        type Row = (Registry, Option<Vec<u8>>, Option<String>);
        let rows: Vec<Row> = {
            let connection = self.connection.lock();
            let mut query = connection.prepare(
                "SELECT address, account, secret_sealed, ca, plain_http, member, added FROM registries ORDER BY address",
            )?;
            let rows = query.query_map([], |r| {
                let (sealed, ca): (Option<Vec<u8>>, Option<String>) = (r.get(2)?, r.get(3)?);
                let shown = Registry {
                    address: r.get(0)?,
                    account: r.get(1)?,
                    has_secret: sealed.is_some(),
                    has_ca: ca.is_some(),
                    plain_http: r.get(4)?,
                    member: r.get(5)?,
                    added: from_nanos(r.get(6)?),
                };
                Ok((shown, sealed, ca))
            })?;
            rows.collect::<Result<_, _>>()?
        };
        rows.into_iter()
            .map(|(shown, sealed, ca)| {
                let secret = match sealed {
                    Some(sealed) => {
                        let opened = self.seal.open_sealed(&purpose(&shown.address), &sealed)?;
                        Some(String::from_utf8_lossy(&opened).into_owned())
                    }
                    None => None,
                };
                Ok(RegistryRecord { shown, secret, ca })
            })
            .collect()
    }

    /// Sets a registry, in place of what was set for its address.
    ///
    /// # Errors
    /// When the database fails.
    pub fn set_registry(&self, new: &NewRegistry, member: &str, now: Timestamp) -> Result<(), StoreError> {
        let sealed = match &new.secret {
            Some(secret) => Some(self.seal.seal(&purpose(&new.address), secret.as_bytes())?),
            None => None,
        };
        self.connection.lock().execute(
            "INSERT OR REPLACE INTO registries (address, account, secret_sealed, ca, plain_http, member, added)
             VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7)",
            params![new.address, new.account, sealed, new.ca, new.plain_http, member, nanos(now)],
        )?;
        Ok(())
    }

    /// Forgets a registry; `false` when nothing has that address.
    ///
    /// # Errors
    /// When the database fails.
    pub fn remove_registry(&self, address: &str) -> Result<bool, StoreError> {
        Ok(self.connection.lock().execute("DELETE FROM registries WHERE address = ?1", [address])? == 1)
    }

    /// What tags were last found to mean.
    ///
    /// # Errors
    /// When the database fails.
    pub fn image_checks(&self) -> Result<Vec<Check>, StoreError> {
        let connection = self.connection.lock();
        let mut query =
            connection.prepare("SELECT image, digest, problem, checked FROM image_checks ORDER BY image")?;
        let rows = query.query_map([], |r| Ok((r.get(0)?, r.get(1)?, r.get(2)?, from_nanos(r.get(3)?))))?;
        Ok(rows.collect::<Result<_, _>>()?)
    }

    /// Keeps what a tag was found to mean.
    ///
    /// # Errors
    /// When the database fails.
    pub fn set_image_check(&self, check: &Check) -> Result<(), StoreError> {
        let (image, digest, problem, checked) = check;
        self.connection.lock().execute(
            "INSERT OR REPLACE INTO image_checks (image, digest, problem, checked) VALUES (?1, ?2, ?3, ?4)",
            params![image, digest, problem, nanos(*checked)],
        )?;
        Ok(())
    }

    /// Whether registries have digests, as `name@sha256:…`, and when each was requested.
    ///
    /// # Errors
    /// When the database fails.
    pub fn digest_checks(&self) -> Result<Vec<DigestCheck>, StoreError> {
        let connection = self.connection.lock();
        let mut query = connection.prepare_cached("SELECT image, there, checked FROM digest_checks")?;
        let rows = query.query_map([], |r| Ok((r.get(0)?, r.get(1)?, from_nanos(r.get(2)?))))?;
        crate::readable("digest_checks", rows)
    }

    /// Keeps whether a registry has a digest, and forgets what was requested before `old`.
    ///
    /// # Errors
    /// When the database fails.
    pub fn set_digest_check(&self, check: &DigestCheck, old: Timestamp) -> Result<(), StoreError> {
        let (image, there, checked) = check;
        let connection = self.connection.lock();
        connection.execute("DELETE FROM digest_checks WHERE checked < ?1", [nanos(old)])?;
        connection.execute(
            "INSERT OR REPLACE INTO digest_checks (image, there, checked) VALUES (?1, ?2, ?3)",
            params![image, there, nanos(*checked)],
        )?;
        Ok(())
    }

    /// Forgets what was found for images that nobody runs any more.
    ///
    /// # Errors
    /// When the database fails.
    pub fn forget_image_checks(&self, before: Timestamp) -> Result<(), StoreError> {
        self.connection.lock().execute("DELETE FROM image_checks WHERE checked < ?1", [nanos(before)])?;
        Ok(())
    }
}
