//! Reads the container attributes of a service into a definition, the same as the form for one container has.

use super::Reader;
use super::fields::{command, decimal, flag, items, pairs, size, span, text, texts};
use super::service::hosts;
use crate::definition::{
    BlockDeviceRate, BlockDeviceWeight, BlockLimits, Definition, DeviceRule, EnvironmentEntry, GpuRule,
    HealthRule, Limits, LogRule, NetworkConnection, NetworkRule, PortRule, ProcessLimit, RestartRule, Rights,
};
use crate::mask::MASK;
use crate::text::shown;
use crate::yaml::{Key, Node, Value};

/// Our own key for what the specification has no word for: to whom a folder belongs that is made for a bind mount.
pub(crate) const OWNER_KEY: &str = "x-gubernum-owner";
/// Our own key: the engine removes the container when it ends.
pub(crate) const AUTO_REMOVE_KEY: &str = "x-gubernum-auto-remove";

impl Reader {
    pub(super) fn container(&mut self, key: &Key, node: &Node) -> Definition {
        Definition {
            image: text(node, "image").unwrap_or_default(),
            name: text(node, "container_name").unwrap_or_else(|| key.text.clone()),
            platform: text(node, "platform"),
            entrypoint: command(node, "entrypoint"),
            command: command(node, "command"),
            environment: environment(node),
            user: text(node, "user"),
            working_folder: text(node, "working_dir"),
            hostname: text(node, "hostname"),
            domain: text(node, "domainname"),
            labels: pairs(node, "labels"),
            annotations: pairs(node, "annotations"),
            ports: items(node, "ports").iter().filter_map(|port| self.port(port)).collect(),
            open: self.open(node),
            mounts: self.mounts(node),
            restart: self.restart(node),
            health: node.get("healthcheck").and_then(|h| self.health(h)),
            grace_seconds: span(node, "stop_grace_period")
                .map(|ms| u32::try_from(ms.div_ceil(1000)).unwrap_or(u32::MAX)),
            stop_signal: text(node, "stop_signal"),
            auto_remove: flag(node, AUTO_REMOVE_KEY).unwrap_or(false),
            init: flag(node, "init"),
            terminal: flag(node, "tty").unwrap_or(false),
            input: flag(node, "stdin_open").unwrap_or(false),
            limits: self.limits(node),
            rights: self.rights(node),
            network: self.networks(node),
            log: node
                .get("logging")
                .map(|log| LogRule { driver: text(log, "driver"), options: pairs(log, "options") })
                .unwrap_or_default(),
            runtime: text(node, "runtime"),
            storage: pairs(node, "storage_opt"),
            ..Definition::default()
        }
    }

    fn port(&mut self, node: &Node) -> Option<PortRule> {
        let container_port = match node.get("target") {
            Some(_) => self.between(node, "target", 1, 65535)?,
            None => {
                self.tell(node.wrong("a port needs a 'target', the port in the container"));
                return None;
            }
        };
        let mut rule = PortRule {
            address: text(node, "host_ip"),
            host_port: None,
            host_port_to: None,
            container_port,
            protocol: text(node, "protocol").unwrap_or_else(|| "tcp".to_owned()),
        };
        let Some(published) = text(node, "published").filter(|p| !p.is_empty() && p != "0") else {
            return Some(rule);
        };
        let (from, to) = published.split_once('-').unwrap_or((&published, &published));
        match (from.trim().parse::<u16>(), to.trim().parse::<u16>()) {
            (Ok(from), Ok(to)) if from > 0 && from <= to => {
                rule.host_port = Some(from);
                rule.host_port_to = (to > from).then_some(to);
            }
            _ => {
                let place = node.get("published").unwrap_or(node);
                self.tell(place.wrong(format!(
                    "'published' must be a port from 1 to 65535 or a range such as '8000-8010', not '{}'",
                    shown(&published, 40)
                )));
            }
        }
        Some(rule)
    }

