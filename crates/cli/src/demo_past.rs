//! The demo's past: what the growers' operators did in the last day, so that its lists are not empty.

use gubernum_core::container::Container;
use gubernum_core::journal::{Target, TargetState};
use gubernum_core::plan::{Kind, Request, plan};
use gubernum_store::audit::NewEntry;
use gubernum_store::journal::NewOperation;
use gubernum_store::{Store, StoreError};
use jiff::{SignedDuration, Timestamp};

/// The demo's members; all have the same password.
pub(crate) const MEMBERS: [&str; 3] = ["mara", "jory", "tess"];

struct Deed {
    minutes_ago: i64,
    member: &'static str,
    kind: Kind,
    reference: &'static str,
    targets: &'static [(&'static str, &'static str)],
    failure: Option<&'static str>,
}

const DEEDS: &[Deed] = &[
    Deed {
        minutes_ago: 1270,
        member: "tess",
        kind: Kind::Restart,
        reference: "office/ledger-web-1",
        targets: &[("office", "ledger-web-1")],
        failure: None,
    },
    Deed {
        minutes_ago: 1228,
        member: "jory",
        kind: Kind::Start,
        reference: "coldstore/label-printer",
        targets: &[("coldstore", "label-printer")],
        failure: Some(
            "driver failed programming external connectivity on endpoint label-printer: listen tcp4 0.0.0.0:9100: bind: address already in use",
        ),
    },
    Deed {
        minutes_ago: 760,
        member: "mara",
        kind: Kind::Restart,
        reference: "*/frostwatch-api-1",
        targets: &[("coldstore", "frostwatch-api-1"), ("packhouse", "frostwatch-api-1")],
        failure: None,
    },
    Deed {
        minutes_ago: 410,
        member: "jory",
        kind: Kind::Restart,
        reference: "coldstore/coldchain-reader-*",
        targets: &[
            ("coldstore", "coldchain-reader-1"),
            ("coldstore", "coldchain-reader-2"),
            ("coldstore", "coldchain-reader-3"),
            ("coldstore", "coldchain-reader-4"),
        ],
        failure: None,
    },
    Deed {
        minutes_ago: 178,
        member: "jory",
        kind: Kind::Start,
        reference: "packhouse/auction-queue-1",
        targets: &[("packhouse", "auction-queue-1")],
        failure: None,
    },
    Deed {
        minutes_ago: 44,
        member: "mara",
        kind: Kind::Restart,
        reference: "packhouse/grading-sorter-1",
        targets: &[("packhouse", "grading-sorter-1")],
        failure: None,
    },
    Deed {
        minutes_ago: 21,
        member: "tess",
        kind: Kind::Stop,
        reference: "orchard-edge/radio-relay",
        targets: &[("orchard-edge", "radio-relay")],
        failure: Some("the host is out of reach: There is no socket at the far end."),
    },
];

/// Writes the past, unless there is one already.
pub(crate) fn write(store: &Store) -> Result<(), StoreError> {
    if !store.operations(None, 1)?.is_empty() {
        return Ok(());
    }
    let now = Timestamp::now();
    for deed in DEEDS {
        let when = now - SignedDuration::from_mins(deed.minutes_ago);
        let sign_in = when - SignedDuration::from_mins(3);
        let entry = NewEntry {
            member: deed.member,
            address: "192.0.2.17",
            action: "sign-in",
            object: "service",
            outcome: "succeeded",
        };
        store.audit(entry, sign_in)?;
        let request = Request::of(deed.kind);
        let containers: Vec<Container> =
            deed.targets.iter().map(|(host, name)| Container::blank(host, name, name)).collect();
        let targets = plan(&request, &containers).into_iter().map(|p| Target {
            host: p.host,
            id: p.id,
            name: p.name,
            step: p.step,
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
            created: when,
            targets: targets.collect(),
            idempotency: None,
        };
        let (operation, _) = store.add_operation(new)?;
        let outcome = format!("operation {}: {}", operation.id, operation.state.word());
        let entry = NewEntry {
            member: deed.member,
            address: "192.0.2.17",
            action: deed.kind.word(),
            object: deed.reference,
            outcome: &outcome,
        };
        store.audit(entry, when + SignedDuration::from_secs(2))?;
    }
    Ok(())
}
