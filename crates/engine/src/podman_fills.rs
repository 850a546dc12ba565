//! Values that podman adds to its records unasked, and how they are told apart from what was requested.
//!
//! Its addresses are in `addresses`.

use std::collections::BTreeSet;

use gubernum_core::definition::ProcessLimit;

/// The capabilities that podman gives by itself everywhere.
const GIVEN: [&str; 11] = [
    "CHOWN",
    "DAC_OVERRIDE",
    "FOWNER",
    "FSETID",
    "KILL",
    "NET_BIND_SERVICE",
    "SETFCAP",
    "SETGID",
    "SETPCAP",
    "SETUID",
    "SYS_CHROOT",
];
/// Those that it gives besides on some hosts. Its records tell what differs from both together.
const BESIDE: [&str; 3] = ["AUDIT_WRITE", "MKNOD", "NET_RAW"];
/// Open files and processes of each process that podman gives by itself.
const USUAL_LIMITS: [(&str, &[i64]); 2] =
    [("nofile", &[1_048_576]), ("nproc", &[1_048_576, 4_194_304, 32_768])];

/// What a container holds and does not hold, from the capabilities that its record names as added and as dropped.
struct Capabilities {
    held: BTreeSet<String>,
    add: Vec<String>,
    drop: Vec<String>,
}

impl Capabilities {
    fn from_wish(added: &[String], dropped: &[String]) -> Self {
        let added: BTreeSet<String> = added.iter().map(|c| bare(c)).collect();
        let mut held: BTreeSet<String> = known().chain(added.iter().cloned()).collect();
        for capability in dropped.iter().map(|c| bare(c)) {
            if capability == "ALL" {
                held.clone_from(&added);
                break;
            }
            held.remove(&capability);
        }
        // Hosts give the few or all of them: what is nearer to what it holds is what was not asked for.
        let few: BTreeSet<String> = GIVEN.into_iter().map(str::to_owned).collect();
        let all: BTreeSet<String> = known().collect();
        let far = |given: &BTreeSet<String>| held.symmetric_difference(given).count();
        let given = if far(&all) < far(&few) { all } else { few };
        let missing: Vec<String> = given.difference(&held).cloned().collect();
        let (add, drop) = if missing.len() * 2 > given.len() {
            (held.iter().cloned().collect(), vec!["ALL".to_owned()])
        } else {
            (held.difference(&given).cloned().collect(), missing)
        };
        Self { held, add, drop }
    }
}

fn known() -> impl Iterator<Item = String> {
    GIVEN.into_iter().chain(BESIDE).map(str::to_owned)
}

fn bare(capability: &str) -> String {
    capability.strip_prefix("CAP_").unwrap_or(capability).to_owned()
}

/// From the capabilities that a record names as added and as dropped, those that were asked for. Where most are dropped, all
/// are, and what is left is added.
pub(crate) fn capabilities(added: &[String], dropped: &[String]) -> (Vec<String>, Vec<String>) {
    let Capabilities { add, drop, .. } = Capabilities::from_wish(added, dropped);
    (add, drop)
}

/// What is not told as dropped and is not held either: dropped again it stays so, whatever the host gives.
pub(crate) fn silently_missing(added: &[String], dropped: &[String]) -> Vec<String> {
    let Capabilities { held, drop, .. } = Capabilities::from_wish(added, dropped);
    if drop == ["ALL"] {
        return Vec::new();
    }
    known().filter(|c| !held.contains(c) && !drop.contains(c)).collect()
}

