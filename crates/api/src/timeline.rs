//! The timeline on the wire, as it is recorded.

pub use gubernum_core::timeline::{EventKind, TimelineEvent};
