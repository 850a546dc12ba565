//! The program as its users run it: the service and the demo as processes, the client commands with
//! their output and exit codes, and the console in a browser.

// All of this is tests: their helpers may fail and speak as the tests themselves may.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, clippy::print_stdout)]

mod acting;
mod acting_console;
mod attacks_console;
mod broken_wire;
mod canaries_console;
mod checking;
mod commands;
mod console;
mod crash;
mod every_page_console;
mod figures_console;
mod form_on_engines;
mod guards_console;
mod half_uploads;
mod inside_console;
mod jobs_console;
mod killed;
mod killed_move;
mod killed_stack;
mod members_console;
mod service;
mod small_forms_console;
mod stacks;
mod stacks_console;
mod support;
mod team_console;
mod tour_console;
mod typing_console;
mod watching;