    /// Ports that are only said to be open; of a range each one.
    fn open(&mut self, node: &Node) -> Vec<String> {
        let mut all = Vec::new();
        for item in items(node, "expose") {
            let Some(written) = item.scalar() else { continue };
            let (ports, protocol) = written.split_once('/').unwrap_or((&written, "tcp"));
            let (from, to) = ports.split_once('-').unwrap_or((ports, ports));
            match (from.parse::<u16>(), to.parse::<u16>()) {
                (Ok(from), Ok(to)) if from > 0 && from <= to && to - from < 1000 => {
                    all.extend((from..=to).map(|port| format!("{port}/{protocol}")));
                }
                _ => self.tell(item.wrong(format!(
                    "'{}' is not a port; write a number from 1 to 65535, or a range of at most 1000 such as '8000-8010'",
                    shown(&written, 40)
                ))),
            }
        }
        all
    }

    fn restart(&mut self, node: &Node) -> RestartRule {
        if let Some(policy) = node.get("deploy").and_then(|d| d.get("restart_policy")) {
            let most_tries = self.between(policy, "max_attempts", 0, 1_000_000).filter(|n| *n > 0);
            return match text(policy, "condition").as_deref() {
                Some("none") => RestartRule { policy: "no".to_owned(), most_tries: None },
                Some("on-failure") => RestartRule { policy: "on-failure".to_owned(), most_tries },
                _ => RestartRule { policy: "always".to_owned(), most_tries: None },
            };
        }
        let Some(written) = text(node, "restart") else { return RestartRule::default() };
        let (policy, most) = written.split_once(':').map_or((written.as_str(), None), |(p, n)| (p, Some(n)));
        let most_tries = most.map(str::parse::<u32>);
        let known = matches!(policy, "no" | "always" | "unless-stopped" | "on-failure");
        if !known || matches!(most_tries, Some(Err(_))) || (most.is_some() && policy != "on-failure") {
            let place = node.get("restart").unwrap_or(node);
            self.tell(place.wrong(format!(
                "'restart' must be no, always, unless-stopped, on-failure or 'on-failure:5', not '{}'",
                shown(&written, 40)
            )));
        }
        RestartRule { policy: policy.to_owned(), most_tries: most_tries.and_then(Result::ok) }
    }

    fn health(&mut self, node: &Node) -> Option<HealthRule> {
        // An empty mapping says nothing.
        if node.entries().is_empty() {
            return None;
        }
        let mut rule = HealthRule {
            disabled: flag(node, "disable").unwrap_or(false),
            test: texts(node, "test"),
            interval_ms: span(node, "interval"),
            timeout_ms: span(node, "timeout"),
            retries: self.between(node, "retries", 0, 1_000_000),
            start_ms: span(node, "start_period"),
            start_interval_ms: span(node, "start_interval"),
        };
        match rule.test.first().map(String::as_str) {
            Some("NONE") => (rule.disabled, rule.test) = (true, Vec::new()),
            Some("CMD" | "CMD-SHELL") | None => {}
            Some(_) => {
                let place = node.get("test").unwrap_or(node);
                self.tell(place.wrong(
                    "'test' must start with 'CMD', 'CMD-SHELL' or 'NONE'; a string is run by a shell",
                ));
            }
        }
        Some(rule)
    }

    pub(super) fn process_limits(&mut self, node: &Node) -> Vec<ProcessLimit> {
        let entries = node.get("ulimits").map(Node::entries).unwrap_or_default();
        let mut limit = |(key, limit): &(Key, Node)| {
            let (soft, hard) = (self.number(limit, "soft"), self.number(limit, "hard"));
            let (Some(soft), Some(hard)) = (soft, hard) else {
                if limit.get("soft").is_none() || limit.get("hard").is_none() {
                    self.tell(key.wrong(format!("'{key}' needs a 'soft' and a 'hard' limit")));
                }
                return None;
            };
            Some(ProcessLimit { name: key.text.clone(), soft, hard })
        };
        entries.iter().filter_map(&mut limit).collect()
    }

