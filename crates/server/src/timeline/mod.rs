//! The timeline and the audit log: what is recorded, and whether the records are whole.

pub(crate) mod http;
pub(crate) mod integrity;
pub(crate) mod recorder;
pub(crate) use integrity::reasons as reasons_of_service;
pub(crate) use recorder::Recorder;
