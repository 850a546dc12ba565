//! Random definitions for property tests: each setting is present or absent, within what the form and the engines
//! accept.

use std::collections::BTreeMap;

use proptest::collection::{btree_map, btree_set, vec};
use proptest::option::of;
use proptest::prelude::*;
use proptest::sample::select;

use super::*;

/// A word as names of things are made of.
pub(crate) fn word() -> impl Strategy<Value = String> {
    "[a-z][a-z0-9-]{0,8}[a-z0-9]"
}

/// Texts of which each is there once, as lists of the specification have them.
fn each_once(one: impl Strategy<Value = String>, most: usize) -> impl Strategy<Value = Vec<String>> {
    btree_set(one, 0..=most).prop_map(|all| all.into_iter().collect())
}

/// What somebody may write into a field of free text.
fn text() -> impl Strategy<Value = String> {
    prop_oneof![4 => "\\PC{0,12}", 1 => "[$#:'\"{}&*!|>%@` -]{1,6}", 1 => Just("no".to_owned()), 1 => Just("0x1f".to_owned())]
}

/// The same, and not nothing.
fn said() -> impl Strategy<Value = String> {
    prop_oneof!["\\PC{1,12}", "[$#:'\"{}&*!|>%@` -]{1,6}", Just("~".to_owned()), Just("1.50".to_owned())]
}

fn path() -> impl Strategy<Value = String> {
    "(/[a-z0-9_.$-]{1,6}){1,3}"
}

fn texts() -> impl Strategy<Value = BTreeMap<String, String>> {
    btree_map("[a-z][a-z0-9._-]{0,9}", text(), 0..3)
}

fn environment() -> impl Strategy<Value = Vec<EnvironmentEntry>> {
    let names =
        prop_oneof!["[A-Z_][A-Z0-9_]{0,8}", select(vec!["DB_PASSWORD".to_owned(), "API_TOKEN".to_owned()])];
    btree_map(names, text(), 0..5).prop_map(|all| {
        all.into_iter().map(|(name, value)| EnvironmentEntry { name, value, hidden: false }).collect()
    })
}

prop_compose! {
    fn port()(
        address in of(select(vec!["127.0.0.1", "10.0.3.9", "::1", "fd00::7"])), host_port in of(1u16..),
        container_port in 1u16.., protocol in select(vec!["tcp", "udp", "sctp"]),
    ) -> PortRule {
        PortRule { address: address.map(str::to_owned), host_port, host_port_to: None, container_port, protocol: protocol.to_owned() }
    }
}

prop_compose! {
    fn folder()(user in any::<u32>(), group in any::<u32>(), mode in of("[0-7]{3,4}")) -> NewFolder {
        NewFolder { user, group, mode }
    }
}

fn mount() -> impl Strategy<Value = MountRule> {
    let blank = |kind, source, target, read_only| MountRule {
        kind,
        source,
        target,
        read_only,
        ..MountRule::default()
    };
    prop_oneof![
        (of(word()), path(), any::<bool>()).prop_map(move |(source, target, ro)| blank(
            MountKind::Volume,
            source,
            target,
            ro
        )),
        (word(), path(), any::<bool>(), of(word())).prop_map(move |(source, target, no_copy, subpath)| {
            MountRule { no_copy, subpath, ..blank(MountKind::Volume, Some(source), target, false) }
        }),
        (
            path(),
            path(),
            any::<bool>(),
            of(folder()),
            of(select(vec!["rslave", "shared", "private"])),
            of(select(vec!["z", "Z"]))
        )
            .prop_map(move |(source, target, ro, make, spread, selinux)| MountRule {
                make,
                propagation: spread.map(str::to_owned),
                selinux: selinux.map(str::to_owned),
                ..blank(MountKind::Bind, Some(source), target, ro)
            }),
        (path(), of(1u64..1 << 40), of("[1-7][0-7]{2,3}")).prop_map(move |(target, size, mode)| MountRule {
            size,
            mode,
            ..blank(MountKind::Tmpfs, None, target, false)
        }),
        ("[a-z]{2,6}:[0-9]", path(), of(word())).prop_map(move |(image, target, subpath)| MountRule {
            subpath,
            ..blank(MountKind::Image, Some(image), target, false)
        }),
    ]
}

/// Mounts, of which none is twice in one place; what a volume is made with is the same wherever it is mounted.
fn mounts() -> impl Strategy<Value = Vec<MountRule>> {
    (vec(mount(), 0..4), of(word()), texts()).prop_map(|(mut all, driver, options)| {
        let mut seen = std::collections::BTreeSet::new();
        all.retain(|m| seen.insert(m.target.clone()));
        for m in all.iter_mut().filter(|m| m.kind == MountKind::Volume && m.source.is_some()) {
            m.driver.clone_from(&driver);
            m.options.clone_from(&options);
        }
        all
    })
}

