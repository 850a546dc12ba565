//! How a container runs: image and variables, restart policy, health check, logging.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

/// Pull policy.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "lowercase")]
#[derive(strum::IntoStaticStr)]
#[strum(serialize_all = "lowercase")]
pub enum PullPolicy {
    /// Each time.
    Always,
    /// When the host does not have it.
    #[default]
    Missing,
    /// Never; it must be there.
    Never,
}

impl PullPolicy {
    /// The word used everywhere.
    pub fn word(self) -> &'static str {
        self.into()
    }
}

/// One environment variable.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct EnvironmentEntry {
    /// Its name.
    pub name: String,
    /// The value; the mask when `hidden`.
    #[serde(default)]
    pub value: String,
    /// The value is masked. Sent back masked, it stays as it is in the edited container.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub hidden: bool,
}

/// The restart policy.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct RestartRule {
    /// `no`, `always`, `unless-stopped` or `on-failure`; `no` when empty.
    #[serde(default)]
    pub policy: String,
    /// Retry limit of `on-failure`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub most_tries: Option<u32>,
}

/// A health check.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct HealthRule {
    /// No health check, not even the image's.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub disabled: bool,
    /// `["CMD", "program", …]` or `["CMD-SHELL", "line"]`; the image's when empty.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub test: Vec<String>,
    /// Interval in milliseconds; 30,000 when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub interval_ms: Option<u64>,
    /// Timeout of one check in milliseconds; 30,000 when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub timeout_ms: Option<u64>,
    /// Consecutive failures until unhealthy; 3 when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub retries: Option<u32>,
    /// Start period in milliseconds, in which failures do not count; 0 when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub start_ms: Option<u64>,
    /// Interval during the start period in milliseconds; 5,000 when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub start_interval_ms: Option<u64>,
}

/// Log driver and options.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct LogRule {
    /// Log driver; the engine's default when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub driver: Option<String>,
    /// Driver options, such as `max-size`.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    #[cfg_attr(feature = "schema", schema(value_type = std::collections::HashMap<String, String>))]
    pub options: BTreeMap<String, String>,
}
