//! Resource usage over the live connection: which containers are watched, and how often they are sampled.

use gubernum_api::usage::{CurrentUsage, UsageSubscription};
use gubernum_core::reference::Reference;

use crate::fleet::View;
use crate::live::LiveContext;
use crate::live::LiveError;
use crate::usage::Watching;

/// The most references of one selection.
const MOST_REFERENCES: usize = 200;

/// One selection that a connection looks at. Dropping it ends the looking.
pub(crate) struct UseSubscription {
    references: Vec<Reference>,
    _watching: Watching,
}

impl UseSubscription {
    /// Begins to look.
    pub(crate) fn begin(
        context: &LiveContext,
        view: &View,
        wish: &UsageSubscription,
    ) -> Result<Self, LiveError> {
        if wish.references.is_empty() || wish.references.len() > MOST_REFERENCES {
            let sentence = format!("name 1 to {MOST_REFERENCES} references; '*/*' means every container");
            return Err(LiveError::Invalid { field: "/wish/references", sentence });
        }
        let references =
            wish.references.iter().map(|r| r.parse::<Reference>()).collect::<Result<Vec<_>, _>>();
        let references =
            references.map_err(|source| LiveError::Reference { field: "/wish/references", source })?;
        let keys = view.look(|fleet| {
            let wanted = fleet.containers().filter(|c| references.iter().any(|r| r.matches_name(c)));
            wanted.map(|c| (c.host.clone(), c.id.clone())).collect()
        });
        Ok(Self { references, _watching: context.uses.watch(keys) })
    }

    /// Whether a sample is of what is looked at.
    pub(crate) fn wants(&self, sample: &CurrentUsage) -> bool {
        self.references.iter().any(|r| r.matches(&sample.host, &sample.name))
    }
}
