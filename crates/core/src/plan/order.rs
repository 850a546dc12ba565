//! Which targets of an operation wait for which others: the edges of its graph.
//!
//! An operation whose targets wait for nothing is a graph without edges. The executor follows it; recovery goes back on it.

use serde::{Deserialize, Serialize};

use super::Step;

/// What a target waits for before it begins.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct After {
    /// The position of the other target among those of the operation, from 0.
    pub target: u32,
    /// The state the other target has to reach.
    pub until: Until,
}

/// The state a target has to reach for those that wait for it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "lowercase")]
pub enum Until {
    /// Its container was started.
    Started,
    /// All that has to be done for it is done: it is healthy, or has come to its end.
    Over,
}

impl Step {
    /// Whether a container runs once this step is taken.
    pub fn starts(&self) -> bool {
        matches!(self, Self::Start | Self::StartNew | Self::Restart { .. })
    }

    /// Whether there is no way back from this step. In a stack such steps are taken once all else has succeeded.
    pub fn is_final(&self) -> bool {
        matches!(
            self,
            Self::Retire
                | Self::Remove { .. }
                | Self::RemoveNetwork
                | Self::RemoveVolume { .. }
                | Self::RemoveImage { .. }
                | Self::ChangeInPlace
                | Self::Rename { .. }
        )
    }
}
