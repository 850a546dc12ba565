//! Reads what a service has besides its container: replicas, dependencies, build, update settings and schedule.

use super::Reader;
use super::fields::{command, decimal, flag, items, pairs, size, span, text, texts};
use crate::compose::model::{Build, Change, Condition, FileUse, Hook, MountsOf, Need, Service};
use crate::definition::units::millis;
use crate::jobs::{LONGEST_TIMEOUT_SECONDS, MOST_KEPT, SCHEDULE_KEY, Schedule, times};
use crate::text::shown;
use crate::yaml::{Key, Node, Value};

/// The most containers of one service.
const MOST_REPLICAS: i64 = 1000;

impl Reader {
    pub(super) fn service(&mut self, key: &Key, node: &Node) -> Service {
        let deploy = node.get("deploy");
        let mode = deploy.and_then(|d| text(d, "mode"));
        let mut service = Service {
            container: self.container(key, node),
            has_fixed_name: text(node, "container_name").is_some(),
            replicas: self.replicas(node),
            is_job: mode.is_some_and(|mode| mode.ends_with("-job")),
            needs: node.get("depends_on").map(Node::entries).unwrap_or_default().iter().map(need).collect(),
            links: texts(node, "links").iter().map(|link| parted(link)).collect(),
            volumes_from: texts(node, "volumes_from").iter().map(|from| mounts_of(from)).collect(),
            configs: items(node, "configs").iter().filter_map(|file| self.file_use(file, "")).collect(),
            secrets: items(node, "secrets")
                .iter()
                .filter_map(|file| self.file_use(file, "/run/secrets"))
                .collect(),
            update: deploy.and_then(|d| d.get("update_config")).map(|c| self.change(c)).unwrap_or_default(),
            rollback: deploy
                .and_then(|d| d.get("rollback_config"))
                .map(|c| self.change(c))
                .unwrap_or_default(),
            before_start: hooks(node, "pre_start"),
            after_start: hooks(node, "post_start"),
            before_stop: hooks(node, "pre_stop"),
            ..Service::default()
        };
        service.build = node.get("build").map(|build| self.build(build));
        service.schedule =
            node.get(SCHEDULE_KEY).and_then(|schedule| self.schedule(schedule, node, &service));
        self.pull(node, &mut service);
        if service.has_fixed_name && service.replicas > 1 {
            let place = node.get("container_name").unwrap_or(node);
            self.tell(place.wrong("a service with 'container_name' can have one replica only; remove 'container_name', or scale to 1"));
        }
        if service.container.image.is_empty() && service.build.is_none() {
            self.tell(key.wrong(format!("'{}' has neither 'image' nor 'build'", shown(key, 60))));
        }
        service
    }

    fn replicas(&mut self, node: &Node) -> u32 {
        let deploy = node.get("deploy");
        let replicas = deploy.and_then(|d| self.between(d, "replicas", 0, MOST_REPLICAS));
        let scale = self.between(node, "scale", 0, MOST_REPLICAS);
        if let (Some(replicas), Some(scale), Some(place)) = (replicas, scale, node.get("scale"))
            && replicas != scale
        {
            let sentence = format!("'scale' is {scale}, 'deploy.replicas' is {replicas}; keep one");
            self.tell(place.wrong(sentence));
        }
        scale.or(replicas).unwrap_or(1)
    }