    fn limits(&mut self, node: &Node) -> Limits {
        let resources = node.get("deploy").and_then(|d| d.get("resources"));
        let (most, reserved) =
            (resources.and_then(|r| r.get("limits")), resources.and_then(|r| r.get("reservations")));
        let swap = match text(node, "memswap_limit").as_deref().map(str::trim) {
            Some("-1") => Some(-1),
            _ => size(node, "memswap_limit").map(|bytes| i64::try_from(bytes).unwrap_or(i64::MAX)),
        };
        Limits {
            memory: self.one_of(node, "mem_limit", most, "memory", size).filter(|bytes| *bytes > 0),
            memory_and_swap: swap.filter(|bytes| *bytes != 0),
            memory_reserved: self
                .one_of(node, "mem_reservation", reserved, "memory", size)
                .filter(|bytes| *bytes > 0),
            shared_memory: size(node, "shm_size"),
            processors: self.one_of(node, "cpus", most, "cpus", decimal).filter(|share| *share > 0.0),
            processor_weight: self.between(node, "cpu_shares", 0, 1 << 18).filter(|weight: &u32| *weight > 0),
            processor_set: text(node, "cpuset"),
            processes: match most.and_then(|m| self.number(m, "pids")) {
                Some(most) => Some(most),
                None => self.number(node, "pids_limit"),
            },
            each_process: self.process_limits(node),
            out_of_memory_score: self.between(node, "oom_score_adj", -1000, 1000),
            waits_for_memory: flag(node, "oom_kill_disable").unwrap_or(false),
            swappiness: self.between(node, "mem_swappiness", 0, 100),
            processor_period: self.microseconds(node, "cpu_period").filter(|n: &u64| *n > 0),
            processor_quota: self.microseconds(node, "cpu_quota").filter(|n: &i64| *n != 0),
            real_time_period: self.microseconds(node, "cpu_rt_period").filter(|n: &u64| *n > 0),
            real_time_runtime: self.microseconds(node, "cpu_rt_runtime").filter(|n: &u64| *n > 0),
            control_group: text(node, "cgroup_parent"),
            block: node.get("blkio_config").map(|block| self.block(block)).unwrap_or_default(),
        }
    }

    /// A limit that may appear in two places: the same in both, or in one.
    fn one_of<T: PartialEq>(
        &mut self,
        node: &Node,
        name: &str,
        newer: Option<&Node>,
        newer_name: &str,
        read: fn(&Node, &str) -> Option<T>,
    ) -> Option<T> {
        let (older, newer_value) = (read(node, name), newer.and_then(|n| read(n, newer_name)));
        if let (Some(a), Some(b), Some(place)) = (&older, &newer_value, node.get(name))
            && a != b
        {
            self.tell(
                place.wrong(format!("'{name}' and '{newer_name}' of 'deploy.resources' differ; keep one")),
            );
        }
        newer_value.or(older)
    }

    fn block(&mut self, node: &Node) -> BlockLimits {
        let rates = |name: &str| {
            let rate =
                |item: &Node| Some(BlockDeviceRate { path: text(item, "path")?, rate: size(item, "rate")? });
            items(node, name).iter().filter_map(rate).collect()
        };
        let (read_bytes, write_bytes) = (rates("device_read_bps"), rates("device_write_bps"));
        let (reads, writes) = (rates("device_read_iops"), rates("device_write_iops"));
        let mut weights = Vec::new();
        for item in items(node, "weight_device") {
            if let (Some(path), Some(weight)) = (text(item, "path"), self.between(item, "weight", 10, 1000)) {
                weights.push(BlockDeviceWeight { path, weight });
            }
        }
        let weight = self.between(node, "weight", 0, 1000).filter(|weight: &u16| *weight > 0);
        BlockLimits { weight, weights, read_bytes, write_bytes, reads, writes }
    }

