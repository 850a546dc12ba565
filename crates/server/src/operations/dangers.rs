//! Finds the guarded changes in a plan, and holds them until the caller meets the team's guard.

use gubernum_core::guard::{GuardedChange, host_reach, new_reach, removes_volumes};
use gubernum_core::plan::{Kind, ObjectKind, Request};

use crate::access::{Dangerous, Passed};
use crate::operations::runner::{Planning, Runner};
use crate::operations::{Author, OperationError};

impl Runner {
    /// Holds back what is dangerous until the caller has done what the team asks for.
    pub(super) async fn pass_guards(
        &self,
        request: &Request,
        references: &[String],
        author: &Author,
        planning: &Planning,
    ) -> Result<Vec<Passed>, OperationError> {
        let mut all = Vec::new();
        for (danger, what) in dangers(request.kind(), planning) {
            let what = what.join("; ");
            let change = Dangerous {
                danger,
                object: references.join(" "),
                detail: format!("{} {}: {what}", request.kind().word(), references.join(" ")),
                exactly: format!("{} {what}", serde_json::to_string(request).unwrap_or_default()),
            };
            match self.guards.pass(&author.asker(), change).await {
                Ok(passed) => all.push(passed),
                Err(error) => {
                    for passed in all {
                        self.guards.give_back(passed).await;
                    }
                    return Err(error.into());
                }
            }
        }
        Ok(all)
    }
}

/// What is dangerous about planned changes, each with what it would do.
fn dangers(kind: Kind, planning: &Planning) -> Vec<(GuardedChange, Vec<String>)> {
    let changed = || planning.planned.iter().filter(|p| !p.plan.steps.is_empty());
    let volumes: Vec<String> = changed()
        .filter(|p| removes_volumes(kind, &p.plan))
        .map(|p| match p.plan.object {
            ObjectKind::Volume => format!("volume {} is removed with its data", p.plan.reference()),
            _ => format!("{} is removed with its anonymous volumes", p.plan.reference()),
        })
        .collect();
    // What a job asks for was looked at when its stack was applied.
    let reach = changed().filter(|_| kind != Kind::Run).flat_map(|p| {
        let current = p.inputs.current.as_ref().map(|c| &c.definition);
        let found = new_reach(&p.plan, p.inputs.definition.as_ref(), current);
        found.into_iter().map(|what| format!("{} asks for {what}", p.plan.reference())).collect::<Vec<_>>()
    });
    let of_jobs = planning.jobs.iter().flat_map(|job| {
        let before = job.current.as_ref().map(host_reach).unwrap_or_default();
        let found = host_reach(&job.next).into_iter().filter(move |what| !before.contains(what));
        found.map(|what| format!("{} asks for {what}", job.reference))
    });
    let reach: Vec<String> = reach.chain(of_jobs).collect();
    let all = [(GuardedChange::RemoveVolumes, volumes), (GuardedChange::HostReach, reach)];
    all.into_iter().filter(|(_, what)| !what.is_empty()).collect()
}
