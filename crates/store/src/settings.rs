//! Log retention rules, and since when objects are unused.

use gubernum_core::assets::AssetKind;
use gubernum_core::fleet::UnusedObject;
use gubernum_core::logs::retention::{KeepRule, NewKeepRule};
use jiff::Timestamp;
use rusqlite::params;

use crate::members::is_taken;
use crate::{Store, StoreError, from_nanos, nanos, odd_word, readable};

impl Store {
    /// All rules, the narrowest first.
    ///
    /// # Errors
    /// When the database fails.
    pub fn keep_rules(&self) -> Result<Vec<KeepRule>, StoreError> {
        let connection = self.connection.lock();
        let mut query = connection
            .prepare("SELECT id, scope, value, days, bytes, member, created FROM keep_rules ORDER BY id")?;
        let rows = query.query_map([], |r| {
            let scope: String = r.get(1)?;
            Ok(KeepRule {
                id: r.get::<_, i64>(0)?.unsigned_abs(),
                scope: scope.parse().map_err(|_| odd_word(1, "scope of a rule", &scope))?,
                value: r.get(2)?,
                days: r.get(3)?,
                bytes: r.get::<_, i64>(4)?.unsigned_abs(),
                member: r.get(5)?,
                created: from_nanos(r.get(6)?),
                held: 0,
                containers: 0,
            })
        })?;
        let mut rules: Vec<KeepRule> = readable("keep_rules", rows)?;
        rules.sort_by_key(|r| (r.scope, r.id));
        Ok(rules)
    }

    /// Adds a rule.
    ///
    /// # Errors
    /// [`StoreError::Taken`] when there is one for the same.
    pub fn add_keep_rule(&self, rule: &NewKeepRule, member: &str, now: Timestamp) -> Result<u64, StoreError> {
        let connection = self.connection.lock();
        let bytes = i64::try_from(rule.bytes).unwrap_or(i64::MAX);
        let result = connection.execute(
            "INSERT INTO keep_rules (scope, value, days, bytes, member, created) VALUES (?1, ?2, ?3, ?4, ?5, ?6)",
            params![rule.scope.word(), rule.value, rule.days, bytes, member, nanos(now)],
        );
        match result {
            Err(e) if is_taken(&e) => {
                Err(StoreError::Taken(format!("the rule for {} '{}'", rule.scope.word(), rule.value)))
            }
            other => {
                other?;
                Ok(connection.last_insert_rowid().unsigned_abs())
            }
        }
    }

    /// Removes a rule; `false` when there is none.
    ///
    /// # Errors
    /// When the database fails.
    pub fn remove_keep_rule(&self, id: u64) -> Result<bool, StoreError> {
        let id = i64::try_from(id).unwrap_or(i64::MAX);
        Ok(self.connection.lock().execute("DELETE FROM keep_rules WHERE id = ?1", [id])? == 1)
    }

    /// Since when things of a host have been unused.
    ///
    /// # Errors
    /// When the database fails.
    pub fn unused(&self, host: &str) -> Result<Vec<UnusedObject>, StoreError> {
        let connection = self.connection.lock();
        let mut query =
            connection.prepare("SELECT kind, key, since, last_user FROM unused WHERE host = ?1")?;
        let rows = query.query_map([host], |r| {
            let word: String = r.get(0)?;
            let kinds = [AssetKind::Image, AssetKind::Volume, AssetKind::Network];
            let kind = kinds.into_iter().find(|k| k.word() == word);
            let kind = kind.ok_or_else(|| odd_word(0, "kind of object", &word))?;
            Ok((kind, r.get(1)?, from_nanos(r.get(2)?), r.get(3)?))
        })?;
        readable("unused", rows)
    }

    /// Remembers since when things of a host have been unused, in place of what was remembered.
    ///
    /// # Errors
    /// When the database fails.
    pub fn set_unused(&self, host: &str, all: &[UnusedObject]) -> Result<(), StoreError> {
        let mut connection = self.connection.lock();
        let transaction = connection.transaction()?;
        transaction.execute("DELETE FROM unused WHERE host = ?1", [host])?;
        for (kind, key, since, user) in all {
            transaction
                .prepare_cached(
                    "INSERT OR REPLACE INTO unused (host, kind, key, since, last_user) VALUES (?1, ?2, ?3, ?4, ?5)",
                )?
                .execute(params![host, kind.word(), key, nanos(*since), user])?;
        }
        transaction.commit()?;
        Ok(())
    }
}
