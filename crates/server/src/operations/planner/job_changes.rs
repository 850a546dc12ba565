//! The jobs that a stack will have: they run later by automation, so what their definitions ask for is checked when
//! the stack is applied.

use gubernum_core::definition::Definition;
use gubernum_core::plan::request::ApplyRequest;

use crate::operations::OperationError;
use crate::operations::planner::Planner;

/// A job of a stack that is applied.
pub(in crate::operations) struct JobChange {
    /// The host.
    pub(in crate::operations) host: String,
    /// The job as `host/stack/service`.
    pub(in crate::operations) reference: String,
    /// What its containers will be.
    pub(in crate::operations) next: Definition,
    /// What they are until now, if it is there already.
    pub(in crate::operations) current: Option<Definition>,
}

impl Planner {
    /// The jobs of a stack on each host that it is applied to.
    pub(in crate::operations) async fn jobs_of(
        &self,
        request: &ApplyRequest,
        references: &[String],
    ) -> Result<Vec<JobChange>, OperationError> {
        let desired = self.desired(request).await?;
        let mut all = Vec::new();
        if desired.jobs.is_empty() {
            return Ok(all);
        }
        for host in self.hosts_of(references)? {
            let (at, stack) = (host.clone(), request.stack.clone());
            let kept = self.db.run(move |store| store.stack_revision(&at, &stack, None)).await?;
            let before = match kept {
                Some(kept) => self.desired(&kept).await.map(|desired| desired.jobs).unwrap_or_default(),
                None => Vec::new(),
            };
            for job in &desired.jobs {
                let current = before.iter().find(|known| known.service == job.service);
                all.push(JobChange {
                    host: host.clone(),
                    reference: format!("{host}/{}/{}", request.stack, job.service),
                    next: job.definition.clone(),
                    current: current.map(|known| known.definition.clone()),
                });
            }
        }
        Ok(all)
    }
}
