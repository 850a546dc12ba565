//! One suite, three engines: the simulated one, a real dockerd and a real podman.
//!
//! Every case runs on every engine. Where an engine is known to behave differently, the case itself
//! says what it must do there instead; none is skipped. A missing engine fails the suite.

// All of this is tests: their helpers may fail and speak as the tests themselves may.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, clippy::print_stdout)]

mod changes;
mod commands;
mod happenings;
mod holdings;
mod making;
mod records;
mod texts;

use std::future::Future;
use std::pin::Pin;
use std::time::Duration;

use futures_util::FutureExt;
use gubernum_core::container::Container;
use gubernum_testbed::bed::{Bed, BedKind};
use rstest::rstest;

type Case = for<'a> fn(&'a Bed) -> Pin<Box<dyn Future<Output = ()> + 'a>>;

/// Names a case after its function.
macro_rules! cases {
    ($($module:ident :: $name:ident),* $(,)?) => {
        &[$((stringify!($name), |bed| Box::pin($module::$name(bed)))),*]
    };
}

const CASES: &[(&str, Case)] = cases![
    records::says_what_it_is,
    records::lists_with_all_settings,
    records::what_is_missing_is_404,
    records::exit_codes_are_reported,
    records::a_failing_health_check_shows,
    records::out_of_memory_shows,
    records::bad_names_never_reach_the_engine,
    changes::start_and_stop_tell_change_from_no_change,
    changes::stop_forces_after_the_grace_period,
    changes::restart_starts_anew_and_starts_what_is_stopped,
    changes::kill_sends_the_signal_and_conflicts_when_stopped,
    changes::remove_refuses_what_runs_unless_forced,
    changes::a_start_that_fails_gives_the_engines_reason,
    changes::the_restart_policy_restarts,
    texts::streams_come_apart_with_times,
    texts::one_stream_alone,
    texts::tail_gives_the_last_lines,
    texts::since_and_until_bound_the_lines,
    texts::a_megabyte_line_and_odd_bytes_survive,
    texts::a_terminal_is_one_stream,
    texts::a_follow_goes_on_and_ends_with_the_container,
    texts::a_quiet_follow_waits_and_can_be_dropped,
    happenings::events_tell_a_life_in_order,
    happenings::events_resume_without_gap_or_repeat,
    happenings::a_rename_shows,
    holdings::the_machine_is_reported,
    holdings::images_are_listed_and_explained,
    holdings::volumes_and_networks_are_listed,
    holdings::the_disk_is_measured,
    holdings::processes_and_changed_files,
    holdings::use_of_processors_is_what_the_kernel_says,
    holdings::use_of_memory_is_what_the_kernel_says,
    holdings::what_does_not_run_is_not_sampled,
    making::what_is_made_reads_back_the_same,
    making::names_conflict_and_missing_images_say_so,
    making::a_container_is_replaced_with_its_anonymous_volume,
    making::limits_and_names_change,
    making::frozen_and_let_go,
    making::images_are_tagged_and_removed,
    making::volumes_and_networks_come_and_go,
    making::folders_of_the_host_are_seen_and_made,
    making::images_are_fetched_and_sent,
    making::files_are_put_in_before_the_start_and_read_back,
    commands::a_command_gives_its_output_and_exit_code,
    commands::a_terminal_takes_input_and_a_size,
    commands::shells_are_found_without_running_anything,
];

#[rstest]
#[case(BedKind::Sim)]
#[case(BedKind::SimPodman)]
#[case(BedKind::Dockerd)]
#[case(BedKind::Podman)]
#[tokio::test(flavor = "multi_thread")]
async fn conformance(#[case] kind: BedKind) {
    let bed = Bed::start(kind).await.unwrap_or_else(|e| panic!("{kind:?} must be there for this suite: {e}"));
    println!(
        "{kind:?}: {} {}, API {}",
        bed.engine.facts().kind,
        bed.engine.facts().version,
        bed.engine.facts().api_version
    );
    let runs = CASES.iter().map(|(name, case)| {
        let bed = &bed;
        async move {
            let guarded =
                std::panic::AssertUnwindSafe(tokio::time::timeout(Duration::from_secs(90), case(bed)));
            let passed = matches!(guarded.catch_unwind().await, Ok(Ok(())));
            println!("{kind:?}: {name} ... {}", if passed { "ok" } else { "FAILED" });
            (name, passed)
        }
    });
    // A few at a time: real engines on two cores slow down otherwise.
    let results: Vec<_> = futures_util::stream::StreamExt::collect::<Vec<_>>(
        futures_util::stream::StreamExt::buffer_unordered(futures_util::stream::iter(runs), 4),
    )
    .await;
    let failed: Vec<_> = results.iter().filter(|(_, passed)| !passed).map(|(name, _)| **name).collect();
    println!("{kind:?}: {} cases, {} failed", results.len(), failed.len());
    assert_eq!(results.len(), CASES.len());
    assert!(failed.is_empty(), "{kind:?}: {failed:?}");
}

/// Waits until a container is as wanted, and gives its record.
pub(crate) async fn until(bed: &Bed, id: &str, what: &str, wanted: impl Fn(&Container) -> bool) -> Container {
    let deadline = tokio::time::Instant::now() + Duration::from_secs(30);
    loop {
        let container = bed.engine.inspect(id).await.unwrap().container;
        if wanted(&container) {
            return container;
        }
        assert!(tokio::time::Instant::now() < deadline, "never {what}: {container:?}");
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
}

/// Waits until a container has ended.
pub(crate) async fn ended(bed: &Bed, id: &str) -> Container {
    until(bed, id, "ended", |c| c.state == gubernum_core::container::State::Exited).await
}
