//! Tickets for downloads by link, which cannot carry a session's key: see `web::authenticate`.

use std::collections::HashMap;
use std::time::Duration;

use parking_lot::Mutex;
use tokio::time::Instant;

use crate::access::secrets::{NoRandomness, fresh};

/// How long a ticket is good, and how many there may be.
const TICKET: Duration = Duration::from_secs(60);
const MOST_TICKETS: usize = 1000;

/// Tickets for downloads by link: each for one path of one session, once.
#[derive(Default)]
pub(crate) struct Tickets(Mutex<HashMap<String, Ticket>>);

/// The session that asked, the path, and until when it is good.
type Ticket = (Vec<u8>, String, Instant);

impl Tickets {
    /// Makes a ticket; `None` when there are too many.
    pub(crate) fn make(&self, session: &[u8], path: &str) -> Result<Option<String>, NoRandomness> {
        let ticket = fresh("")?;
        let mut all = self.0.lock();
        all.retain(|_, (.., made)| made.elapsed() < TICKET);
        if all.len() >= MOST_TICKETS {
            return Ok(None);
        }
        all.insert(ticket.clone(), (session.to_vec(), path.to_owned(), Instant::now()));
        Ok(Some(ticket))
    }

    /// Takes a ticket, if it is for this path of this session.
    pub(crate) fn take(&self, ticket: &str, session: &[u8], path: &str) -> bool {
        let found = self.0.lock().remove(ticket);
        found.is_some_and(|(of, to, made)| of == session && to == path && made.elapsed() < TICKET)
    }
}
