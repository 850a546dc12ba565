//! The rules by which log lines are kept: whose, for how long and how much.

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

/// Whose lines are kept.
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

/// Keeps the lines of some containers so that they outlive them.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct KeepRule {
    /// Its number.
    pub id: u64,
    /// Whose lines.
    pub scope: KeepScope,
    /// The container, label, stack or host; empty for all.
    pub value: String,
    /// Lines older than so many days go.
    pub days: u32,
    /// Beyond so many bytes on disk over all its containers the oldest go.
    pub bytes: u64,
    /// Who made it.
    pub member: String,
    /// When.
    #[cfg_attr(feature = "schema", schema(value_type = String, format = DateTime))]
    pub created: Timestamp,
    /// Bytes that its lines take on disk now.
    #[serde(default)]
    pub held: u64,
    /// How many containers it holds lines of.
    #[serde(default)]
    pub containers: u32,
}

/// Asks to keep lines.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct NewKeepRule {
    /// Whose lines.
    pub scope: KeepScope,
    /// The container, label, stack or host; empty for all.
    #[serde(default)]
    pub value: String,
    /// Lines older than so many days go; 1 to 3650.
    pub days: u32,
    /// Beyond so many bytes on disk the oldest go; at least 1 MiB.
    pub bytes: u64,
}
