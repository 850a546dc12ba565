use super::*;
use crate::compose::load::StackInput;
use crate::compose::read::read;
use crate::stack::tests_support::{present_of, wanted_of};
use rstest::rstest;

const TEXT: &str = "\
services:
  api: {image: registry.tarnvalley.example/api:2}
  report:
    image: registry.tarnvalley.example/report:1
    x-gubernum-schedule: {cron: '30 2 * * *', time_zone: Europe/Lisbon, timeout: 10m}
    volumes: [readings:/data]
  migrate:
    image: registry.tarnvalley.example/migrate:1
    restart: 'no'
  web:
    image: registry.tarnvalley.example/web:1
    depends_on: {migrate: {condition: service_completed_successfully}}
volumes: {readings: {}}
";

#[test]
fn a_job_has_no_container_of_the_stack() {
    let desired = wanted_of(TEXT);
    assert_eq!(desired.job_names(), ["report", "migrate"]);
    assert!(desired.containers.iter().all(|c| c.service != "report"));
    assert!(desired.job("api").is_none(), "it does not come to an end");
}

#[test]
fn a_run_is_made_waited_for_and_taken_away() {
    let desired = wanted_of(TEXT);
    let present = present_of(&desired);
    let job = desired.job("report").unwrap();
    let definition = definition_of_run("frostwatch", job, &["frostwatch-report-run-1"]);
    assert_eq!(definition.name, "frostwatch-report-run-2", "the first is there");
    assert_eq!(definition.labels[labels::ONE_OFF], "True");
    let piece = plan_run(&Run { job, present: &present, findings: Vec::new() }, definition);
    assert!(
        piece.plan.steps.contains(&Step::RunToEnd { most_seconds: 600, keep: USUAL_KEPT }),
        "{:#?}",
        piece.plan
    );
    assert!(!piece.plan.steps.iter().any(|s| matches!(s, Step::Watch { .. })));
    assert!(piece.plan.consequence.contains("at most 10 min"), "{}", piece.plan.consequence);
}

#[rstest]
#[case::too_few_fields("report: {image: x, x-gubernum-schedule: '30 2 *'}", "five fields")]
#[case::no_such_zone(
    "report: {image: x, x-gubernum-schedule: {cron: '30 2 * * *', time_zone: Frost/Land}}",
    "unknown time zone 'Frost/Land'"
)]
#[case::restarted(
    "report: {image: x, restart: always, x-gubernum-schedule: '30 2 * * *'}",
    "remove 'restart'"
)]
#[case::several("report: {image: x, scale: 2, x-gubernum-schedule: '30 2 * * *'}", "one container at a time")]
#[case::too_long("report: {image: x, x-gubernum-schedule: {timeout: 3d}}", "from 1 s to 24 h")]
#[case::misspelt("report: {image: x, x-gubernum-schedule: {corn: '30 2 * * *'}}", "did you mean 'cron'?")]
#[case::waited_for(
    "report: {image: x, x-gubernum-schedule: '30 2 * * *'}\n  web: {image: y, depends_on: [report]}",
    "not with the stack"
)]
fn a_schedule_that_is_invalid_is_reported(#[case] services: &str, #[case] said: &str) {
    let text = format!("services:\n  {services}\n");
    let files = [("stack.yaml".to_owned(), text)].into();
    let main = ["stack.yaml".to_owned()];
    let (variables, profiles) = Default::default();
    let wanted = crate::compose::ReadPurpose::Stack;
    let given = StackInput {
        files: &files,
        main: &main,
        name: Some("frostwatch"),
        variables: &variables,
        profiles: &profiles,
        wanted,
    };
    let errors = read(&given).unwrap_err();
    assert!(errors.iter().any(|e| e.sentence.contains(said)), "{errors:#?}");
}
