//! Plans for runs of jobs, from the newest revision of their stack.

use gubernum_core::plan::TargetPlan;
use gubernum_core::plan::request::RunRequest;
use gubernum_core::stack::PlannedPart;
use gubernum_core::stack::run::{Run, definition_of_run, plan_run};
use gubernum_core::text::shown;

use crate::operations::OperationError;
use crate::operations::planner::{Planned, Planner, StepInputs};

impl Planner {
    /// Plans a run of a job on each host.
    pub(super) async fn run_job(
        &self,
        request: &RunRequest,
        references: &[String],
    ) -> Result<Vec<Planned>, OperationError> {
        let mut planned = Vec::new();
        for host in self.hosts_of(references)? {
            planned.push(self.run_job_on(request, &host).await?);
        }
        Ok(planned)
    }

    async fn run_job_on(&self, request: &RunRequest, host: &str) -> Result<Planned, OperationError> {
        let (at, stack) = (host.to_owned(), request.stack.clone());
        let kept = self.db.run(move |store| store.stack_revision(&at, &stack, None)).await?;
        let Some(kept) = kept else {
            let stack = shown(&request.stack, 60);
            let sentence = format!(
                "the stack '{stack}' on {host} was not deployed with Gubernum; deploy or adopt it first"
            );
            return Err(OperationError::NotFound { field: Some("/stack".to_owned()), sentence });
        };
        let desired = self.desired(&kept).await?;
        let Some(job) = desired.job(&request.service) else {
            let known = desired.job_names();
            let sentence = format!(
                "the stack '{}' has no job '{}'; {}",
                shown(&request.stack, 60),
                shown(&request.service, 60),
                if known.is_empty() {
                    "a service with 'x-gubernum-schedule' is a job".to_owned()
                } else {
                    format!("it has {}", known.join(", "))
                }
            );
            return Err(OperationError::NotFound { field: Some("/service".to_owned()), sentence });
        };
        let engine = match self.links.engine(host) {
            Ok(engine) => engine,
            Err(error) => {
                let name = format!("{}-{}", desired.name, job.service);
                let mut plan = TargetPlan { host: host.to_owned(), name, ..TargetPlan::default() };
                plan.refuse(error.to_string());
                return Ok(plan.into());
            }
        };
        // Of the rest of the stack nothing is looked at but what is there.
        let nothing = gubernum_core::stack::Desired { name: desired.name.clone(), ..Default::default() };
        let (present, _) = self.present(&nothing, host, &engine).await?;
        let names: Vec<&str> = present.names.values().map(String::as_str).collect();
        let definition = definition_of_run(&desired.name, job, &names);
        let findings = self.checker.check(host, &engine, &definition, None).await;
        let run = Run { job, present: &present, findings };
        let PlannedPart { plan, next: definition, files, build, .. } = plan_run(&run, definition);
        Ok(Planned { plan, inputs: StepInputs { definition, files, build, ..StepInputs::default() } })
    }
}
