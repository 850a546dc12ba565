//! The program as its users run it: the service and the demo as processes, the client commands with
//! their output and exit codes, and the console in a browser.

mod commands;
mod console;
mod crash;
mod service;
mod support;
