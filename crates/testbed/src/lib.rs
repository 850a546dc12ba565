//! What the tests and chores are built on: real engines, hosts with addresses of their own, certificates
//! and a browser. Never part of the product.
//!
//! [`bed`] gives an engine of each kind behind one type; [`hosts`] puts real engines into network
//! namespaces; [`certs`] makes an authority; [`registry`] a registry; [`git`] a repository; [`browser`] starts Chromium. A missing tool is an error that
//! names the command that brings it: nothing skips itself.

pub mod bed;
pub mod browser;
pub mod certs;
pub mod git;
pub mod hosts;
pub mod ldap;
pub mod openid;
pub mod process;
pub mod real;
pub mod registry;
pub mod started;

/// What went wrong while setting up.
#[derive(Debug, thiserror::Error)]
pub enum BedError {
    /// A program is not installed.
    #[error("'{0}' is not installed; run 'cargo xtask setup', which installs what the tests need")]
    Missing(String),
    /// A command failed.
    #[error("'{command}' failed: {detail}")]
    Command {
        /// The command.
        command: String,
        /// What it said.
        detail: String,
    },
    /// Something did not come up in time.
    #[error("{what} did not come up within {seconds} s: {detail}")]
    Slow {
        /// What was waited for.
        what: String,
        /// How long.
        seconds: u64,
        /// The end of its log.
        detail: String,
    },
    /// Files.
    #[error(transparent)]
    Io(#[from] std::io::Error),
    /// Certificates.
    #[error(transparent)]
    Certificate(#[from] rcgen::Error),
    /// The engine refused.
    #[error(transparent)]
    Engine(#[from] gubernum_engine::EngineError),
    /// The browser refused.
    #[error(transparent)]
    Browser(#[from] thirtyfour::error::WebDriverError),
}
