//! What podman writes into its records of what nobody asked for, and how what was asked for is told from that.
//!
//! Its addresses are in `addresses`.

use std::collections::BTreeSet;

use gubernum_core::definition::ProcessLimit;

/// The capabilities that podman gives by itself.
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
/// Its records tell what differs from these and the above together.
const BESIDE: [&str; 3] = ["AUDIT_WRITE", "MKNOD", "NET_RAW"];
/// Open files and processes of each process that podman gives by itself.
const USUAL_LIMITS: [(&str, &[i64]); 2] =
    [("nofile", &[1_048_576]), ("nproc", &[1_048_576, 4_194_304, 32_768])];

/// From the capabilities that a record names as added and as dropped, those that were asked for. Where most are dropped, all
/// are, and what is left is added: that holds whatever the host's usual ones are.
pub(crate) fn capabilities(added: &[String], dropped: &[String]) -> (Vec<String>, Vec<String>) {
    let bare = |c: &String| c.strip_prefix("CAP_").unwrap_or(c).to_owned();
    let given: BTreeSet<String> = GIVEN.into_iter().map(str::to_owned).collect();
    let beside = BESIDE.into_iter().map(str::to_owned);
    let mut held: BTreeSet<String> =
        given.iter().cloned().chain(beside).chain(added.iter().map(bare)).collect();
    for capability in dropped.iter().map(bare) {
        if capability == "ALL" {
            held = added.iter().map(bare).collect();
            break;
        }
        held.remove(&capability);
    }
    let missing: Vec<String> = given.difference(&held).cloned().collect();
    if missing.len() * 2 > given.len() {
        return (held.into_iter().collect(), vec!["ALL".to_owned()]);
    }
    (held.difference(&given).cloned().collect(), missing)
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
    #[case::given_by_the_host("", "CAP_AUDIT_WRITE CAP_MKNOD", "NET_RAW", "")]
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
        /// Asked for again, it holds what it held, neither more nor less.
        #[test]
        fn nothing_is_gained_or_lost(held in prop::collection::btree_set(
            prop::sample::select(GIVEN.into_iter().chain(BESIDE).chain(["NET_ADMIN", "SYS_TIME", "SYS_PTRACE"]).map(str::to_owned).collect::<Vec<_>>()),
            0..17,
        )) {
            let (added, dropped) = recorded(&held);
            let (add, drop) = capabilities(&added, &dropped);
            let mut again: BTreeSet<String> =
                if drop == ["ALL"] { BTreeSet::new() } else { GIVEN.into_iter().map(str::to_owned).collect() };
            again.retain(|c| !drop.contains(c));
            again.extend(add);
            prop_assert_eq!(again, held);
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
