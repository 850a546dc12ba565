//! Events.

use std::time::Duration;

use gubernum_engine::events::{EngineEvent, EventReader};
use gubernum_sim::{Action, Program};
use gubernum_testbed::bed::Bed;
use serde_json::json;

/// Reads events of one container until one of this action came, and gives the actions.
async fn read_until(reader: &mut EventReader, id: &str, last: &str) -> Vec<EngineEvent> {
    let mut seen = Vec::new();
    let reading = async {
        while let Some(event) = reader.next().await.unwrap() {
            if event.id != id {
                continue;
            }
            let over = event.action == last || (last == "gone" && event.gone);
            seen.push(event);
            if over {
                return;
            }
        }
        panic!("the stream ended");
    };
    let timed = tokio::time::timeout(Duration::from_secs(20), reading).await;
    assert!(timed.is_ok(), "'{last}' never came");
    seen
}

fn count(events: &[EngineEvent], action: &str) -> usize {
    events.iter().filter(|e| e.action == action).count()
}

pub(crate) async fn events_tell_a_life_in_order(bed: &Bed) {
    let mut reader = bed.engine.events(None).await.unwrap();
    let id = bed
        .run("short-life", &Program::new(vec![Action::Wait(300), Action::Exit(4)]), json!({}))
        .await
        .unwrap();
    let mut events = read_until(&mut reader, &id, "die").await;
    bed.engine.remove(&id, true, true).await.unwrap();
    events.extend(read_until(&mut reader, &id, "gone").await);
    let order: Vec<_> = ["create", "start", "die"]
        .iter()
        .map(|a| events.iter().position(|e| e.action == *a).unwrap_or_else(|| panic!("no {a} in {events:?}")))
        .collect();
    assert!(order.is_sorted(), "{events:?}");
    assert!(events.last().unwrap().gone);
    assert!(events.iter().all(|e| e.matters()));
}

pub(crate) async fn events_resume_without_gap_or_repeat(bed: &Bed) {
    let id = bed.create("resumed", &Program::idle(), json!({})).await.unwrap();
    let mut reader = bed.engine.events(None).await.unwrap();
    bed.engine.start(&id).await.unwrap();
    let before = read_until(&mut reader, &id, "start").await;
    let mark = reader.mark();
    drop(reader);
    // While nobody listens:
    bed.engine.stop(&id, Some(2)).await.unwrap();
    bed.engine.start(&id).await.unwrap();
    let mut reader = bed.engine.events(Some(mark)).await.unwrap();
    let missed = read_until(&mut reader, &id, "start").await;
    bed.engine.remove(&id, true, true).await.unwrap();
    let after = read_until(&mut reader, &id, "gone").await;
    let all = [before, missed, after].concat();
    assert_eq!((count(&all, "start"), count(&all, "die")), (2, 2), "{all:?}");
    let distinct: std::collections::HashSet<_> = all.iter().collect();
    assert_eq!(distinct.len(), all.len(), "no repeats: {all:?}");
}

pub(crate) async fn a_rename_shows(bed: &Bed) {
    let mut reader = bed.engine.events(None).await.unwrap();
    let id = bed.create("old-name", &Program::idle(), json!({})).await.unwrap();
    let (status, _) = bed
        .engine
        .call(http::Method::POST, &format!("/containers/{id}/rename?name=new-name"), None)
        .await
        .unwrap();
    assert_eq!(status, 204);
    read_until(&mut reader, &id, "rename").await;
    assert_eq!(bed.engine.inspect(&id).await.unwrap().container.name, "new-name");
}
