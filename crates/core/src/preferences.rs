//! Settings of the whole service that members may change, and their notes on what is kept when things are tidied.

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

/// Settings of the whole service that members may change.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields, default)]
pub struct Preferences {
    /// Revision states that are kept of each container.
    pub kept_earlier: u32,
    /// Hours for which a thing must have been unused before tidying offers it.
    pub tidy_after_hours: u32,
    /// Hours for which a thing must have been unused before it can count as safe to remove.
    pub safe_after_hours: u32,
    /// The same for the build cache, since its last use.
    pub cache_safe_after_hours: u32,
    /// Hours between two looks for newer images; 0 for never.
    pub image_check_hours: u32,
    /// The log of a terminal session holds its text.
    pub record_terminals: bool,
    /// Folders of hosts that are mounted may be browsed and changed.
    pub browse_host_folders: bool,
    /// A stack that is not as it was applied is in the attention list.
    pub drift_needs_attention: bool,
    /// Members without a second factor have no rights until they set one up.
    pub second_factor_for_all: bool,
    /// Hours after which a session ends and its member signs in again; sessions that are open keep theirs.
    pub session_hours: u32,
    /// What is asked for before volumes are removed.
    pub guard_remove_volumes: Guard,
    /// What is asked for before a shell or a command as root.
    pub guard_root_shell: Guard,
    /// What is asked for before a container is made that reaches into its host.
    pub guard_host_reach: Guard,
    /// What is asked for before members, roles, invitations and directories change.
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