    /// When it is run; what cannot be a job has no schedule.
    fn schedule(&mut self, node: &Node, of: &Node, service: &Service) -> Option<Schedule> {
        let usual = Schedule::default();
        let longest = u64::from(LONGEST_TIMEOUT_SECONDS) * 1000;
        let timeout = span(node, "timeout").unwrap_or(u64::from(usual.timeout_seconds) * 1000);
        if !(1000..=longest).contains(&timeout) {
            let place = node.get("timeout").unwrap_or(node);
            self.tell(place.wrong("'timeout' must be from 1 s to 24 h, for example '30m'"));
        }
        let schedule = Schedule {
            cron: text(node, "cron").map(|cron| cron.split_whitespace().collect::<Vec<_>>().join(" ")),
            time_zone: text(node, "time_zone").unwrap_or(usual.time_zone),
            concurrency: word(node, "concurrency"),
            missed_runs: word(node, "missed_runs"),
            timeout_seconds: u32::try_from(timeout / 1000).unwrap_or(usual.timeout_seconds),
            keep: self.between(node, "keep", 1, i64::from(MOST_KEPT)).unwrap_or(usual.keep),
        };
        let cron = schedule.cron.as_deref().unwrap_or("0 0 * * *");
        if let Err(sentence) = times(cron, &schedule.time_zone) {
            let place = node.get("cron").or_else(|| node.get("time_zone")).unwrap_or(node);
            self.tell(place.wrong(sentence));
        }
        if matches!(service.container.restart.policy.as_str(), "always" | "unless-stopped") {
            let place = of.get("restart").or_else(|| of.get("deploy")).unwrap_or(node);
            self.tell(place.wrong("a job runs to its end and is not restarted; remove 'restart'"));
        }
        if service.replicas > 1 {
            let place = of.get("scale").or_else(|| of.get("deploy")).unwrap_or(node);
            self.tell(place.wrong("a job has one container at a time; remove the replica count"));
        }
        Some(schedule)
    }

    fn change(&mut self, node: &Node) -> Change {
        Change {
            at_once: self.between(node, "parallelism", 0, MOST_REPLICAS),
            pause_ms: span(node, "delay"),
            on_failure: text(node, "failure_action").and_then(|word| word.parse().ok()),
            watch_ms: span(node, "monitor"),
            may_fail: decimal(node, "max_failure_ratio"),
            starts_first: text(node, "order").map(|order| order == "start-first"),
        }
    }

    fn file_use(&mut self, node: &Node, folder: &str) -> Option<FileUse> {
        let Some(source) = text(node, "source") else {
            self.tell(node.wrong("a service's config or secret needs a 'source'"));
            return None;
        };
        let target = match text(node, "target") {
            Some(target) if target.starts_with('/') => target,
            Some(target) => format!("{folder}/{target}"),
            None => format!("{folder}/{source}"),
        };
        let mode = super::fields::file_mode(node, "mode");
        Some(FileUse {
            source,
            target,
            user: self.number(node, "uid"),
            group: self.number(node, "gid"),
            mode,
        })
    }

    fn build(&mut self, node: &Node) -> Build {
        let platforms = texts(node, "platforms");
        if platforms.len() > 1
            && let Some(place) = items(node, "platforms").get(1)
        {
            let sentence = "a host builds for one platform; keep the host's, or none";
            self.tell(place.wrong(sentence));
        }
        if let (Some(_), Some(second)) = (node.get("dockerfile"), node.get("dockerfile_inline")) {
            self.tell(second.wrong("'dockerfile' and 'dockerfile_inline' exclude each other; keep one"));
        }
        let arguments = node.get("args").map(Node::entries).unwrap_or_default().iter();
        let argument =
            |(key, value): &(Key, Node)| (key.text.clone(), value.scalar().map(std::borrow::Cow::into_owned));
        Build {
            context: text(node, "context").unwrap_or_default(),
            file: text(node, "dockerfile"),
            steps: text(node, "dockerfile_inline"),
            arguments: arguments.map(argument).collect(),
            cache_from: texts(node, "cache_from"),
            hosts: hosts(node),
            labels: pairs(node, "labels"),
            network: text(node, "network"),
            without_cache: flag(node, "no_cache").unwrap_or(false)
                || !texts(node, "no_cache_filter").is_empty(),
            pull: flag(node, "pull").unwrap_or(false),
            platform: platforms.into_iter().next(),
            shared_memory: size(node, "shm_size"),
            tags: texts(node, "tags"),
            target: text(node, "target"),
            each_process: self.process_limits(node),
            always: false,
        }
    }

