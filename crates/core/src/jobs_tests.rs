use super::*;
use proptest::prelude::*;
use rstest::rstest;

fn at(text: &str) -> Timestamp {
    text.parse().unwrap()
}

fn nightly(missed_runs: Missed) -> Schedule {
    Schedule {
        cron: Some("30 2 * * *".to_owned()),
        time_zone: "Europe/Lisbon".to_owned(),
        missed_runs,
        ..Schedule::default()
    }
}

#[test]
fn nothing_is_due_between_two_times() {
    let due = nightly(Missed::Skip).due(at("2026-11-28T03:00:00Z"), at("2026-11-28T20:00:00Z"));
    assert_eq!(due, Due { next: Some(at("2026-11-29T02:30:00Z")), ..Due::default() });
}

#[test]
fn it_is_due_at_its_time_in_its_zone() {
    // Summer: Lisbon is an hour ahead.
    let due = nightly(Missed::Skip).due(at("2026-07-01T00:00:00Z"), at("2026-07-01T01:30:00Z"));
    assert_eq!(due.run, Some(at("2026-07-01T01:30:00Z")));
    assert_eq!((due.missed, due.next), (0, Some(at("2026-07-02T01:30:00Z"))));
}

#[rstest]
#[case::skipped(Missed::Skip, None, 3, Some("2026-11-28T02:30:00Z"))]
#[case::made_up_for_once(Missed::Once, Some("2026-11-28T02:30:00Z"), 2, None)]
fn times_while_the_service_was_away(
    #[case] missed: Missed,
    #[case] run: Option<&str>,
    #[case] count: u32,
    #[case] last: Option<&str>,
) {
    let due = nightly(missed).due(at("2026-11-25T12:00:00Z"), at("2026-11-28T12:00:00Z"));
    let (run, last) = (run.map(at), last.map(at));
    assert_eq!(due, Due { run, missed: count, missed_last: last, next: Some(at("2026-11-29T02:30:00Z")) });
}

#[test]
fn a_time_that_does_not_exist_is_run_once_that_night_and_one_that_exists_twice_too() {
    let schedule = Schedule {
        cron: Some("30 1 * * *".to_owned()),
        time_zone: "Europe/Lisbon".to_owned(),
        ..Schedule::default()
    };
    let count = |from: &str, to: &str| {
        let (mut considered, mut now, mut runs) = (at(from), at(from), 0);
        while now < at(to) {
            now += jiff::SignedDuration::from_secs(20);
            runs += u32::from(schedule.due(considered, now).run.is_some());
            considered = now;
        }
        runs
    };
    assert_eq!(count("2026-03-28T20:00:00Z", "2026-03-29T20:00:00Z"), 1, "clocks go forward over it");
    assert_eq!(count("2026-10-24T20:00:00Z", "2026-10-25T20:00:00Z"), 1, "clocks go back over it");
}

#[test]
fn one_that_never_comes_is_never_due() {
    let schedule = Schedule { cron: Some("0 0 30 2 *".to_owned()), ..Schedule::default() };
    assert_eq!(schedule.due(at("2026-01-01T00:00:00Z"), at("2026-12-01T00:00:00Z")), Due::default());
}

#[test]
fn one_by_hand_is_never_due() {
    let due = Schedule::default().due(at("2020-01-01T00:00:00Z"), at("2026-12-01T00:00:00Z"));
    assert_eq!((due, Schedule::default().words().as_str()), (Due::default(), "manual only"));
}

#[test]
fn a_long_absence_is_counted_up_to_a_bound() {
    let schedule = Schedule { cron: Some("* * * * *".to_owned()), ..Schedule::default() };
    let due = schedule.due(at("2020-01-01T00:00:00Z"), at("2026-12-01T00:00:30Z"));
    assert_eq!((due.missed, due.next), (MOST_MISSED, Some(at("2026-12-01T00:01:00Z"))));
}

#[rstest]
#[case("* * *", "UTC", "five fields")]
#[case("61 * * * *", "UTC", "'61 * * * *' is not a schedule")]
#[case("0 3 * * *", "Nowhere/Land", "unknown time zone 'Nowhere/Land'")]
#[case("0 3 * * *", "../../etc/passwd", "unknown time zone")]
fn a_wrong_schedule_is_reported(#[case] cron: &str, #[case] zone: &str, #[case] said: &str) {
    let error = times(cron, zone).unwrap_err();
    assert!(error.contains(said) && !error.contains('\n'), "{error}");
}

proptest! {
    /// However the moments lie at which it is looked at, each time is run or missed exactly once.
    #[test]
    fn each_time_counts_once(pauses in proptest::collection::vec(1_i64..20_000, 1..40)) {
        let schedule = Schedule { cron: Some("*/7 * * * *".to_owned()), ..Schedule::default() };
        let begin = at("2026-11-28T00:00:30Z");
        let (mut considered, mut told) = (begin, 0);
        for pause in pauses {
            let now = considered + SignedDuration::from_secs(pause);
            let due = schedule.due(considered, now);
            prop_assert!(due.next.is_some_and(|next| next > now));
            told += due.missed + u32::from(due.run.is_some());
            considered = now;
        }
        let minutes = (considered.as_second() - begin.as_second() + 30) / 60;
        let expected = u32::try_from(minutes / 60 * 9 + minutes % 60 / 7).unwrap();
        prop_assert_eq!(told, expected);
    }
}