    fn rights(&mut self, node: &Node) -> Rights {
        let devices = items(node, "devices").iter().filter_map(|device| {
            let host = text(device, "source")?;
            let container = text(device, "target").filter(|target| *target != host);
            Some(DeviceRule { container, permissions: text(device, "permissions"), host })
        });
        Rights {
            privileged: flag(node, "privileged").unwrap_or(false),
            read_only: flag(node, "read_only").unwrap_or(false),
            add: texts(node, "cap_add"),
            drop: texts(node, "cap_drop"),
            devices: devices.collect(),
            device_rules: texts(node, "device_cgroup_rules"),
            gpus: self.gpus(node),
            security: texts(node, "security_opt"),
            groups: texts(node, "group_add"),
            kernel: pairs(node, "sysctls"),
            processes_of: text(node, "pid"),
            memory_of: text(node, "ipc"),
            hostname_of: text(node, "uts"),
            groups_of: text(node, "cgroup"),
            users_of: text(node, "userns_mode"),
        }
    }

    fn gpus(&mut self, node: &Node) -> Option<GpuRule> {
        let reserved =
            node.get("deploy").and_then(|d| d.get("resources")).and_then(|r| r.get("reservations"));
        let wanted: Vec<&Node> = items(node, "gpus")
            .iter()
            .chain(reserved.map(|r| items(r, "devices")).unwrap_or_default())
            .collect();
        let (first, more) = wanted.split_first()?;
        if let Some(second) = more.first() {
            self.tell(second.wrong("only one GPU reservation is supported; merge the entries"));
        }
        let all = |count: &str| count == "all";
        let count = match text(first, "count") {
            Some(count) if all(&count) => Some(-1),
            Some(_) => self.between(first, "count", -1, 10_000),
            None => None,
        };
        let ids = texts(first, "device_ids");
        if count.is_some() && !ids.is_empty() {
            self.tell(first.wrong("'device_ids' and 'count' exclude each other; keep one"));
        }
        let abilities = texts(first, "capabilities").into_iter().filter(|word| word != "gpu").collect();
        Some(GpuRule {
            // Who says neither means all of them.
            count: count.or_else(|| ids.is_empty().then_some(-1)),
            ids,
            driver: text(first, "driver"),
            abilities,
            options: pairs(first, "options"),
        })
    }

    fn networks(&mut self, node: &Node) -> NetworkRule {
        let mode = text(node, "network_mode").filter(|mode| mode != "bridge" && mode != "default");
        let named = node.get("networks").filter(|n| !n.entries().is_empty());
        if let (Some(_), Some(networks)) = (&mode, named) {
            let sentence = "'network_mode' and 'networks' exclude each other; keep one";
            self.tell(networks.wrong(sentence));
        }
        let mut networks: Vec<NetworkConnection> = Vec::new();
        for (key, settings) in named.map(Node::entries).unwrap_or_default() {
            if !super::is_key(key) {
                self.tell(key.wrong(format!("'{}' is not a valid network name", shown(key, 60))));
            }
            networks.push(NetworkConnection {
                name: key.text.clone(),
                aliases: texts(settings, "aliases"),
                address: text(settings, "ipv4_address"),
                ipv6: text(settings, "ipv6_address"),
                link_local: texts(settings, "link_local_ips"),
                hardware_address: text(settings, "mac_address"),
                options: pairs(settings, "driver_opts"),
                gateway_priority: self.number(settings, "gw_priority"),
                interface: text(settings, "interface_name"),
            });
        }
        let is_plain = text(node, "network_mode").is_some_and(|mode| mode == "bridge");
        if networks.is_empty() && mode.is_none() && !is_plain {
            networks.push(NetworkConnection { name: "default".to_owned(), ..NetworkConnection::default() });
        }
        NetworkRule {
            mode,
            networks,
            dns: texts(node, "dns"),
            dns_search: texts(node, "dns_search"),
            dns_options: texts(node, "dns_opt"),
            hosts: hosts(node),
            hardware_address: text(node, "mac_address"),
        }
    }
}

fn environment(node: &Node) -> Vec<EnvironmentEntry> {
    let entries = node.get("environment").map(Node::entries).unwrap_or_default();
    let entry = |(key, value): &(Key, Node)| {
        let text = match &value.value {
            Value::Null => String::new(),
            _ => value.scalar().map(std::borrow::Cow::into_owned).unwrap_or_default(),
        };
        EnvironmentEntry { name: key.text.clone(), hidden: text == MASK, value: text }
    };
    entries.iter().map(entry).collect()
}
