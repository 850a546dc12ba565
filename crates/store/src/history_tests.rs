use super::*;
use gubernum_core::history::series::codes;

fn rows(from: i64, count: i64) -> OpenRows {
    (0..count)
        .map(|i| {
            let value = ((from + i * 10) % 3600) as f64 * 1000.0;
            (
                from + i * 10,
                codes(&[Some(0.25), Some(value), None, Some(value), None, None, Some(0.0), Some(12.0)]),
            )
        })
        .collect()
}

fn all(store: &HistoryStore, level: Level) -> Vec<Bucket> {
    store.read("packhouse", "api", level, 0, i64::MAX / 2).unwrap().buckets
}

fn one(from: i64, count: i64) -> Vec<(String, String, OpenRows)> {
    vec![("packhouse".into(), "api".into(), rows(from, count))]
}

#[test]
fn windows_become_chunks_and_coarser_steps() {
    let folder = tempfile::tempdir().unwrap();
    let (store, aside) = HistoryStore::open(&folder.path().join("history.db")).unwrap();
    assert!(aside.is_none());
    // Three hours, the first five minutes of the second one missing.
    for window in 0..18 {
        let start = 3600 * 100 + window * 600;
        let gap = if window == 6 { 30 } else { 0 };
        store.close_window(start, &one(start + gap * 10, 60 - gap)).unwrap();
    }
    assert_eq!(all(&store, Level::Fine).len(), 18 * 60 - 30);
    let minutes = all(&store, Level::Minute);
    assert_eq!(minutes.len(), 175);
    assert_eq!(minutes[1].time - minutes[0].time, 60);
    assert_eq!(all(&store, Level::TenMinutes).len(), 18);
    let hours = all(&store, Level::Hour);
    assert_eq!(hours.iter().map(|b| b.time).collect::<Vec<_>>(), [360_000, 363_600, 367_200]);
    let memory = hours[0].points[1].unwrap();
    assert!(memory.min == 0.0 && (memory.max - 3_590_000.0).abs() < 8000.0, "{memory:?}");
    assert!((memory.mean - 1_795_000.0).abs() < 20_000.0, "{memory:?}");
    assert_eq!(hours[0].points[2], None, "what was never known is not made up");
}

#[test]
fn a_crash_loses_no_minute_that_was_put_down() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("history.db");
    {
        let (store, _) = HistoryStore::open(&path).unwrap();
        for minute in 0..3 {
            let hosts = vec![("packhouse".to_owned(), vec![("api".to_owned(), rows(6000 + minute * 60, 6))])];
            store.note_minute(6000 + minute * 60, &hosts).unwrap();
        }
        // No closing of any kind: dropped as a killed process would leave it.
        std::mem::forget(store);
    }
    let (store, _) = HistoryStore::open(&path).unwrap();
    let open = store.open_minutes().unwrap();
    assert_eq!(open.iter().map(|(_, _, r)| r.len()).sum::<usize>(), 18);
    assert_eq!(open[0].2, rows(6000, 6));
    store.close_window(6000, &one(6000, 18)).unwrap();
    assert!(store.open_minutes().unwrap().is_empty());
    // The same window again, as after a crash between two steps, doubles nothing.
    store.close_window(6000, &one(6000, 30)).unwrap();
    assert_eq!(all(&store, Level::Fine).len(), 30);
}

#[test]
fn damaged_chunks_are_skipped_and_counted() {
    let folder = tempfile::tempdir().unwrap();
    let (store, _) = HistoryStore::open(&folder.path().join("history.db")).unwrap();
    store.close_window(6000, &one(6000, 60)).unwrap();
    store.close_window(6600, &one(6600, 60)).unwrap();
    let spoil = "UPDATE chunks SET data = CAST(substr(data, 1, 20) || x'01' || substr(data, 22) AS BLOB) WHERE level = 0 AND start = 6000";
    store.connection.lock().execute(spoil, []).unwrap();
    let read = store.read("packhouse", "api", Level::Fine, 0, 100_000).unwrap();
    assert_eq!((read.buckets.len(), read.damaged), (60, 1));
}

#[test]
fn a_damaged_file_is_put_aside() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("history.db");
    std::fs::write(&path, vec![7u8; 20_000]).unwrap();
    let (store, aside) = HistoryStore::open(&path).unwrap();
    assert!(aside.unwrap().exists());
    store.close_window(6000, &one(6000, 60)).unwrap();
    assert_eq!(all(&store, Level::Fine).len(), 60);
}

#[test]
fn what_is_too_old_goes() {
    let folder = tempfile::tempdir().unwrap();
    let (store, _) = HistoryStore::open(&folder.path().join("history.db")).unwrap();
    for window in 0..12 {
        store.close_window(window * 600, &one(window * 600, 60)).unwrap();
    }
    store
        .forget([(Level::Fine, 3600), (Level::Minute, 0), (Level::TenMinutes, 0), (Level::Hour, 0)])
        .unwrap();
    assert_eq!(all(&store, Level::Fine).first().unwrap().time, 3000);
    assert_eq!(all(&store, Level::Minute).len(), 120);
    let everything = Level::ALL.map(|l| (l, i64::MAX / 2));
    store.forget(everything).unwrap();
    assert!(store.names("packhouse").is_empty());
}
