use super::*;
use proptest::prelude::*;
use rstest::rstest;

fn row(value: f64) -> Row {
    std::array::from_fn(|i| (i != 2).then_some(value + i as f64))
}

fn samples(from: i64, values: &[f64]) -> Vec<Bucket> {
    values.iter().enumerate().map(|(i, &v)| sample(from + i as i64 * 10, &codes(&row(v)))).collect()
}

#[test]
fn minutes_have_minimum_mean_and_maximum() {
    let minutes = coarser(samples(1200, &[1.0, 2.0, 3.0, 4.0, 5.0, 9.0, 7.0]), 60);
    assert_eq!(minutes.iter().map(|b| b.time).collect::<Vec<_>>(), [1200, 1260]);
    assert_eq!(minutes[0].points[1], Some(Point { min: 2.0, mean: 5.0, max: 10.0 }));
    assert_eq!(minutes[0].points[2], None);
}

#[test]
fn a_gap_stays_a_gap() {
    let mut all = samples(0, &[1.0, 1.0]);
    all.extend(samples(600, &[2.0]));
    assert_eq!(coarser(all, 60).iter().map(|b| b.time).collect::<Vec<_>>(), [0, 600]);
}

#[test]
fn a_chunk_of_minutes_comes_back() {
    let minutes = coarser(samples(0, &(0..360).map(f64::from).collect::<Vec<_>>()), 60);
    let mut chunk = Chunk::new(COARSE_COLUMNS);
    push_coarse(&mut chunk, &minutes);
    let back = buckets(Level::Minute, &Chunk::decode(&chunk.encode(60)).unwrap());
    assert_eq!(back.len(), minutes.len());
    for (a, b) in back.iter().zip(&minutes) {
        let (a, b) = (a.points[1].unwrap(), b.points[1].unwrap());
        for (a, b) in [(a.min, b.min), (a.mean, b.mean), (a.max, b.max)] {
            assert!((a - b).abs() <= b / 200.0 + 0.5, "{a} instead of {b}");
        }
    }
    assert!(buckets(Level::Fine, &chunk).is_empty(), "a chunk of another level is not misread");
}

#[test]
fn sums_are_step_by_step() {
    let sum = total(&[samples(0, &[1.0, 2.0]), samples(10, &[5.0])]);
    let of = |i: usize| sum[i].points[1].unwrap().mean;
    assert_eq!((sum.len(), of(0), of(1)), (2, 2.0, 9.0));
}

const DAY: i64 = 86_400;

#[rstest]
#[case::an_hour(3600, 1000, Level::Fine, 10)]
#[case::six_hours(6 * 3600, 1000, Level::Fine, 30)]
#[case::a_day(DAY, 1000, Level::Minute, 120)]
#[case::a_week(7 * DAY, 1000, Level::TenMinutes, 1200)]
#[case::a_month(30 * DAY, 1000, Level::Hour, 3600)]
#[case::a_month_on_a_small_screen(30 * DAY, 300, Level::Hour, 10_800)]
#[case::a_year(365 * DAY, 1000, Level::Hour, 43_200)]
#[case::nothing(0, 1000, Level::Fine, 10)]
#[case::one_point(DAY, 1, Level::Hour, DAY)]
fn the_step_fits_the_screen(
    #[case] range: i64,
    #[case] points: u32,
    #[case] level: Level,
    #[case] step: i64,
) {
    let now = 1_800_000_000;
    let oldest = |level: Level| {
        now - match level {
            Level::Fine => 2 * DAY,
            Level::Minute => 7 * DAY,
            Level::TenMinutes => 60 * DAY,
            Level::Hour => 400 * DAY,
        }
    };
    assert_eq!(resolution(now - range, now, points, oldest), (level, step));
    // What is gone in the fine levels is answered from a coarser one, with its step named.
    let (level, step) = resolution(now - 3 * DAY - 60, now - 3 * DAY, 1000, oldest);
    assert_eq!((level, step), (Level::Minute, 60));
}

proptest! {
    #[test]
    fn coarser_keeps_the_extremes(values in proptest::collection::vec(0.0f64..1e6, 1..200), step in 1i64..2000) {
        let fine = samples(0, &values);
        let coarse = coarser(fine.clone(), step);
        let most = |all: &[Bucket]| all.iter().filter_map(|b| b.points[3]).map(|p| p.max).fold(0.0, f64::max);
        let least = |all: &[Bucket]| all.iter().filter_map(|b| b.points[3]).map(|p| p.min).fold(f64::MAX, f64::min);
        prop_assert_eq!(most(&fine), most(&coarse));
        prop_assert_eq!(least(&fine), least(&coarse));
        for bucket in &coarse {
            let p = bucket.points[3].unwrap();
            prop_assert!(p.min <= p.mean * 1.000_001 && p.mean <= p.max * 1.000_001);
        }
    }

    #[test]
    fn no_more_buckets_than_wanted(range in 1i64..400 * DAY, points in 1u32..4000, reach in 0i64..400 * DAY) {
        let now = 1_800_000_000;
        let (level, step) = resolution(now - range, now, points, |l| now - reach * (1 + l.number()));
        prop_assert!(ceil(range, step) <= i64::from(points));
        prop_assert_eq!(step % level.step(), 0);
    }
}
