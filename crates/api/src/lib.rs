//! The words of Gubernum's HTTP API and live protocol, shared by the service and its clients.
//!
//! Requests refuse unknown fields; answers may grow new ones. Times are RFC 3339 in UTC, sizes in
//! bytes, durations in seconds. The fleet's own records come from `gubernum_core` as they are.

pub mod directories;
pub mod files;
pub mod guard;
pub mod images;
pub mod jobs;
pub mod live;
pub mod logs;
pub mod members;
pub mod problem;
pub mod records;
pub mod requests;
pub mod sources;
pub mod stacks;
pub mod team;
pub mod terminals;
pub mod timeline;
pub mod usage;
pub mod views;

pub use gubernum_core::assets::{AssetKind, Disk, Image, Network, Subnet, Volume};
pub use gubernum_core::container::{Attachment, Container, Health, Mount, Port, Reason, Severity, State};
pub use gubernum_core::definition::Definition;
pub use gubernum_core::definition::check::{Finding, Weight};
pub use gubernum_core::delta::{Change, Delta};
pub use gubernum_core::host::{
    AssetCounts, EngineFacts, Host, LinkFault, LinkProblem, LinkState, MachineFacts,
};
pub use gubernum_core::inventory::{
    ImageCopy, ImageRow, NetworkMember, NetworkRow, PortRow, ServiceRow, StackRow, VolumeRow, VolumeUser,
};
pub use gubernum_core::journal::{Operation, OperationState, Target, TargetState};
pub use gubernum_core::logs::Stream;
pub use gubernum_core::plan::{Kind, ObjectKind, Request, Step, TargetPlan, TidyPiece};
pub use gubernum_core::tidy::{Leftover, Suggestion};
pub use gubernum_core::usage::{Figure, Figures};
pub use live::{FromClient, FromServer};
pub use problem::Problem;
