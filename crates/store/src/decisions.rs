//! The one write that decides that a stack's change holds, with everything that follows from it in the records:
//! revisions, deployed stacks and Git sources.

use gubernum_core::journal::Target;
use gubernum_core::plan::Request;
use gubernum_core::plan::request::{ApplyRequest, MoveKind, MoveRequest};
use jiff::Timestamp;
use rusqlite::{Connection, Transaction, params};

use crate::journal::set_target;
use crate::sources::{SourceRecord, is_applied, move_source};
use crate::stacks::add_revision;
use crate::{Store, StoreError};

/// A host and a stack on it.
type Place = (String, String);

/// What follows from a decision.
#[derive(Default)]
struct Consequences {
    /// Texts that become the newest revision, with what is kept of them where the operation is not theirs alone.
    fresh: Vec<(String, ApplyRequest, Option<Vec<u8>>)>,
    /// Stacks that are to run from now on.
    there: Vec<Place>,
    /// Stacks that are not any more.
    gone: Vec<Place>,
    /// The commit that was applied.
    commit: Option<String>,
    /// A source that goes along, and whence.
    source: Option<(SourceRecord, Place)>,
}

impl Store {
    /// Decides that a stack's change holds: in one write its targets stand as given, the operation is marked, and its text is
    /// the stack's newest revision, unless it is that already. A stack that was moved is one of its new host, with the repository
    /// that it follows.
    ///
    /// # Errors
    /// When the database fails; then nothing of it is written.
    pub fn decide(
        &self,
        operation: u64,
        targets: &[(usize, Target)],
        now: Timestamp,
    ) -> Result<(), StoreError> {
        let id = i64::try_from(operation).unwrap_or(i64::MAX);
        let hosts = hosts_of(&self.connection.lock(), id)?;
        let what = match self.whole_request(operation)? {
            Some(Request::Apply(request)) => self.applied(request, hosts)?,
            Some(Request::RemoveStack(request)) => Consequences {
                gone: hosts.into_iter().map(|host| (host, request.stack.clone())).collect(),
                ..Consequences::default()
            },
            Some(Request::Move(request)) => self.moved(&request, true)?,
            Some(Request::Clone(request)) => self.moved(&request, false)?,
            _ => Consequences::default(),
        };
        let mut connection = self.connection.lock();
        let transaction = connection.transaction()?;
        for (position, target) in targets {
            set_target(&transaction, operation, *position, target)?;
        }
        transaction.execute("UPDATE operations SET decided = 1 WHERE id = ?1", [id])?;
        for (host, request, sealed) in &what.fresh {
            add_revision(&transaction, id, host, request, sealed.as_deref(), now)?;
        }
        places(&transaction, &what)?;
        if let Some((source, (host, stack))) = &what.source {
            move_source(&transaction, &self.seal, source, host, stack)?;
        }
        transaction.commit()?;
        Ok(())
    }

    fn applied(&self, request: ApplyRequest, hosts: Vec<String>) -> Result<Consequences, StoreError> {
        let mut what = Consequences { commit: request.commit.clone(), ..Consequences::default() };
        for host in hosts {
            let of_host = request.for_host(&host);
            let newest = self.stack_revision(&host, &request.stack, None)?;
            what.there.push((host.clone(), request.stack.clone()));
            if !newest.is_some_and(|newest| newest.is_same_text(&of_host)) {
                // The operation's text is that of all its hosts.
                let is_own = !request.host_variables.is_empty();
                let sealed = is_own.then(|| self.sealed_text(&of_host)).transpose()?;
                what.fresh.push((host, of_host, sealed));
            }
        }
        Ok(what)
    }

    fn moved(&self, request: &MoveRequest, moves: bool) -> Result<Consequences, StoreError> {
        let Some(definition) = request.definition.as_deref().filter(|_| request.what == MoveKind::Stack)
        else {
            return Ok(Consequences::default());
        };
        let (host, stack) = request.origin();
        let mut what = self.applied(definition.clone(), vec![request.to.clone()])?;
        let sealed = self.sealed_text(definition)?;
        what.fresh.iter_mut().for_each(|(_, _, kept)| *kept = Some(sealed.clone()));
        if moves {
            what.gone.push((host.to_owned(), stack.to_owned()));
            let is_set = self.source(&request.to, &definition.stack)?.is_some();
            let source = self.source(host, stack)?.filter(|_| !is_set);
            what.source = source.map(|source| {
                let from = (source.host.clone(), source.stack.clone());
                (SourceRecord { host: request.to.clone(), stack: definition.stack.clone(), ..source }, from)
            });
        }
        Ok(what)
    }
}

fn places(transaction: &Transaction<'_>, what: &Consequences) -> Result<(), StoreError> {
    for (host, stack) in &what.there {
        if let Some(commit) = &what.commit {
            is_applied(transaction, host, stack, commit)?;
        }
        transaction
            .execute("DELETE FROM removed_stacks WHERE host = ?1 AND stack = ?2", params![host, stack])?;
    }
    for (host, stack) in &what.gone {
        transaction.execute(
            "INSERT OR IGNORE INTO removed_stacks (host, stack) VALUES (?1, ?2)",
            params![host, stack],
        )?;
    }
    Ok(())
}

fn hosts_of(connection: &Connection, operation: i64) -> Result<Vec<String>, StoreError> {
    let mut query = connection.prepare_cached("SELECT DISTINCT host FROM targets WHERE operation = ?1")?;
    Ok(query.query_map([operation], |r| r.get(0))?.collect::<Result<_, _>>()?)
}
