//! From a request to plans: what is meant, what only the engines can tell of it, and then the pure planning in
//! core. With each plan comes its work: what it takes to carry it out that must not be shown.
//!
//! New containers are in `making`, those that take another's place in `replacing`, images, volumes and networks in
//! `things`; what is tidied is in the sibling `tidying`.

mod making;
mod replacing;
mod things;

use gubernum_core::definition::Definition;
use gubernum_core::plan::{Kind, Request, TargetPlan, plan};
use gubernum_core::reference::wildcard;
use gubernum_core::text::shown;
use gubernum_engine::{Defined, Engine};

use crate::fleet::Link;
use crate::operations::{OperationError, Runner};

/// What it takes to carry a plan out, besides its steps. May hold secrets: never shown, never written in the clear.
#[derive(Default, Clone)]
pub(crate) struct Work {
    /// What the container is to be.
    pub(crate) definition: Option<Definition>,
    /// What it is now.
    pub(crate) current: Option<Defined>,
    /// The image it must be made from, when its name means another by now.
    pub(crate) image_id: Option<String>,
}

/// A plan with its work.
pub(crate) type Prepared = (TargetPlan, Work);

impl Runner {
    /// Plans a request.
    pub(super) async fn prepare(
        &self,
        request: &Request,
        references: &[String],
    ) -> Result<Vec<Prepared>, OperationError> {
        request.check()?;
        let mut prepared = match request.kind {
            Kind::Deploy => self.deploys(request, references).await?,
            Kind::Edit => vec![self.edit(request, references).await?],
            Kind::Update => self.updates(request, references).await?,
            Kind::Rollback => self.rollbacks(request, references).await?,
            Kind::Tidy => self.tidying(request).await?,
            kind if kind.is_of_containers() => {
                let targets = self.resolve(references)?;
                let plans =
                    plan(request, &targets).into_iter().map(|p| (rolling(request, p), Work::default()));
                plans.collect()
            }
            _ => self.things(request, references).await?,
        };
        for (plan, _) in prepared.iter_mut().filter(|(plan, _)| !plan.steps.is_empty()) {
            let key = crate::operations::busy_key(plan.object, &plan.host, &plan.id, &plan.name);
            let held = self.busy.lock().held.get(&key).copied();
            if let Some(id) = held {
                plan.refuse(self.busy_words(id));
            }
        }
        Ok(prepared)
    }

    fn reachable(&self, host: &str) -> Result<Engine, String> {
        self.links.get(host).as_ref().and_then(Link::live).ok_or_else(|| self.out_of_reach(host))
    }

    /// Why a host cannot be asked, in words.
    pub(super) fn out_of_reach(&self, host: &str) -> String {
        let why = self.hub.look(|fleet| {
            fleet.host(host).map(|h| match &h.problem {
                Some(problem) => format!("the host is out of reach: {}", problem.sentence),
                None => "the host has not been reached yet; try again in a moment".to_owned(),
            })
        });
        why.unwrap_or_else(|| "the host was taken out of the fleet".to_owned())
    }

    /// The hosts that a pattern means.
    fn hosts(&self, pattern: &str, at: usize) -> Result<Vec<String>, OperationError> {
        let found: Vec<String> = self
            .hub
            .look(|fleet| fleet.hosts().map(|h| h.name.clone()).filter(|h| wildcard(pattern, h)).collect());
        if found.is_empty() {
            let sentence = format!("there is no host `{}` in the fleet", shown(pattern, 60));
            return Err(OperationError::NotFound { field: Some(format!("/targets/{at}")), sentence });
        }
        Ok(found)
    }

    /// Takes `host/name` apart for things that need not be there yet.
    fn host_and_name(&self, reference: &str, at: usize) -> Result<(Vec<String>, String), OperationError> {
        match reference.split_once('/') {
            Some((host, name)) if !host.is_empty() && !name.is_empty() => {
                Ok((self.hosts(host, at)?, name.to_owned()))
            }
            _ => {
                let text = format!("`{}` does not say where: write `host/name`", shown(reference, 80));
                Err(OperationError::invalid(format!("/targets/{at}"), text))
            }
        }
    }

    fn need_targets(references: &[String]) -> Result<(), OperationError> {
        if references.is_empty() {
            return Err(OperationError::invalid(
                "/targets",
                "name at least one target, for example `packhouse/frost-api`",
            ));
        }
        Ok(())
    }
}

/// A restart or start that goes one after another waits for the health of each.
fn rolling(request: &Request, mut plan: TargetPlan) -> TargetPlan {
    let waits = matches!(request.kind, Kind::Start | Kind::Restart) && request.rolling.is_some();
    if waits && !plan.steps.is_empty() {
        let step =
            gubernum_core::plan::Step::Watch { seconds: gubernum_core::plan::make::DEFAULT_WATCH_SECONDS };
        plan.course.push("Wait until it is healthy before the next one.".to_owned());
        plan.steps.push(step);
    }
    plan
}
