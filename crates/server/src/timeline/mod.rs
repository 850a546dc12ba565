//! The timeline and the audit log: what is recorded, and whether the records are whole.

mod audit_log;
mod context;
pub(crate) mod http;
mod integrity;
mod recorder;
mod syslog;
pub(crate) use audit_log::AuditLog;
pub(crate) use context::{TimelineContext, start};
pub(crate) use integrity::Integrity;
pub(crate) use recorder::{Recorder, Writer as TimelineWriter};
pub(crate) use syslog::Syslog;