    /// When the image is fetched: `always`, `missing`, `never`, `build`, `daily`, `weekly`, `every_12h`.
    fn pull(&mut self, node: &Node, service: &mut Service) {
        use crate::definition::PullPolicy;
        const DAY: u64 = 86_400_000;
        let again = span(node, "pull_refresh_after");
        service.fetched_again_after_ms = again;
        let Some(policy) = node.get("pull_policy") else { return };
        let Value::Text(word) = &policy.value else { return };
        let mut after = None;
        service.container.pull = match word.as_str() {
            "always" => PullPolicy::Always,
            "missing" | "if_not_present" | "refresh" => PullPolicy::Missing,
            "never" => PullPolicy::Never,
            "build" => {
                match &mut service.build {
                    Some(build) => build.always = true,
                    None => {
                        self.tell(policy.wrong("'pull_policy' is 'build', but the service has no 'build'"))
                    }
                }
                PullPolicy::Missing
            }
            "daily" => {
                after = Some(DAY);
                PullPolicy::Missing
            }
            "weekly" => {
                after = Some(7 * DAY);
                PullPolicy::Missing
            }
            other => {
                after = other.strip_prefix("every_").and_then(weeks_and_less);
                if after.is_none() {
                    self.tell(policy.wrong(format!(
                        "'pull_policy' must be always, missing, never, build, daily, weekly or an interval such as 'every_12h', not '{}'",
                        shown(other, 40)
                    )));
                }
                PullPolicy::Missing
            }
        };
        service.fetched_again_after_ms = after.or(again);
    }
}

/// A duration in which weeks may appear too.
fn weeks_and_less(text: &str) -> Option<u64> {
    match text.split_once('w') {
        Some((weeks, rest)) => {
            let weeks = weeks.parse::<u64>().ok()?.checked_mul(7 * 86_400_000)?;
            if rest.is_empty() { Some(weeks) } else { weeks.checked_add(millis(rest)?) }
        }
        None => millis(text),
    }
}

fn need((key, node): &(Key, Node)) -> (String, Need) {
    let condition = text(node, "condition").and_then(|word| word.parse::<Condition>().ok());
    let need = Need {
        condition: condition.unwrap_or_default(),
        restart: flag(node, "restart").unwrap_or(false),
        required: flag(node, "required").unwrap_or(true),
    };
    (key.text.clone(), need)
}

fn parted(link: &str) -> (String, String) {
    let (service, name) = link.split_once(':').unwrap_or((link, link));
    (service.to_owned(), name.to_owned())
}

/// `SERVICE[:ro]` or `container:NAME[:ro]`.
fn mounts_of(text: &str) -> MountsOf {
    let (of, read_only) = match text.rsplit_once(':') {
        Some((of, "ro")) => (of, true),
        Some((of, "rw")) => (of, false),
        _ => (text, false),
    };
    MountsOf { of: of.to_owned(), read_only }
}

fn hooks(node: &Node, name: &str) -> Vec<Hook> {
    let hook = |node: &Node| Hook {
        command: command(node, "command").unwrap_or_default(),
        user: text(node, "user"),
        privileged: flag(node, "privileged").unwrap_or(false),
        working_folder: text(node, "working_dir"),
        environment: pairs(node, "environment"),
    };
    items(node, name).iter().map(hook).collect()
}

/// A word of a fixed set; the usual one when it is not there.
fn word<T: std::str::FromStr + Default>(node: &Node, name: &str) -> T {
    text(node, name).and_then(|word| word.parse().ok()).unwrap_or_default()
}

/// Names with their addresses, as `name:address`.
pub(super) fn hosts(node: &Node) -> Vec<String> {
    let mut all = Vec::new();
    for (name, address) in node.get("extra_hosts").map(Node::entries).unwrap_or_default() {
        let bare =
            |text: std::borrow::Cow<'_, str>| text.trim_start_matches('[').trim_end_matches(']').to_owned();
        match &address.value {
            Value::List(items) => {
                all.extend(items.iter().filter_map(Node::scalar).map(|a| format!("{name}:{}", bare(a))));
            }
            _ => all.extend(address.scalar().map(|a| format!("{name}:{}", bare(a)))),
        }
    }
    all
}