/// Limits of each process that were asked for.
pub(crate) fn process_limits(all: Vec<ProcessLimit>) -> Vec<ProcessLimit> {
    all.into_iter()
        .map(|l| ProcessLimit { name: l.name.trim_start_matches("RLIMIT_").to_ascii_lowercase(), ..l })
        .filter(|l| {
            let usual = USUAL_LIMITS.iter().find(|(name, _)| *name == l.name);
            !usual.is_some_and(|(_, values)| l.soft == l.hard && values.contains(&l.soft))
        })
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    fn words(text: &str) -> Vec<String> {
        text.split_whitespace().map(str::to_owned).collect()
    }

    /// What podman 4.3 on Debian writes for these words of its own client.
    #[rstest]
    #[case::nothing("", "CAP_AUDIT_WRITE CAP_MKNOD CAP_NET_RAW", "", "")]
    #[case::drop_all(
        "",
        "CAP_AUDIT_WRITE CAP_CHOWN CAP_DAC_OVERRIDE CAP_FOWNER CAP_FSETID CAP_KILL CAP_MKNOD CAP_NET_BIND_SERVICE CAP_NET_RAW CAP_SETFCAP CAP_SETGID CAP_SETPCAP CAP_SETUID CAP_SYS_CHROOT",
        "",
        "ALL"
    )]
    #[case::drop_all_and_add(
        "",
        "CAP_AUDIT_WRITE CAP_DAC_OVERRIDE CAP_FOWNER CAP_FSETID CAP_KILL CAP_MKNOD CAP_NET_BIND_SERVICE CAP_NET_RAW CAP_SETFCAP CAP_SETGID CAP_SETPCAP CAP_SETUID CAP_SYS_CHROOT",
        "CHOWN",
        "ALL"
    )]
    #[case::one_for_another(
        "CAP_NET_ADMIN",
        "CAP_AUDIT_WRITE CAP_CHOWN CAP_MKNOD CAP_NET_RAW",
        "NET_ADMIN",
        "CHOWN"
    )]
    #[case::one_more("", "CAP_AUDIT_WRITE CAP_MKNOD", "NET_RAW", "")]
    #[case::where_all_are_given("", "", "", "")]
    #[case::one_less_where_all_are_given("", "CAP_NET_RAW", "", "NET_RAW")]
    #[case::as_it_was_asked("CAP_KILL", "ALL", "KILL", "ALL")]
    fn capabilities_that_were_asked_for(
        #[case] added: &str,
        #[case] dropped: &str,
        #[case] add: &str,
        #[case] drop: &str,
    ) {
        assert_eq!(capabilities(&words(added), &words(dropped)), (words(add), words(drop)));
    }

    /// What podman writes for a container that holds these.
    fn recorded(held: &BTreeSet<String>) -> (Vec<String>, Vec<String>) {
        let measure: BTreeSet<String> = GIVEN.into_iter().chain(BESIDE).map(str::to_owned).collect();
        let named = |c: &String| format!("CAP_{c}");
        (held.difference(&measure).map(named).collect(), measure.difference(held).map(named).collect())
    }

    proptest! {
        /// Asked for again on any host, nothing is gained; on one that gives what was taken for given, nothing is lost.
        #[test]
        fn nothing_is_gained_or_lost(held in prop::collection::btree_set(
            prop::sample::select(known().chain(["NET_ADMIN", "SYS_TIME", "SYS_PTRACE"].map(str::to_owned)).collect::<Vec<_>>()),
            0..17,
        )) {
            let (added, dropped) = recorded(&held);
            let (add, mut drop) = capabilities(&added, &dropped);
            drop.extend(silently_missing(&added, &dropped));
            let again = |given: BTreeSet<String>| -> BTreeSet<String> {
                let given = if drop.iter().any(|d| d == "ALL") { BTreeSet::new() } else { given };
                given.into_iter().filter(|c| !drop.contains(c)).chain(add.clone()).collect()
            };
            let (few, all) = (again(GIVEN.into_iter().map(str::to_owned).collect()), again(known().collect()));
            prop_assert!(few.is_subset(&held) && all.is_subset(&held));
            prop_assert!(few == held || all == held);
        }
    }

    #[test]
    fn limits_that_were_asked_for() {
        let limit = |name: &str, soft, hard| ProcessLimit { name: name.into(), soft, hard };
        let usual = vec![limit("RLIMIT_NOFILE", 1_048_576, 1_048_576), limit("RLIMIT_NPROC", 32_768, 32_768)];
        assert_eq!(process_limits(usual), []);
        let asked = vec![limit("RLIMIT_NOFILE", 1024, 2048), limit("RLIMIT_NPROC", 1_048_576, 1_048_576)];
        assert_eq!(process_limits(asked), [limit("nofile", 1024, 2048)]);
        assert_eq!(process_limits(vec![limit("RLIMIT_CORE", 0, 0)]), [limit("core", 0, 0)]);
    }
}
