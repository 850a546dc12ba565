//! The service started on loopback and driven through its client and its HTTP and WebSocket interface,
//! over simulated engines, and in `real_hosts` over real ones in network namespaces.

// All of this is tests: their helpers may fail and speak as the tests themselves may.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, clippy::print_stdout)]

mod access;
mod attacks;
mod attacks_raw;
mod building;
mod description;
mod description_calls;
mod description_members;
mod description_objects;
mod directories;
mod directories_forged;
mod files;
mod fleet;
mod guards;
mod hostile;
mod jobs;
mod logs;
mod members;
mod merged_logs;
mod metrics;
mod moving;
mod operations;
mod real_following;
mod real_full_disk;
mod real_hosts;
mod real_jobs;
mod real_keeping;
mod real_moving;
mod real_pulling;
mod real_replacing;
mod real_stacks;
mod real_tidying;
mod real_truth;
mod records;
mod registries;
mod replacing;
mod requests;
mod rights;
mod rights_of_changes;
mod snoozes;
mod sources;
mod stacks;
mod support;
mod team;
mod terminals;
mod together;
mod watching;
