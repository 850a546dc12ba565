//! The demo's past: what the growers' operators did in the last day, so that its lists have entries.

use gubernum_api::timeline::{EventKind, TimelineEvent};
use gubernum_core::container::Container;
use gubernum_core::journal::{Target, TargetState};
use gubernum_core::operation_filter::OperationFilter;
use gubernum_core::plan::lifecycle::{plan_restart, plan_start, plan_stop};
use gubernum_core::plan::request::{RestartRequest, StartRequest, StopRequest};
use gubernum_core::plan::{Request, TargetPlan};
use gubernum_store::audit::NewEntry;
use gubernum_store::journal::NewOperation;
use gubernum_store::{Store, StoreError};
use jiff::{SignedDuration, Timestamp};

/// The demo's members; all have the same password.
pub(crate) const MEMBERS: [&str; 3] = ["mara", "jory", "tess"];

#[derive(Clone, Copy)]
enum Change {
    Start,
    Stop,
    Restart,
}

struct PastAction {
    minutes_ago: i64,
    member: &'static str,
    change: Change,
    reference: &'static str,
    targets: &'static [(&'static str, &'static str)],
    failure: Option<&'static str>,
}

const DEEDS: &[PastAction] = &[
    PastAction {
        minutes_ago: 1270,
        member: "tess",
        change: Change::Restart,
        reference: "office/ledger-web-1",
        targets: &[("office", "ledger-web-1")],
        failure: None,
    },
    PastAction {
        minutes_ago: 1228,
        member: "jory",
        change: Change::Start,
        reference: "coldstore/label-printer",
        targets: &[("coldstore", "label-printer")],
        failure: Some(
            "driver failed programming external connectivity on endpoint label-printer: listen tcp4 0.0.0.0:9100: bind: address already in use",
        ),
    },
    PastAction {
        minutes_ago: 760,
        member: "mara",
        change: Change::Restart,
        reference: "*/frostwatch-api-1",
        targets: &[("coldstore", "frostwatch-api-1"), ("packhouse", "frostwatch-api-1")],
        failure: None,
    },
    PastAction {
        minutes_ago: 410,
        member: "jory",
        change: Change::Restart,
        reference: "coldstore/coldchain-reader-*",
        targets: &[
            ("coldstore", "coldchain-reader-1"),
            ("coldstore", "coldchain-reader-2"),
            ("coldstore", "coldchain-reader-3"),
            ("coldstore", "coldchain-reader-4"),
        ],
        failure: None,
    },
    PastAction {
        minutes_ago: 178,
        member: "jory",
        change: Change::Start,
        reference: "packhouse/auction-queue-1",
        targets: &[("packhouse", "auction-queue-1")],
        failure: None,
    },
    PastAction {
        minutes_ago: 44,
        member: "mara",
        change: Change::Restart,
        reference: "packhouse/grading-sorter-1",
        targets: &[("packhouse", "grading-sorter-1")],
        failure: None,
    },
    PastAction {
        minutes_ago: 21,
        member: "tess",
        change: Change::Stop,
        reference: "orchard-edge/radio-relay",
        targets: &[("orchard-edge", "radio-relay")],
        failure: Some("the host is unreachable: There is no socket at the far end."),
    },
];

