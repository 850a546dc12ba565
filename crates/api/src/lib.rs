//! The words of Gubernum's HTTP API and live protocol, shared by the service and its clients.
//!
//! Requests refuse unknown fields; answers may grow new ones. Times are RFC 3339 in UTC, sizes in
//! bytes, durations in seconds. The fleet's own records come from `gubernum_core` as they are.

pub mod live;
pub mod problem;
pub mod requests;
pub mod views;

pub use gubernum_core::container::{Container, Health, Mount, Port, Reason, Severity, State};
pub use gubernum_core::delta::{Change, Delta};
pub use gubernum_core::host::{EngineFacts, Host, LinkFault, LinkProblem, LinkState};
pub use gubernum_core::journal::{Operation, OperationState, Target, TargetState};
pub use gubernum_core::logs::Stream;
pub use gubernum_core::plan::{Kind, Request, Step, TargetPlan};
pub use live::{FromClient, FromServer};
pub use problem::Problem;
