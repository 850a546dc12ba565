//! Log retention rules: whose lines are kept, for how long and how much.

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

/// The scope of a log retention rule.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "lowercase")]
#[derive(strum::EnumString, strum::IntoStaticStr, strum::VariantArray)]
#[strum(serialize_all = "lowercase")]
pub enum KeepScope {
    /// One container, as `host/name`; wins over all others.
    Container,
    /// Containers with a label, as `name` or `name=value`.
    Label,
    /// A stack.
    Stack,
    /// A host.
    Host,
    /// Every container.
    All,
}

impl KeepScope {
    /// All, the narrowest first.
    pub const ALL: &[Self] = <Self as strum::VariantArray>::VARIANTS;

    /// The word of the API.
    pub fn word(self) -> &'static str {
        self.into()
    }
}

/// A log retention rule: keeps log lines beyond their container's life.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct KeepRule {
    /// Its number.
    pub id: u64,
    /// What the rule covers.
    pub scope: KeepScope,
    /// The container, label, stack or host; empty for all.
    pub value: String,
    /// Retention in days.
    pub days: u32,
    /// Size limit on disk over all containers; the oldest lines are dropped first.
    pub bytes: u64,
    /// Who made it.
    pub member: String,
    /// When.
    #[cfg_attr(feature = "schema", schema(value_type = String, format = DateTime))]
    pub created: Timestamp,
    /// Current size on disk in bytes.
    #[serde(default)]
    pub held: u64,
    /// Number of containers with kept lines.
    #[serde(default)]
    pub containers: u32,
}

/// Adds a log retention rule.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct NewKeepRule {
    /// What the rule covers.
    pub scope: KeepScope,
    /// The container, label, stack or host; empty for all.
    #[serde(default)]
    pub value: String,
    /// Retention in days, 1 to 3650.
    pub days: u32,
    /// Size limit on disk, at least 1 MiB; the oldest lines are dropped first.
    pub bytes: u64,
}
