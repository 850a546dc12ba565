//! The clock, passed in so that tests can set it.

use std::sync::Arc;

use jiff::Timestamp;

/// Tells the time.
#[derive(Clone)]
pub struct Clock(Arc<dyn Fn() -> Timestamp + Send + Sync>);

impl Clock {
    /// The machine's clock.
    pub fn system() -> Self {
        Self(Arc::new(Timestamp::now))
    }

    /// A clock of one's own.
    pub fn new(tell: impl Fn() -> Timestamp + Send + Sync + 'static) -> Self {
        Self(Arc::new(tell))
    }

    /// The time now.
    pub fn now(&self) -> Timestamp {
        (self.0)()
    }
}

impl std::fmt::Debug for Clock {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("Clock")
    }
}
