//! The shared context of the team.

use std::sync::Arc;

use crate::clock::Clock;
use crate::storage::Db;
use crate::team::{Freezes, Team};

/// The context of the team.
pub(crate) struct TeamContext {
    pub(crate) db: Db,
    pub(crate) clock: Clock,
    pub(crate) freezes: Arc<Freezes>,
    pub(crate) team: Arc<Team>,
}
