//! Preferences: settings of the service that members change, and objects protected from tidying.

use serde::{Deserialize, Serialize};

use crate::guard::Guard;
use crate::plan::TidyPiece;

/// A member's word that something is to be kept when things are tidied.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct KeepNote {
    /// What is kept.
    #[serde(flatten)]
    pub piece: TidyPiece,
    /// Why.
    pub text: String,
    /// Who said so.
    pub member: String,
}

/// Service settings.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields, default)]
pub struct Preferences {
    /// Earlier revisions kept for each container.
    pub kept_earlier: u32,
    /// Hours unused until tidy suggests an object.
    pub tidy_after_hours: u32,
    /// Hours unused until an object counts as safe to remove.
    pub safe_after_hours: u32,
    /// The same for the build cache.
    pub cache_safe_after_hours: u32,
    /// Hours between checks for newer images; 0 for never.
    pub image_check_hours: u32,
    /// Record the output of terminal sessions.
    pub record_terminals: bool,
    /// Allow browsing and changing bind-mounted host folders.
    pub browse_host_folders: bool,
    /// List drifted stacks in the attention list.
    pub drift_needs_attention: bool,
    /// Members without a second factor have no rights until they set one up.
    pub second_factor_for_all: bool,
    /// Hours until a session ends; open sessions keep theirs.
    pub session_hours: u32,
    /// What removing volumes requires.
    pub guard_remove_volumes: Guard,
    /// What a root shell or command requires.
    pub guard_root_shell: Guard,
    /// What creating a container with access to its host requires.
    pub guard_host_reach: Guard,
    /// What changing members, roles, invitations and directories requires.
    pub guard_members: Guard,
}

impl Default for Preferences {
    fn default() -> Self {
        Self {
            kept_earlier: 5,
            tidy_after_hours: 0,
            safe_after_hours: 24 * 7,
            cache_safe_after_hours: 24,
            image_check_hours: 6,
            record_terminals: false,
            browse_host_folders: false,
            drift_needs_attention: true,
            second_factor_for_all: false,
            session_hours: 24 * 7,
            guard_remove_volumes: Guard::None,
            guard_root_shell: Guard::None,
            guard_host_reach: Guard::None,
            guard_members: Guard::None,
        }
    }
}
