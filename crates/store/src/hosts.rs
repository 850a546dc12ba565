//! Hosts of the fleet, with their addresses and sealed keys.

use jiff::Timestamp;
use rusqlite::params;

use crate::members::is_taken;
use crate::{Store, StoreError, damage, nanos};

/// A host as it is kept. The key of its link is sealed at rest.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct HostRecord {
    /// Its name.
    pub name: String,
    /// Its engine's address.
    pub address: String,
    /// For mutual TLS: authority, certificate and key as PEM.
    pub tls: Option<(String, String, String)>,
    /// The address at which people reach what it publishes.
    pub ports_address: Option<String>,
    /// The groups that it is in.
    pub groups: Vec<String>,
}

pub(crate) fn purpose(name: &str) -> String {
    format!("host key of {name}")
}

/// A host as its row has it: name, address, certificates, sealed key, address for published ports, groups.
type Row = (String, String, Option<String>, Option<String>, Option<Vec<u8>>, Option<String>, String);

impl Store {
    /// Adds a host.
    ///
    /// # Errors
    /// [`StoreError::Taken`] when there is one of that name.
    pub fn add_host(&self, host: &HostRecord, now: Timestamp) -> Result<(), StoreError> {
        let sealed = match &host.tls {
            Some((_, _, key)) => Some(self.seal.seal(&purpose(&host.name), key.as_bytes())?),
            None => None,
        };
        let (ca, certificate) = host.tls.as_ref().map(|(ca, c, _)| (ca, c)).unzip();
        let result = self.connection.lock().execute(
            "INSERT INTO hosts (name, address, tls_ca, tls_certificate, tls_key_sealed, added, ports_address, in_groups)
             VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8)",
            params![
                host.name,
                host.address,
                ca,
                certificate,
                sealed,
                nanos(now),
                host.ports_address,
                serde_json::to_string(&host.groups).unwrap_or_default()
            ],
        );
        match result {
            Err(e) if is_taken(&e) => Err(StoreError::Taken(format!("the name '{}'", host.name))),
            other => other.map(|_| ()).map_err(Into::into),
        }
    }

    /// Takes a host out; `false` when nothing has that name.
    ///
    /// # Errors
    /// When the database fails.
    pub fn remove_host(&self, name: &str) -> Result<bool, StoreError> {
        Ok(self.connection.lock().execute("DELETE FROM hosts WHERE name = ?1", [name])? == 1)
    }

    /// Sets where people reach what a host publishes; `false` when there is no such host.
    ///
    /// # Errors
    /// When the database fails.
    pub fn set_ports_address(&self, name: &str, address: Option<&str>) -> Result<bool, StoreError> {
        let query = "UPDATE hosts SET ports_address = ?2 WHERE name = ?1";
        Ok(self.connection.lock().execute(query, params![name, address])? == 1)
    }

    /// Sets the groups that a host is in; `false` when there is no such host.
    ///
    /// # Errors
    /// When the database fails.
    pub fn set_groups(&self, name: &str, groups: &[String]) -> Result<bool, StoreError> {
        let query = "UPDATE hosts SET in_groups = ?2 WHERE name = ?1";
        let text = serde_json::to_string(groups).unwrap_or_default();
        Ok(self.connection.lock().execute(query, params![name, text])? == 1)
    }

    /// All hosts by name.
    ///
    /// # Errors
    /// When the database fails. A host whose key cannot be opened is named in the log and left out.
    pub fn hosts(&self) -> Result<Vec<HostRecord>, StoreError> {
        let rows: Vec<Row> = {
            let connection = self.connection.lock();
            let mut query = connection.prepare(
                "SELECT name, address, tls_ca, tls_certificate, tls_key_sealed, ports_address, in_groups FROM hosts ORDER BY name",
            )?;
            let rows = query.query_map([], |r| {
                Ok((r.get(0)?, r.get(1)?, r.get(2)?, r.get(3)?, r.get(4)?, r.get(5)?, r.get(6)?))
            })?;
            rows.collect::<Result<_, _>>()?
        };
        let (mut found, mut damaged, mut sealed) = (Vec::new(), Vec::new(), 0);
        for row in rows {
            let name = row.0.clone();
            match opened(self, row) {
                Ok(record) => {
                    sealed += usize::from(record.tls.is_some());
                    found.push(record);
                }
                Err(error) => damaged.push((name, error)),
            }
        }
        // Where no key can be opened at all, it is the seal key that is another one: that is no matter of one record.
        if sealed == 0 && damaged.iter().any(|(_, e)| matches!(e, StoreError::Sealed)) {
            return Err(StoreError::Sealed);
        }
        // One whose key cannot be opened does not keep the others from being watched.
        for (name, error) in damaged {
            damage::note("hosts", &format!("host {name}: {error}"));
        }
        Ok(found)
    }
}

fn opened(
    store: &Store,
    (name, address, ca, certificate, sealed, ports_address, groups): Row,
) -> Result<HostRecord, StoreError> {
    let tls = match (ca, certificate, sealed) {
        (Some(ca), Some(certificate), Some(sealed)) => {
            let key = store.seal.open_sealed(&purpose(&name), &sealed)?;
            let key = String::from_utf8(key).map_err(|_| StoreError::Sealed)?;
            Some((ca, certificate, key))
        }
        _ => None,
    };
    // Groups that cannot be read are none: they grant, and never restrict.
    let groups = serde_json::from_str(&groups).unwrap_or_default();
    Ok(HostRecord { name, address, tls, ports_address, groups })
}
