//! Freezes: a member blocks changes to a part of the fleet, with a reason and for a while. Other members and
//! automation change nothing there meanwhile; the author may.

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use crate::fleet::Fleet;
use crate::rights::{Place, Scope};
use crate::text::shown;

/// The longest reason, in characters.
pub const LONGEST_REASON: usize = 500;
/// The longest time for which something is frozen, in hours.
pub const MOST_HOURS: u32 = 24 * 90;
/// The most freezes at once.
pub const MOST_FREEZES: usize = 500;

/// A freeze: changes to a part of the fleet are blocked.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Freeze {
    /// Its number.
    pub id: u64,
    /// The part of the fleet, such as `fleet`, `host:packhouse` or `stack:orchard`.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub scope: Scope,
    /// The reason.
    pub reason: String,
    /// Who set it; this member can still make changes.
    pub member: String,
    /// When it was set.
    #[cfg_attr(feature = "schema", schema(value_type = String, format = DateTime))]
    pub created: Timestamp,
    /// When it ends automatically.
    #[cfg_attr(feature = "schema", schema(value_type = String, format = DateTime))]
    pub until: Timestamp,
}

impl Freeze {
    /// Whether it holds somebody off from changing what is there.
    pub fn holds(&self, place: &Place<'_>, member: &str, now: Timestamp) -> bool {
        now < self.until && self.member != member && self.scope.covers(place)
    }

    /// What somebody is told who is held off.
    pub fn refusal(&self, on: &str) -> String {
        format!(
            "{} is frozen by {} until {}: {}. Wait, ask {}, or have an admin lift it",
            shown(on, 120),
            self.member,
            self.until.strftime("%Y-%m-%d %H:%M UTC"),
            self.reason.trim_end_matches('.'),
            self.member
        )
    }

    /// Whether it is about anything in a view, so that it is shown to those with that view.
    pub fn concerns(&self, view: &Fleet) -> bool {
        if self.scope == Scope::Fleet {
            return true;
        }
        let on_host = |name: &str, groups: &[String]| self.scope.covers(&Place::host(name, groups));
        view.hosts().any(|host| on_host(&host.name, &host.groups))
            || view.containers().any(|c| self.scope.covers(&Place::container(c, view.groups_of(&c.host))))
    }
}

/// The first freeze that holds somebody off from changing what is there.
pub fn held_off<'a>(
    freezes: &'a [Freeze],
    place: &Place<'_>,
    member: &str,
    now: Timestamp,
) -> Option<&'a Freeze> {
    freezes.iter().find(|freeze| freeze.holds(place, member, now))
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    fn at(second: i64) -> Timestamp {
        Timestamp::from_second(1_800_000_000 + second).unwrap()
    }

    fn freeze(scope: &str) -> Freeze {
        Freeze {
            id: 1,
            scope: scope.parse().unwrap(),
            reason: "the count of the harvest runs.".to_owned(),
            member: "mara".to_owned(),
            created: at(0),
            until: at(100),
        }
    }

    #[rstest]
    #[case::others("fleet", "jory", 1, true)]
    #[case::whoever_set_it("fleet", "mara", 1, false)]
    #[case::until_its_end("fleet", "jory", 99, true)]
    #[case::after_its_end("fleet", "jory", 100, false)]
    #[case::the_host("host:packhouse", "jory", 1, true)]
    #[case::another_host("host:coldstore", "jory", 1, false)]
    #[case::the_stack("stack:orchard", "jory", 1, true)]
    #[case::another_stack("stack:ledger", "jory", 1, false)]
    fn a_freeze_holds_others_off(
        #[case] scope: &str,
        #[case] member: &str,
        #[case] second: i64,
        #[case] held: bool,
    ) {
        let freezes = [freeze(scope)];
        let place = Place::stack("packhouse", &[], "orchard");
        assert_eq!(held_off(&freezes, &place, member, at(second)).is_some(), held);
    }

    #[test]
    fn whoever_is_held_off_hears_who_until_when_and_why() {
        let sentence = freeze("fleet").refusal("packhouse/orchard-web");
        for words in
            ["packhouse/orchard-web", "mara", "2027-01-15 08:01", "the count of the harvest runs. Wait"]
        {
            assert!(sentence.contains(words), "{words}: {sentence}");
        }
    }

    #[test]
    fn a_freeze_concerns_those_who_see_something_of_it() {
        let mut fleet = Fleet::new();
        let added = crate::fleet::Observation::HostAdded {
            name: "packhouse".into(),
            address: String::new(),
            link: "socket".into(),
            ports_address: None,
        };
        fleet.apply(added, at(0));
        assert!(freeze("host:packhouse").concerns(&fleet) && freeze("fleet").concerns(&fleet));
        assert!(!freeze("host:coldstore").concerns(&fleet) && !freeze("stack:orchard").concerns(&fleet));
    }
}
