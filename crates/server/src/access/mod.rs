//! Authentication and membership: members, roles, invitations, claim code, passwords, sessions, tokens, and
//! throttling of guesses. What rights are and allow is `gubernum_core`'s.

mod automation;
pub(crate) mod budgets;
mod context;
mod directory;
mod guard;
pub(crate) mod http;
pub(crate) mod identity;
pub(crate) mod leases;
pub(crate) mod passwords;
mod rate_limit;
mod refusals;
mod rights;
mod second_factor;
pub(crate) mod secrets;
mod tally;
pub(crate) mod throttle;
mod tickets;
pub(crate) use automation::{AutomationRights, lent, with_rights_of};
pub(crate) use budgets::{Budgets, Kind as BudgetKind, OverBudget, Share};
pub(crate) use context::{AccessContext, start};
pub(crate) use directory::Freshness;
pub(crate) use guard::{CallerState, Dangerous, GuardError, GuardedCaller, Guards, Passed};
pub(crate) use identity::{ClientAddress, Identity};
pub(crate) use leases::{Lease, Leases};
pub(crate) use passwords::{LONGEST as LONGEST_PASSWORD, SHORTEST as SHORTEST_PASSWORD};
pub(crate) use rights::{
    Changed as RightsChanged, RightsInUse, changed_for as rights_changed_for, demands_second_factor, held,
    lacks_second_factor,
};
pub(crate) use secrets::{NoRandomness, claim_code, fresh as fresh_secret, hash as hash_secret};
pub(crate) use tally::{ProblemType, Tally};
pub(crate) use throttle::Throttle;
pub(crate) use tickets::Tickets;