/// What the engines told in the last day beside what belongs to the deeds above: minutes ago, host, object, name, what, more, and whether it is bad.
type PastEvent = (i64, &'static str, &'static str, &'static str, &'static str, &'static str, bool);

const PAST_EVENTS: &[PastEvent] = &[
    (540, "orchard-edge", "host", "orchard-edge", "lost", "No answer within 5 s.", true),
    (420, "orchard-edge", "host", "orchard-edge", "live", "it can be reached again", false),
    (373, "coldstore", "container", "coldchain-night-report-1", "start", "", false),
    (360, "coldstore", "container", "coldchain-night-report-1", "die", "exit code 0", false),
    (300, "packhouse", "image", "registry.tarnvalley.example/grading/camera:12.0.3", "pull", "", false),
    (176, "packhouse", "container", "auction-queue-1", "die", "exit code 1", true),
    (95, "office", "container", "ledger-export-1", "die", "exit code 2", true),
    (47, "packhouse", "container", "grading-classifier-1", "oom", "", true),
    (47, "packhouse", "container", "grading-classifier-1", "die", "exit code 137", true),
    (42, "packhouse", "container", "grading-sorter-1", "health_status", "unhealthy", true),
];

/// The container in a restart loop, for three hours.
const LOOPS: (&str, &str) = ("packhouse", "auction-bids-1");

fn told(now: Timestamp) -> Vec<TimelineEvent> {
    let event =
        |seconds_ago: i64, (host, object, name): (&str, &str, &str), action: &str, more: &str, bad| {
            let kind = if object == "host" { EventKind::Host } else { EventKind::Engine };
            TimelineEvent {
                id: 0,
                time: now - SignedDuration::from_secs(seconds_ago),
                kind,
                host: host.to_owned(),
                object: object.to_owned(),
                name: name.to_owned(),
                action: action.to_owned(),
                member: None,
                sentence: more.to_owned(),
                bad,
                operation: None,
                folded: 0,
            }
        };
    let day = PAST_EVENTS.iter().map(|t| event(t.0 * 60, (t.1, t.2, t.3), t.4, t.5, t.6));
    let (host, name) = LOOPS;
    let looping = (1..=41).flat_map(|n| {
        let ago = n * 255;
        let of = (host, "container", name);
        [event(ago, of, "start", "", false), event(ago - 1, of, "die", "exit code 1", true)]
    });
    let mut all: Vec<TimelineEvent> = day.chain(looping).collect();
    all.sort_by_key(|e| e.time);
    all
}

/// What the engines did for a deed.
fn carried(deed: &PastAction, operation: u64, when: Timestamp) -> Vec<TimelineEvent> {
    let actions: &[(&str, &str)] = match (deed.change, deed.failure) {
        (_, Some(_)) => &[],
        (Change::Restart, _) => &[("die", "exit code 143"), ("start", "")],
        (Change::Stop, _) => &[("die", "exit code 143")],
        _ => &[("start", "")],
    };
    let event = |host: &str, name: &str, action: &str, more: &str| TimelineEvent {
        id: 0,
        time: when + SignedDuration::from_secs(1),
        kind: EventKind::Engine,
        host: host.to_owned(),
        object: "container".to_owned(),
        name: name.to_owned(),
        action: action.to_owned(),
        member: None,
        sentence: more.to_owned(),
        bad: false,
        operation: Some(operation),
        folded: 0,
    };
    let of_target = |(host, name): &(&str, &str)| {
        actions.iter().map(|(action, more)| event(host, name, action, more)).collect::<Vec<_>>()
    };
    deed.targets.iter().flat_map(of_target).collect()
}

/// Writes the past, unless there is one already.
pub(crate) fn write(store: &Store) -> Result<(), StoreError> {
    if !store.operations(None, 1, &OperationFilter::default())?.is_empty() {
        return Ok(());
    }
    let now = Timestamp::now();
    store.add_events(&told(now))?;
    for deed in DEEDS {
        let when = now - SignedDuration::from_mins(deed.minutes_ago);
        let sign_in = when - SignedDuration::from_mins(3);
        let entry = NewEntry {
            member: deed.member,
            address: "192.0.2.17",
            action: "sign-in",
            object: "service",
            outcome: "succeeded",
            via: "",
        };
        store.audit(entry, sign_in)?;
        let containers = deed.targets.iter().map(|(host, name)| Container::blank(host, name, name));
        let (request, plans): (Request, Vec<TargetPlan>) = match deed.change {
            Change::Start => {
                let start = StartRequest::default();
                let plans = containers.map(|c| plan_start(&start, &c)).collect();
                (Request::Start(start), plans)
            }
            Change::Stop => {
                let stop = StopRequest::default();
                let plans = containers.map(|c| plan_stop(&stop, &c)).collect();
                (Request::Stop(stop), plans)
            }
            Change::Restart => {
                let restart = RestartRequest::default();
                let plans = containers.map(|c| plan_restart(&restart, &c)).collect();
                (Request::Restart(restart), plans)
            }
        };
        let targets = plans.into_iter().map(|p| Target {
            host: p.host,
            id: p.id,
            name: p.name,
            object: p.object,
            after: p.after,
            steps: p.steps,
            at: None,
            progress: None,
            bytes: None,
            state: if deed.failure.is_some() { TargetState::Failed } else { TargetState::Succeeded },
            sentence: deed.failure.map(str::to_owned),
            began: Some(when),
            ended: Some(when + SignedDuration::from_secs(2)),
        });
        let references = [deed.reference.to_owned()];
        let new = NewOperation {
            request: &request,
            references: &references,
            author: deed.member,
            address: "192.0.2.7",
            created: when,
            targets: targets.collect(),
            idempotency: None,
        };
        let (operation, _) = store.add_operation(new)?;
        // Operations and timeline tell one story: the outcome of each target, and what its engine did for it.
        store.add_events(&carried(deed, operation.id, when))?;
        for (n, target) in operation.targets.iter().enumerate() {
            store.set_target(operation.id, n, target)?;
        }
        let outcome = format!("operation {}: {}", operation.id, operation.state.word());
        let entry = NewEntry {
            member: deed.member,
            address: "192.0.2.17",
            action: request.kind().word(),
            object: deed.reference,
            outcome: &outcome,
            via: "",
        };
        store.audit(entry, when + SignedDuration::from_secs(2))?;
    }
    Ok(())
}
