//! The attribute `deploy`: replicas, resources and updates.

use super::parts::GPU_FIELDS;
use super::{Record, Shape, field, without_effect};

const ONE_HOST: &str = "a stack is deployed to one host";

pub(super) static DEPLOY: Record = Record {
    what: "'deploy'",
    fields: &[
        without_effect("endpoint_mode", Shape::Text, "a service is found by its name in its networks"),
        without_effect(
            "labels",
            Shape::Pairs,
            "they are for cluster services; containers take the service's 'labels'",
        ),
        field("mode", Shape::OneOf(&["global", "global-job", "replicated", "replicated-job"])),
        without_effect("placement", Shape::Anything, ONE_HOST),
        field("replicas", Shape::Whole),
        field("resources", Shape::Record(&RESOURCES)),
        field("restart_policy", Shape::Record(&RESTART_POLICY)),
        without_effect(
            "rollback_config",
            Shape::Record(&CHANGE),
            "the previous containers are kept and restored at once",
        ),
        field("update_config", Shape::Record(&CHANGE)),
    ],
};

static RESOURCES: Record = Record {
    what: "'resources'",
    fields: &[
        field(
            "limits",
            Shape::Record(&Record {
                what: "'limits'",
                fields: &[
                    field("cpus", Shape::Decimal),
                    field("memory", Shape::Size),
                    field("pids", Shape::Whole),
                ],
            }),
        ),
        field(
            "reservations",
            Shape::Record(&Record {
                what: "'reservations'",
                fields: &[
                    without_effect("cpus", Shape::Decimal, ONE_HOST),
                    field(
                        "devices",
                        Shape::List(&Shape::Record(&Record { what: "a device", fields: GPU_FIELDS })),
                    ),
                    without_effect("generic_resources", Shape::Anything, ONE_HOST),
                    field("memory", Shape::Size),
                ],
            }),
        ),
    ],
};

static RESTART_POLICY: Record = Record {
    what: "'restart_policy'",
    fields: &[
        field("condition", Shape::OneOf(&["any", "none", "on-failure"])),
        without_effect("delay", Shape::Span, "the engine chooses the delay"),
        field("max_attempts", Shape::Whole),
        without_effect("window", Shape::Span, "the engine resets its count after ten seconds of running"),
    ],
};

static CHANGE: Record = Record {
    what: "an update configuration",
    fields: &[
        field("delay", Shape::Span),
        field("failure_action", Shape::OneOf(&["continue", "pause", "rollback"])),
        without_effect("max_failure_ratio", Shape::Decimal, "one failed container fails the update"),
        field("monitor", Shape::Span),
        field("order", Shape::OneOf(&["start-first", "stop-first"])),
        field("parallelism", Shape::Whole),
    ],
};
