//! Plans for containers that are made where there is none yet.

use std::collections::BTreeSet;

use futures_util::StreamExt;
use gubernum_core::definition::Definition;
use gubernum_core::plan::make::{Making, plan_make};
use gubernum_core::plan::{Request, TargetPlan};
use gubernum_core::text::shown;

use crate::operations::OperationError;
use crate::operations::planner::{Prepared, Runner, Work};

/// How many hosts are asked at once.
const AT_ONCE: usize = 8;

impl Runner {
    pub(super) async fn deploys(
        &self,
        request: &Request,
        references: &[String],
    ) -> Result<Vec<Prepared>, OperationError> {
        Self::need_targets(references)?;
        let Some(wish) = &request.definition else { return Ok(Vec::new()) };
        let mut definition = (**wish).clone();
        let from = match &request.from {
            Some(reference) => Some(self.defined_of(reference).await?.1.definition),
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
        let prepared = futures_util::stream::iter(wanted)
            .map(|(host, next)| async move { self.deploy_one(request, &host, next).await })
            .buffered(AT_ONCE);
        Ok(prepared.collect().await)
    }

    async fn deploy_one(&self, request: &Request, host: &str, next: Definition) -> Prepared {
        let engine = match self.reachable(host) {
            Ok(engine) => engine,
            Err(why) => {
                let mut plan = TargetPlan { host: host.to_owned(), name: next.name, ..TargetPlan::default() };
                plan.refuse(why);
                return (plan, Work::default());
            }
        };
        let findings = self.judge(host, &engine, &next, None).await;
        let volumes = self.volumes_of(host);
        let making = Making {
            host,
            replaces: None,
            next: &next,
            findings,
            volumes: volumes.iter().map(String::as_str).collect(),
            changes_in_place: false,
            is_newest: None,
            pinned: None,
        };
        let plan = plan_make(request, making);
        (plan, Work { definition: Some(next), ..Work::default() })
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
        let text = format!("the value of `{}` is hidden and not known; write it out", shown(&name, 60));
        OperationError::invalid(format!("/definition/environment/{n}/value"), text)
    })
}
