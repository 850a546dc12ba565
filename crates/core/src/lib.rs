//! The heart of Gubernum, free of I/O: what a fleet is, how observations change it, what a
//! reference means, what a requested change would do, and how log bytes become lines.
//!
//! Nothing here reads a clock, a file or a socket; times come in as arguments. Start with
//! [`fleet::Fleet`] (state), [`reference::Reference`] (naming) and [`plan`] (change).

pub mod address_policy;
pub mod assets;
pub mod audit;
pub mod compose;
pub mod container;
pub mod credential;
pub mod definition;
pub mod delta;
pub mod directory;
pub mod figures;
pub mod fleet;
pub mod freeze;
pub mod guard;
pub mod history;
pub mod host;
pub mod image_name;
pub mod inventory;
pub mod jobs;
pub mod journal;
pub mod logs;
pub mod mask;
pub mod moment;
pub mod moving;
pub mod note;
pub mod operation_filter;
pub mod own_labels;
pub mod plan;
pub mod preferences;
pub mod reason;
pub mod reference;
pub mod registry;
pub mod revision;
pub mod rights;
pub mod selfguard;
pub mod snooze;
pub mod stack;
pub mod syslog;
pub mod text;
pub mod tidy;
pub mod timeline;
pub mod usage;
pub mod yaml;
