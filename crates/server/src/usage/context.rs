//! The shared context of resource usage.

use std::sync::Arc;

use crate::clock::Clock;
use crate::usage::Uses;

/// The context of resource usage.
pub(crate) struct UsageContext {
    pub(crate) clock: Clock,
    pub(crate) uses: Arc<Uses>,
}
