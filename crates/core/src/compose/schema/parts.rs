//! Attributes inside a service: ports, volumes, dependencies, health checks, builds and the like.

use crate::compose::read::OWNER_KEY;

use super::{Entries, Field, Record, Shape, WINDOWS, field, refused, short, without_effect};

/// The words for the condition of a dependency.
const CONDITIONS: &[&str] = &["service_started", "service_healthy", "service_completed_successfully"];

pub(super) static DEPENDENCY: Record = Record {
    what: "a dependency",
    fields: &[
        field("condition", Shape::OneOf(CONDITIONS)),
        field("required", Shape::Truth),
        field("restart", Shape::Truth),
    ],
};

pub(super) static SCHEDULE: Record = Record {
    what: "a schedule",
    fields: &[
        field("concurrency", Shape::OneOf(&["forbid", "allow", "replace"])),
        field("cron", Shape::Text),
        field("keep", Shape::Whole),
        field("missed_runs", Shape::OneOf(&["skip", "once"])),
        field("time_zone", Shape::Text),
        field("timeout", Shape::Span),
    ],
};

pub(super) static NETWORK: Record = Record {
    what: "a network of a service",
    fields: &[
        field("aliases", Shape::Texts),
        field("driver_opts", Shape::Pairs),
        field("gw_priority", Shape::Whole),
        field("interface_name", Shape::Text),
        field("ipv4_address", Shape::Text),
        field("ipv6_address", Shape::Text),
        field("link_local_ips", Shape::Texts),
        field("mac_address", Shape::Text),
        without_effect("priority", Shape::Whole, "the engine connects networks in the order of their names"),
    ],
};

pub(super) static PORTS: Entries = Entries {
    long: short::ports,
    key: short::port_key,
    record: &Record {
        what: "a port",
        fields: &[
            without_effect("app_protocol", Shape::Text, "it is a hint for other programs"),
            field("host_ip", Shape::Text),
            without_effect(
                "mode",
                Shape::OneOf(&["host", "ingress"]),
                "ports are always published on the one host",
            ),
            without_effect("name", Shape::Text, "it is a comment"),
            field("protocol", Shape::OneOf(&["tcp", "udp", "sctp"])),
            field("published", Shape::TextOrNumber),
            field("target", Shape::Whole),
        ],
    },
};

pub(super) static VOLUMES: Entries = Entries {
    long: short::volumes,
    key: short::target_key,
    record: &Record {
        what: "a volume of a service",
        fields: &[
            field(
                "bind",
                Shape::Record(&Record {
                    what: "a bind mount",
                    fields: &[
                        field("create_host_path", Shape::Truth),
                        field("propagation", Shape::Text),
                        field("recursive", Shape::Text),
                        field("selinux", Shape::OneOf(&["z", "Z"])),
                        field(OWNER_KEY, Shape::Text),
                    ],
                }),
            ),
            without_effect("consistency", Shape::Text, "Linux hosts have only one consistency"),
            field(
                "image",
                Shape::Record(&Record { what: "an image mount", fields: &[field("subpath", Shape::Text)] }),
            ),
            field("read_only", Shape::Truth),
            field("source", Shape::Text),
            field("target", Shape::Text),
            field(
                "tmpfs",
                Shape::Record(&Record {
                    what: "a tmpfs mount",
                    fields: &[field("mode", Shape::FileMode), field("size", Shape::Bytes)],
                }),
            ),
            field("type", Shape::OneOf(&["bind", "cluster", "image", "npipe", "tmpfs", "volume"])),
            field(
                "volume",
                Shape::Record(&Record {
                    what: "a volume mount",
                    fields: &[
                        field("labels", Shape::Pairs),
                        field("nocopy", Shape::Truth),
                        field("subpath", Shape::Text),
                    ],
                }),
            ),
        ],
    },
};

/// The entries of `configs` and `secrets` of a service.
pub(super) static FILE_REFERENCES: Entries = Entries {
    long: short::file_references,
    key: short::file_key,
    record: &Record {
        what: "a service's file",
        fields: &[
            field("gid", Shape::Text),
            field("mode", Shape::FileMode),
            field("source", Shape::Text),
            field("target", Shape::Text),
            field("uid", Shape::Text),
        ],
    },
};

pub(super) static DEVICES: Entries = Entries {
    long: short::devices,
    key: short::target_key,
    record: &Record {
        what: "a device",
        fields: &[
            field("permissions", Shape::Text),
            field("source", Shape::Text),
            field("target", Shape::Text),
        ],
    },
};

