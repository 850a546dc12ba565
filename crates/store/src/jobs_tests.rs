use gubernum_core::jobs::{JobRun, RunOutcome};
use jiff::Timestamp;

use crate::{Seal, Store};

fn open(folder: &std::path::Path) -> Store {
    Store::open(&folder.join("gubernum.db"), Seal::open(&folder.join("seal.key")).unwrap()).unwrap()
}

fn at(second: i64) -> Timestamp {
    Timestamp::from_second(1_800_000_000 + second).unwrap()
}

fn run(service: &str, operation: Option<u64>, outcome: RunOutcome) -> JobRun {
    JobRun {
        id: 0,
        host: "packhouse".to_owned(),
        stack: "frostwatch".to_owned(),
        service: service.to_owned(),
        operation,
        due: Some(at(0)),
        began: at(1),
        ended: at(3),
        outcome,
        exit_code: Some(0),
        sentence: Some("why".to_owned()),
        missed: 0,
    }
}

#[test]
fn a_run_is_kept_with_what_it_said() {
    let folder = tempfile::tempdir().unwrap();
    let store = open(folder.path());
    let id = store.add_job_run(&run("report", Some(7), RunOutcome::TimedOut), "said\n", true, 20).unwrap();
    let (kept, output, cut) = store.job_run(id).unwrap().unwrap();
    assert_eq!(
        (kept, output.as_str(), cut),
        (JobRun { id, ..run("report", Some(7), RunOutcome::TimedOut) }, "said\n", true)
    );
    assert_eq!(store.job_run_of(7, "packhouse").unwrap().unwrap().id, id);
    assert!(store.job_run_of(7, "coldstore").unwrap().is_none());
    assert!(store.job_run(id + 1).unwrap().is_none());
}

#[test]
fn one_operation_is_one_run_however_often_it_is_kept() {
    let folder = tempfile::tempdir().unwrap();
    let store = open(folder.path());
    let first = store.add_job_run(&run("report", Some(7), RunOutcome::Succeeded), "said", false, 20).unwrap();
    let again = store.add_job_run(&run("report", Some(7), RunOutcome::Interrupted), "", false, 20).unwrap();
    assert_eq!(first, again);
    assert_eq!(
        store.job_runs("packhouse", "frostwatch", "report").unwrap()[0].outcome,
        RunOutcome::Succeeded
    );
    // Runs that were none have no operation and are kept each.
    for _ in 0..2 {
        store.add_job_run(&run("report", None, RunOutcome::Skipped), "", false, 20).unwrap();
    }
    assert_eq!(store.job_runs("packhouse", "frostwatch", "report").unwrap().len(), 3);
}

#[test]
fn only_the_newest_of_each_job_are_kept() {
    let folder = tempfile::tempdir().unwrap();
    let store = open(folder.path());
    store.add_job_run(&run("other", Some(100), RunOutcome::Failed), "", false, 3).unwrap();
    for n in 1..=9 {
        store.add_job_run(&run("report", Some(n), RunOutcome::Succeeded), "", false, 3).unwrap();
    }
    let kept = store.job_runs("packhouse", "frostwatch", "report").unwrap();
    assert_eq!(kept.iter().filter_map(|r| r.operation).collect::<Vec<_>>(), [9, 8, 7]);
    let last = store.last_job_runs().unwrap();
    let of = |service: &str| ("packhouse".to_owned(), "frostwatch".to_owned(), service.to_owned());
    assert_eq!(last[&of("report")].operation, Some(9));
    assert_eq!(last[&of("other")].outcome, RunOutcome::Failed);
}

#[test]
fn runs_of_a_job_that_is_no_more_go_after_a_while() {
    let folder = tempfile::tempdir().unwrap();
    let store = open(folder.path());
    let job = |service: &str| ("packhouse".to_owned(), "frostwatch".to_owned(), service.to_owned());
    for service in ["report", "gone"] {
        store.add_job_run(&run(service, None, RunOutcome::Succeeded), "", false, 20).unwrap();
    }
    store.mark_job(&job("report"), "by hand", at(9)).unwrap();
    assert_eq!(store.drop_job_runs_before(at(2)).unwrap(), 0, "they ended later");
    assert_eq!(store.drop_job_runs_before(at(60)).unwrap(), 1);
    let left: Vec<_> = store.last_job_runs().unwrap().into_keys().collect();
    assert_eq!(left, [job("report")]);
}

#[test]
fn a_mark_moves_on_and_is_forgotten() {
    let folder = tempfile::tempdir().unwrap();
    let store = open(folder.path());
    let job = ("packhouse".to_owned(), "frostwatch".to_owned(), "report".to_owned());
    store.mark_job(&job, "0 3 * * * (UTC)", at(1)).unwrap();
    store.mark_job(&job, "0 4 * * * (UTC)", at(2)).unwrap();
    assert_eq!(store.job_marks().unwrap()[&job], ("0 4 * * * (UTC)".to_owned(), at(2)));
    store.unmark_job(&job).unwrap();
    assert!(store.job_marks().unwrap().is_empty());
}
