//! Snoozes: a reason of the attention list that a member hid for a while, for the whole team. Another reason on the
//! same object is still listed.

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use crate::note::NotedObject;

/// The longest reason, in characters.
pub const LONGEST_REASON: usize = 500;
/// The longest time for which something is set aside, in hours.
pub const MOST_HOURS: u32 = 24 * 30;
/// The most snoozes at once.
pub const MOST_SNOOZES: usize = 2000;

/// A snoozed attention item.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Snooze {
    /// Its number.
    pub id: u64,
    /// The object, such as `container:packhouse/orchard-web`; `fleet` for the service itself.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub on: NotedObject,
    /// The code of the snoozed reason, such as `unhealthy`.
    pub code: String,
    /// The reason.
    pub reason: String,
    /// Who snoozed it.
    pub member: String,
    /// When.
    #[cfg_attr(feature = "schema", schema(value_type = String, format = DateTime))]
    pub created: Timestamp,
    /// Until when.
    #[cfg_attr(feature = "schema", schema(value_type = String, format = DateTime))]
    pub until: Timestamp,
}

impl Snooze {
    /// Whether it sets aside this reason on this object now.
    pub fn covers(&self, on: &NotedObject, code: &str, now: Timestamp) -> bool {
        now < self.until && self.code == code && self.on == *on
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    fn at(second: i64) -> Timestamp {
        Timestamp::from_second(1_800_000_000 + second).unwrap()
    }

    #[rstest]
    #[case::it("container:packhouse/orchard-web", "unhealthy", 1, true)]
    #[case::another_reason("container:packhouse/orchard-web", "out-of-memory", 1, false)]
    #[case::another_container("container:packhouse/orchard-api", "unhealthy", 1, false)]
    #[case::until_its_end("container:packhouse/orchard-web", "unhealthy", 99, true)]
    #[case::after_its_end("container:packhouse/orchard-web", "unhealthy", 100, false)]
    fn a_snooze_sets_one_reason_on_one_object_aside(
        #[case] on: &str,
        #[case] code: &str,
        #[case] second: i64,
        #[case] covered: bool,
    ) {
        let snooze = Snooze {
            id: 1,
            on: "container:packhouse/orchard-web".parse().unwrap(),
            code: "unhealthy".to_owned(),
            reason: "the encoder comes on Tuesday".to_owned(),
            member: "mara".to_owned(),
            created: at(0),
            until: at(100),
        };
        assert_eq!(snooze.covers(&on.parse().unwrap(), code, at(second)), covered);
    }
}