pub(super) static ENV_FILES: Entries = Entries {
    long: short::env_files,
    key: short::whole_key,
    record: &Record {
        what: "an env file",
        fields: &[
            field("format", Shape::OneOf(&["raw"])),
            field("path", Shape::Text),
            field("required", Shape::Truth),
        ],
    },
};

pub(super) static GPUS: Entries = Entries {
    long: short::gpus,
    key: short::whole_key,
    record: &Record { what: "a GPU reservation", fields: GPU_FIELDS },
};

/// Also what `deploy.resources.reservations.devices` has.
pub(super) const GPU_FIELDS: &[Field] = &[
    field("capabilities", Shape::Texts),
    field("count", Shape::TextOrNumber),
    field("device_ids", Shape::Texts),
    field("driver", Shape::Text),
    field("options", Shape::Pairs),
];

pub(super) static EXTENDS: Record =
    Record { what: "'extends'", fields: &[field("file", Shape::Text), field("service", Shape::Text)] };

pub(super) static HEALTHCHECK: Record = Record {
    what: "a health check",
    fields: &[
        field("disable", Shape::Truth),
        field("interval", Shape::Span),
        field("retries", Shape::Whole),
        field("start_interval", Shape::Span),
        field("start_period", Shape::Span),
        field("test", Shape::Command),
        field("timeout", Shape::Span),
    ],
};

pub(super) static HOOK: Record = Record {
    what: "a hook",
    fields: &[
        field("command", Shape::Command),
        field("environment", Shape::Pairs),
        field("privileged", Shape::Truth),
        field("user", Shape::Text),
        field("working_dir", Shape::Text),
    ],
};

pub(super) static LOGGING: Record =
    Record { what: "'logging'", fields: &[field("driver", Shape::Text), field("options", Shape::Pairs)] };

pub(super) static ULIMIT: Record =
    Record { what: "a limit", fields: &[field("hard", Shape::Whole), field("soft", Shape::Whole)] };

/// A limit of a block device.
static DEVICE_RATE: Record =
    Record { what: "a device limit", fields: &[field("path", Shape::Text), field("rate", Shape::Bytes)] };

static DEVICE_WEIGHT: Record =
    Record { what: "a device weight", fields: &[field("path", Shape::Text), field("weight", Shape::Whole)] };

pub(super) static BLKIO: Record = Record {
    what: "'blkio_config'",
    fields: &[
        field("device_read_bps", Shape::List(&Shape::Record(&DEVICE_RATE))),
        field("device_read_iops", Shape::List(&Shape::Record(&DEVICE_RATE))),
        field("device_write_bps", Shape::List(&Shape::Record(&DEVICE_RATE))),
        field("device_write_iops", Shape::List(&Shape::Record(&DEVICE_RATE))),
        field("weight", Shape::Whole),
        field("weight_device", Shape::List(&Shape::Record(&DEVICE_WEIGHT))),
    ],
};

/// What only another builder than the engine's can do.
const BUILDER: &str = "the engine's builder does not support it";

pub(super) static BUILD: Record = Record {
    what: "a build",
    fields: &[
        refused("additional_contexts", BUILDER),
        field("args", Shape::Pairs),
        field("cache_from", Shape::Texts),
        without_effect("cache_to", Shape::Texts, "the engine's cache is used"),
        field("context", Shape::Text),
        field("dockerfile", Shape::Text),
        field("dockerfile_inline", Shape::Text),
        refused("entitlements", BUILDER),
        field("extra_hosts", Shape::Pairs),
        without_effect("isolation", Shape::Text, WINDOWS),
        field("labels", Shape::Pairs),
        field("network", Shape::Text),
        field("no_cache", Shape::Truth),
        field("no_cache_filter", Shape::TextOrTexts),
        field("platforms", Shape::Texts),
        refused("privileged", BUILDER),
        without_effect("provenance", Shape::Anything, BUILDER),
        field("pull", Shape::Truth),
        without_effect("sbom", Shape::Anything, BUILDER),
        refused("secrets", BUILDER),
        field("shm_size", Shape::Bytes),
        refused("ssh", BUILDER),
        field("tags", Shape::Texts),
        field("target", Shape::Text),
        field("ulimits", Shape::Map(&Shape::Short(short::ulimit, &ULIMIT))),
    ],
};
