//! Changes: the one way in for all of them.
//!
//! The [`Runner`] is the handle: it takes a request, has the [`planner`] make a plan of it, writes the operation to the
//! journal and only then lets the [`executor`] ask engines, a few at once on each host, each target with an outcome of its
//! own. [`active`] knows what is under way: no two operations work on the same object, and the second hears who is at it.
//! [`recovery`] settles what an earlier run of the service left unfinished. `docs/design/change.md` has the states, what
//! is written when, and what a crash at each point leads to.

mod active;
mod build_step;
mod catch_up;
pub(crate) mod claims;
mod context;
mod copy_steps;
mod copying;
mod dangers;
mod definition_checker;
mod error;
mod executor;
mod graph;
mod hooks;
pub(crate) mod http;
mod job_steps;
mod permission;
mod planner;
mod queue;
mod readiness;
mod recovery;
mod rollback;
mod runner;
mod stack_texts;
mod target_run;

use std::sync::Arc;

use gubernum_core::rights::Access;

use crate::access::{CallerState, GuardedCaller};
pub(crate) use claims::Claims;
pub(crate) use context::OperationsContext;
pub(crate) use error::OperationError;
pub(crate) use queue::OperationQueue;
pub(crate) use runner::{Runner, RunnerParts};

/// The most targets of one operation.
pub(crate) const MOST_TARGETS: usize = 20_000;
/// The most references of one request.
pub(crate) const MOST_REFERENCES: usize = 1000;
/// The most operations under way at once.
pub(crate) const MOST_RUNNING: usize = 64;

/// Who asks for a change, and from where.
#[derive(Debug, Clone)]
pub(crate) struct Author {
    /// The member.
    pub member: String,
    /// The address.
    pub address: String,
    /// What they may.
    pub access: Arc<Access>,
    /// By which session or token, or by whose rights; for the audit log.
    pub via: String,
    /// Whether they have stepped up.
    pub standing: CallerState,
}

impl Author {
    /// What the service does by itself, with what somebody may.
    pub(crate) fn service(name: &str, access: Access, via: String) -> Self {
        let (access, standing) = (Arc::new(access), CallerState::Service);
        Self { member: name.to_owned(), address: String::new(), access, via, standing }
    }

    /// Who asks for something dangerous.
    pub(crate) fn asker(&self) -> GuardedCaller {
        let (member, address) = (self.member.clone(), self.address.clone());
        GuardedCaller { member, address, via: self.via.clone(), standing: self.standing }
    }
}