fn restart() -> impl Strategy<Value = RestartRule> {
    prop_oneof![
        select(vec!["", "no", "always", "unless-stopped", "on-failure"])
            .prop_map(|p| RestartRule { policy: p.to_owned(), most_tries: None }),
        (1u32..99).prop_map(|n| RestartRule { policy: "on-failure".to_owned(), most_tries: Some(n) }),
    ]
}

prop_compose! {
    fn health()(
        disabled in any::<bool>(), shell in any::<bool>(), words in vec(said(), 0..3), interval_ms in of(1u64..10_000_000),
        timeout_ms in of(1u64..10_000_000), retries in of(1u32..100), start_ms in of(0u64..10_000_000),
        start_interval_ms in of(1u64..10_000_000),
    ) -> HealthRule {
        if disabled {
            return HealthRule { disabled, ..HealthRule::default() };
        }
        let test = match &words[..] {
            [] => Vec::new(),
            words if shell => vec!["CMD-SHELL".to_owned(), words.join(" ")],
            words => std::iter::once("CMD".to_owned()).chain(words.iter().cloned()).collect(),
        };
        HealthRule { disabled, test, interval_ms, timeout_ms, retries, start_ms, start_interval_ms }
    }
}

fn rates() -> impl Strategy<Value = Vec<BlockDeviceRate>> {
    vec(("/dev/[a-z]{2,5}", 1u64..1 << 40), 0..2)
        .prop_map(|all| all.into_iter().map(|(path, rate)| BlockDeviceRate { path, rate }).collect())
}

prop_compose! {
    fn block()(
        weight in of(10u16..=1000), weights in vec(("/dev/[a-z]{2,5}", 10u16..=1000), 0..2),
        (read_bytes, write_bytes, reads, writes) in (rates(), rates(), rates(), rates()),
    ) -> BlockLimits {
        let weights = weights.into_iter().map(|(path, weight)| BlockDeviceWeight { path, weight }).collect();
        BlockLimits { weight, weights, read_bytes, write_bytes, reads, writes }
    }
}

prop_compose! {
    fn limits()(
        memory in of(1u64 << 22..1 << 45), memory_and_swap in of(prop_oneof![Just(-1i64), 1i64 << 22..1 << 45]),
        memory_reserved in of(1u64 << 22..1 << 45), shared_memory in of(1u64..1 << 45), quarters in of(1u32..512),
        processor_weight in of(2u32..262_144), processor_set in of("[0-9](-[0-9])?(,[0-9])?"),
        processes in of(prop_oneof![Just(-1i64), 1i64..1 << 22]),
        each in btree_map(select(vec!["nofile", "nproc", "core", "memlock"]), (-1i64..1 << 40, -1i64..1 << 40), 0..3),
        out_of_memory_score in of(-1000i32..=1000), waits_for_memory in any::<bool>(), swappiness in of(0u8..=100),
        (processor_period, processor_quota) in (of(1000u64..1_000_000), of(-1i64..1_000_000)),
        (real_time_period, real_time_runtime) in (of(1u64..1_000_000), of(1u64..1_000_000)), control_group in of(path()),
        block in block(),
    ) -> Limits {
        let each_process =
            each.into_iter().map(|(name, (soft, hard))| ProcessLimit { name: name.to_owned(), soft, hard }).collect();
        let processors = quarters.map(|q| f64::from(q) / 4.0);
        Limits {
            memory, memory_and_swap, memory_reserved, shared_memory, processors, processor_weight, processor_set, processes,
            each_process, out_of_memory_score, waits_for_memory, swappiness, processor_period, processor_quota,
            real_time_period, real_time_runtime, control_group, block,
        }
    }
}

fn device() -> impl Strategy<Value = DeviceRule> {
    ("/dev/[a-z]{2,5}", of("/dev/x[a-z]{2,5}"), of(select(vec!["r", "rw", "rwm"]))).prop_map(
        |(host, container, may)| DeviceRule { host, container, permissions: may.map(str::to_owned) },
    )
}

fn gpus() -> impl Strategy<Value = GpuRule> {
    (of(word()), prop_oneof![Just(Ok(-1i64)), (0i64..9).prop_map(Ok), vec(word(), 1..3).prop_map(Err)])
        .prop_map(|(driver, which)| match which {
            Ok(count) => GpuRule { count: Some(count), driver, ..GpuRule::default() },
            Err(ids) => GpuRule { ids, driver, ..GpuRule::default() },
        })
}

