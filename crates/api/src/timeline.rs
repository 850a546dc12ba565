//! The timeline on the wire: it is shown as it is kept.

pub use gubernum_core::timeline::{EventKind, TimelineEvent};
