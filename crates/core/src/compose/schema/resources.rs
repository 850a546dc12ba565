//! The top level of a file besides services: networks, volumes, configs, secrets, includes.

use super::service::SERVICE;
use super::{Entries, Field, Record, Shape, field, refused, short, without_effect};

/// A Compose file.
pub static FILE: Record = Record {
    what: "a Compose file",
    fields: &[
        field("configs", Shape::Map(&Shape::Record(&FILE_SOURCE))),
        field("include", Shape::Entries(&INCLUDES)),
        refused("models", "the engine runs no models"),
        field("name", Shape::Text),
        field("networks", Shape::Map(&Shape::Record(&NETWORK))),
        field("secrets", Shape::Map(&Shape::Record(&FILE_SOURCE))),
        field("services", Shape::Map(&Shape::Record(&SERVICE))),
        without_effect("version", Shape::TextOrNumber, "the specification has dropped versions"),
        field("volumes", Shape::Map(&Shape::Record(&VOLUME))),
    ],
};

static INCLUDES: Entries = Entries {
    long: short::includes,
    key: short::whole_key,
    record: &Record {
        what: "an 'include'",
        fields: &[
            field("env_file", Shape::TextOrTexts),
            field("path", Shape::TextOrTexts),
            field("project_directory", Shape::Text),
        ],
    },
};

const CLUSTER: &str = "it is for a cluster of hosts";

static NETWORK: Record = Record {
    what: "a network",
    fields: &[
        field("attachable", Shape::Truth),
        field("driver", Shape::Text),
        field("driver_opts", Shape::Pairs),
        field("enable_ipv4", Shape::Truth),
        field("enable_ipv6", Shape::Truth),
        field("external", Shape::Short(short::external, &EXTERNAL)),
        field("internal", Shape::Truth),
        field(
            "ipam",
            Shape::Record(&Record {
                what: "'ipam'",
                fields: &[
                    field(
                        "config",
                        Shape::List(&Shape::Record(&Record {
                            what: "an address range",
                            fields: &[
                                field("aux_addresses", Shape::Pairs),
                                field("gateway", Shape::Text),
                                field("ip_range", Shape::Text),
                                field("subnet", Shape::Text),
                            ],
                        })),
                    ),
                    field("driver", Shape::Text),
                    field("options", Shape::Pairs),
                ],
            }),
        ),
        field("labels", Shape::Pairs),
        field("name", Shape::Text),
    ],
};

/// `external: true`, or as older files have it, `external: {name: …}`.
static EXTERNAL: Record = Record { what: "'external'", fields: EXTERNAL_FIELDS };
const EXTERNAL_FIELDS: &[Field] = &[field("is", Shape::Truth), field("name", Shape::Text)];

static VOLUME: Record = Record {
    what: "a volume",
    fields: &[
        field("driver", Shape::Text),
        field("driver_opts", Shape::Pairs),
        field("external", Shape::Short(short::external, &EXTERNAL)),
        field("labels", Shape::Pairs),
        field("name", Shape::Text),
    ],
};

/// A config or a secret.
static FILE_SOURCE: Record = Record {
    what: "a file",
    fields: &[
        field("content", Shape::Text),
        refused("driver", CLUSTER),
        refused("driver_opts", CLUSTER),
        field("environment", Shape::Text),
        field("external", Shape::Short(short::external, &EXTERNAL)),
        field("file", Shape::Text),
        without_effect(
            "labels",
            Shape::Pairs,
            "the file is copied into the containers, so there is no object to label",
        ),
        field("name", Shape::Text),
        refused("template_driver", CLUSTER),
    ],
};
