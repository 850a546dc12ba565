//! Plans for new containers.

use std::collections::BTreeSet;

use futures_util::StreamExt;
use gubernum_core::definition::Definition;
use gubernum_core::plan::TargetPlan;
use gubernum_core::plan::make::{NewContainer, plan_deploy};
use gubernum_core::plan::request::DeployRequest;
use gubernum_core::text::shown;

use crate::operations::OperationError;
use crate::operations::planner::{Planned, Planner, StepInputs, need_targets};

/// How many hosts are asked at once.
const AT_ONCE: usize = 8;

impl Planner {
    pub(super) async fn deploy(
        &self,
        request: &DeployRequest,
        references: &[String],
    ) -> Result<Vec<Planned>, OperationError> {
        need_targets(references)?;
        let mut definition = (*request.definition).clone();
        let from = match &request.from {
            Some(reference) => Some(self.defined(reference).await?.1.definition),
            None => None,
        };
        unmask(&mut definition, from.as_ref())?;
        let mut wanted = Vec::new();
        let mut seen = BTreeSet::new();
        for (n, reference) in references.iter().enumerate() {
            let (hosts, name) = if reference.contains('/') {
                self.host_and_name(reference, n)?
            } else {
                (self.hosts(reference, n)?, definition.name.clone())
            };
            for host in hosts {
                if !seen.insert((host.clone(), name.clone())) {
                    continue;
                }
                let next = Definition { name: name.clone(), ..definition.clone() };
                wanted.push((host, next));
            }
        }
        let planned = futures_util::stream::iter(wanted)
            .map(|(host, next)| async move { self.deploy_to(request, &host, next).await })
            .buffered(AT_ONCE);
        Ok(planned.collect().await)
    }

    async fn deploy_to(&self, request: &DeployRequest, host: &str, next: Definition) -> Planned {
        let engine = match self.links.engine(host) {
            Ok(engine) => engine,
            Err(error) => {
                let mut plan = TargetPlan { host: host.to_owned(), name: next.name, ..TargetPlan::default() };
                plan.refuse(error.to_string());
                return plan.into();
            }
        };
        let findings = self.checker.check(host, &engine, &next, None).await;
        let volumes = self.volumes_of(host);
        let volumes = volumes.iter().map(String::as_str).collect();
        let plan = plan_deploy(request, NewContainer { host, next: &next, findings, volumes });
        Planned { plan, inputs: StepInputs { definition: Some(next), ..StepInputs::default() } }
    }

    pub(super) fn volumes_of(&self, host: &str) -> Vec<String> {
        self.hub.look(|fleet| {
            fleet
                .assets_of(host)
                .map(|a| a.volumes.iter().map(|v| v.name.clone()).collect())
                .unwrap_or_default()
        })
    }
}

/// Puts what stands hidden in a definition back from where it came.
pub(super) fn unmask(definition: &mut Definition, from: Option<&Definition>) -> Result<(), OperationError> {
    definition.unmask(from).map_err(|(n, name)| {
        let text = format!("the value of '{}' is masked; enter it", shown(&name, 60));
        OperationError::invalid(format!("/definition/environment/{n}/value"), text)
    })
}