prop_compose! {
    fn rights()(
        privileged in any::<bool>(), read_only in any::<bool>(), add in each_once("[A-Z]{3,5}_[A-Z]{3,6}", 2),
        drop in each_once(Just("ALL".to_owned()), 1), devices in vec(device(), 0..3), gpus in of(gpus()),
        security in each_once("[a-z]{1,6}:[a-z]{1,6}", 2), groups in each_once(prop_oneof![word(), "[0-9]{1,4}"], 2),
        kernel in btree_map("net\\.[a-z]{1,6}\\.[a-z]{1,6}", "[0-9]{1,4}( [0-9]{1,4})?", 0..3),
        processes_of in of(Just("host".to_owned())), memory_of in of(select(vec!["host".to_owned(), "shareable".to_owned()])),
        users_of in of(Just("host".to_owned())), hostname_of in of(Just("host".to_owned())),
        groups_of in of(select(vec!["host".to_owned(), "private".to_owned()])), device_rules in each_once("c 1:[0-9] mr", 1),
    ) -> Rights {
        Rights {
            privileged, read_only, add, drop, devices, gpus, security, groups, kernel, processes_of, memory_of, users_of,
            hostname_of, groups_of, device_rules,
        }
    }
}

fn joined() -> impl Strategy<Value = Vec<NetworkConnection>> {
    let more = (
        each_once("169\\.254\\.8\\.[1-9]", 1),
        of("02:42:ac:12:00:[0-9a-f]{2}"),
        texts(),
        of(any::<i64>()),
        of(word()),
    );
    let one = (each_once(word(), 2), of("10\\.[0-9]\\.[0-9]\\.[1-9]"), of("fd00::[1-9a-f]{1,4}"), more);
    btree_map(word(), one, 0..3).prop_map(|all| {
        all.into_iter()
            .map(|(name, (aliases, address, ipv6, more))| {
                let (link_local, hardware_address, options, gateway_priority, interface) = more;
                NetworkConnection {
                    name,
                    aliases,
                    address,
                    ipv6,
                    link_local,
                    hardware_address,
                    options,
                    gateway_priority,
                    interface,
                }
            })
            .collect()
    })
}

prop_compose! {
    fn network()(
        own in any::<bool>(), mode in of(prop_oneof![Just("host".to_owned()), Just("none".to_owned()), "container:[a-z]{3,6}"]),
        joined in joined(), dns in each_once("9\\.9\\.9\\.[0-9]", 2), dns_search in each_once("[a-z]{2,5}\\.example", 1),
        dns_options in each_once("ndots:[0-9]", 1), hosts in each_once("(gate|[a-z]{2,5}):10\\.0\\.0\\.[1-9]", 3),
        hardware_address in of("02:42:ac:11:00:[0-9a-f]{2}"),
    ) -> NetworkRule {
        let (mode, networks) = if own { (None, joined) } else { (mode, Vec::new()) };
        NetworkRule { mode, networks, dns, dns_search, dns_options, hosts, hardware_address }
    }
}

prop_compose! {
    fn process()(
        entrypoint in of(vec(said(), 1..3)), command in of(vec(text(), 1..4)), environment in environment(), user in of(said()),
        working_folder in of(path()), hostname in of(word()), domain in of(word()), stop_signal in of(select(vec!["SIGINT", "SIGUSR1"])),
        grace_seconds in of(0u32..100_000), init in any::<Option<bool>>(), terminal in any::<bool>(), input in any::<bool>(),
    ) -> Definition {
        Definition {
            entrypoint, command, environment, user, working_folder, hostname, domain, grace_seconds, init, terminal, input,
            stop_signal: stop_signal.map(str::to_owned), ..Definition::default()
        }
    }
}

prop_compose! {
    /// A definition with any of its settings. Its parts are boxed: moved about as they are, they are too large for a
    /// test's stack.
    pub(crate) fn definition()(
        base in process().boxed(), image in "[a-z]{2,6}/[a-z]{2,6}:[0-9]\\.[0-9]", name in word(),
        pull in select(vec![PullPolicy::Always, PullPolicy::Missing, PullPolicy::Never]),
        platform in of(select(vec!["linux/amd64".to_owned(), "linux/arm64".to_owned()])), (labels, annotations) in (texts(), texts()), ports in vec(port(), 0..4),
        open in each_once("[1-9][0-9]{1,3}/(tcp|udp)", 2), (mounts, restart, health) in (mounts(), restart(), of(health())).boxed(),
        (limits, rights, network) in (limits(), rights(), network()).boxed(), auto_remove in any::<bool>(), log in (of(word()), texts()),
        (runtime, storage) in (of(word()), texts()),
    ) -> Definition {
        let log = LogRule { driver: log.0, options: log.1 };
        Definition {
            image, name, pull, platform, labels, ports, open, mounts, restart, health, auto_remove, limits, rights, network, log, runtime, storage,
            annotations, ..base
        }
    }
}
