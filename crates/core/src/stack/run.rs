//! The plan of one run of a job: a container is created beside those of the stack, started, waited for, and removed.
//!
//! When a job is due is worked out in [`crate::jobs`].

use crate::definition::check::Finding;
use crate::definition::{Definition, RestartRule};
use crate::jobs::USUAL_KEPT;
use crate::plan::make::{NewContainer, plan_deploy};
use crate::plan::request::DeployRequest;
use crate::plan::{Step, TargetPlan};

use super::desired::{Desired, DesiredContainer};
use super::labels;
use super::plan::PlannedPart;
use super::present::Present;

/// The most runs of one job on a host at once.
const MOST_AT_ONCE: u32 = 100;

/// What a run is planned from.
pub struct Run<'a> {
    /// The job: one with a schedule, or a service that runs to its end.
    pub job: &'a DesiredContainer,
    /// What is on its host.
    pub present: &'a Present<'a>,
    /// Errors that were found in its container.
    pub findings: Vec<Finding>,
}

impl Desired {
    /// The job of this name: a service with a schedule, or one that runs to its end.
    pub fn job(&self, service: &str) -> Option<&DesiredContainer> {
        let others = self.containers.iter().filter(|c| c.is_job && c.number == 1);
        self.jobs.iter().chain(others).find(|c| c.service == service)
    }

    /// The names of all jobs.
    pub fn job_names(&self) -> Vec<&str> {
        let others = self.containers.iter().filter(|c| c.is_job && c.number == 1);
        self.jobs.iter().chain(others).map(|c| c.service.as_str()).collect()
    }
}

/// What the container of a run is: under the first name that is free on the host.
pub fn definition_of_run(stack: &str, job: &DesiredContainer, names: &[&str]) -> Definition {
    let name = |n: u32| format!("{stack}-{}-run-{n}", job.service);
    let free = (1..=MOST_AT_ONCE).find(|n| !names.contains(&name(*n).as_str())).unwrap_or(MOST_AT_ONCE);
    let mut definition = job.definition.clone();
    definition.name = name(free);
    definition.restart = RestartRule { policy: String::new(), most_tries: None };
    definition.auto_remove = false;
    definition.labels.insert(labels::ONE_OFF.to_owned(), "True".to_owned());
    definition.labels.insert(labels::NUMBER.to_owned(), free.to_string());
    definition
}

/// Plans a run, with its definition from [`definition_of_run`].
pub fn plan_run(run: &Run<'_>, definition: Definition) -> PlannedPart {
    let volumes = run.present.assets.volumes.iter().map(|v| v.name.as_str()).collect();
    let built = run.job.build.as_ref().filter(|build| !run.present.has_image(&build.image));
    let findings = match built {
        // It is not there before it is built.
        Some(_) => run.findings.iter().filter(|f| f.field != "/image").cloned().collect(),
        None => run.findings.clone(),
    };
    let new = NewContainer { host: run.present.host, next: &definition, findings, volumes };
    let mut plan: TargetPlan = plan_deploy(&DeployRequest::default(), new);
    if plan.refused.is_none() {
        let most_seconds = run.job.timeout_seconds;
        let keep = run.job.schedule.as_ref().map_or(USUAL_KEPT, |schedule| schedule.keep);
        for step in &mut plan.steps {
            match step {
                Step::Watch { .. } => *step = Step::RunToEnd { most_seconds, keep },
                Step::Pull { .. } if let Some(build) = built => {
                    *step = Step::Build { image: build.image.clone() }
                }
                _ => {}
            }
        }
        if let (Some(made), false) =
            (plan.steps.iter().position(|s| *s == Step::Create), run.job.files.is_empty())
        {
            let paths = run.job.files.iter().map(|f| f.path.clone()).collect();
            plan.steps.insert(made + 1, Step::PutFiles { paths });
        }
        plan.consequence = format!(
            "Runs on {} until it exits, at most {}, and is then removed; its output is saved.",
            run.present.host,
            span(most_seconds)
        );
        plan.creates.clear();
        plan = plan.finished();
    }
    let files = run.job.files.clone();
    PlannedPart { plan, next: Some(definition), files, build: built.cloned(), ..PlannedPart::default() }
}

/// Seconds as a person says them.
fn span(seconds: u32) -> String {
    match seconds {
        s if s % 3600 == 0 => format!("{} h", s / 3600),
        s if s % 60 == 0 => format!("{} min", s / 60),
        s => format!("{s} s"),
    }
}

#[cfg(test)]
#[path = "run_tests.rs"]
mod tests;
