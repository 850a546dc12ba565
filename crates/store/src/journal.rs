//! The journal of operations: written before an engine is called, updated as targets end.

use gubernum_core::journal::{Operation, OperationState, Target, TargetState, overall};
use gubernum_core::operation_filter::{OperationFilter, OutcomeFilter};
use gubernum_core::plan::{ObjectKind, Request, Step};
use gubernum_core::timeline::{EventKind, TimelineEvent};
use jiff::Timestamp;
use rusqlite::types::Value;
use rusqlite::{Connection, OptionalExtension, Row, Transaction, params, params_from_iter};

use crate::{Store, StoreError, damage, events, from_nanos, nanos, odd_word};

/// How many operations are kept; the oldest that are over go first.
pub const KEPT_OPERATIONS: i64 = 10_000;
/// How long an idempotency key stands for its operation, in nanoseconds: a day.
const KEY_LIFE: i64 = 24 * 3600 * 1_000_000_000;

/// What a sealed request is bound to.
pub(crate) const SEALED_REQUEST: &str = "request of an operation";

/// An operation to be written.
#[derive(Debug, Clone)]
pub struct NewOperation<'a> {
    /// What was requested, with secrets in it: what everybody sees is masked, the whole is sealed.
    pub request: &'a Request,
    /// The references as they were written.
    pub references: &'a [String],
    /// Who asked.
    pub author: &'a str,
    /// From which address.
    pub address: &'a str,
    /// When.
    pub created: Timestamp,
    /// The targets as planned.
    pub targets: Vec<Target>,
    /// The idempotency key with a hash of the request it came with.
    pub idempotency: Option<(&'a str, &'a [u8])>,
}

impl Store {
    /// Writes an operation and gives it with its number. When its idempotency key stands for one
    /// already, gives that one instead, and `false`.
    ///
    /// # Errors
    /// [`StoreError::KeyReused`] when the key came with another request before.
    pub fn add_operation(&self, new: NewOperation<'_>) -> Result<(Operation, bool), StoreError> {
        let mut connection = self.connection.lock();
        let transaction = connection.transaction()?;
        if let Some((key, hash)) = new.idempotency {
            transaction.execute(
                "UPDATE operations SET idempotency_key = NULL WHERE author = ?1 AND idempotency_key = ?2 AND created < ?3",
                params![new.author, key, nanos(new.created) - KEY_LIFE],
            )?;
            if let Some((id, same)) = transaction
                .query_row(
                    "SELECT id, idempotency_hash = ?3 FROM operations WHERE author = ?1 AND idempotency_key = ?2",
                    params![new.author, key, hash],
                    |r| Ok((r.get::<_, i64>(0)?, r.get::<_, bool>(1)?)),
                )
                .optional()?
            {
                if !same {
                    return Err(StoreError::KeyReused);
                }
                let known = read(&transaction, id)?.ok_or_else(|| StoreError::Damaged(format!("operation {id}")))?;
                return Ok((known, false));
            }
        }
        let state = overall(new.request.kind(), &new.targets);
        let ended = (state != OperationState::Running).then_some(new.created);
        let (key, hash) = new.idempotency.unzip();
        let masked = new.request.masked();
        // What was requested is sealed whole: secrets may appear in it where nobody looks for them.
        let sealed = Some(self.seal.seal(SEALED_REQUEST, to_json(new.request)?.as_bytes())?);
        transaction.execute(
            "INSERT INTO operations (request, refs, author, state, created, ended, idempotency_key, idempotency_hash, sealed, address)
             VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10)",
            params![
                to_json(&masked)?,
                to_json(new.references)?,
                new.author,
                state.word(),
                nanos(new.created),
                ended.map(nanos),
                key,
                hash,
                sealed,
                new.address
            ],
        )?;
        let id = transaction.last_insert_rowid();
        for (position, target) in (0i64..).zip(&new.targets) {
            insert_target(&transaction, id, position, target)?;
        }
        transaction.execute(
            "DELETE FROM operations WHERE state <> 'running' AND id <= ?1 - ?2",
            params![id, KEPT_OPERATIONS],
        )?;
        transaction.commit()?;
        let operation = Operation {
            id: id.unsigned_abs(),
            request: masked,
            references: new.references.to_vec(),
            author: new.author.to_owned(),
            state,
            cancel_requested: false,
            created: new.created,
            ended,
            targets: new.targets,
        };
        Ok((operation, true))
    }

    /// Writes how one target stands.
    ///
    /// # Errors
    /// When the database fails.
    pub fn set_target(&self, operation: u64, position: usize, target: &Target) -> Result<(), StoreError> {
        let mut connection = self.connection.lock();
        let transaction = connection.transaction()?;
        set_target(&transaction, operation, position, target)?;
        transaction.commit()?;
        Ok(())
    }

    /// Writes the bytes that tidying a target away won.
    ///
    /// # Errors
    /// When the database fails.
    pub fn set_target_bytes(
        &self,
        operation: u64,
        position: usize,
        bytes: Option<u64>,
    ) -> Result<(), StoreError> {
        self.connection.lock().execute(
            "UPDATE targets SET bytes = ?3 WHERE operation = ?1 AND position = ?2",
            params![signed(operation), i64::try_from(position).unwrap_or(i64::MAX), bytes.map(signed)],
        )?;
        Ok(())
    }

    /// Writes how the operation as a whole stands.
    ///
    /// # Errors
    /// When the database fails.
    pub fn set_operation(&self, operation: &Operation) -> Result<(), StoreError> {
        self.connection.lock().execute(
            "UPDATE operations SET state = ?2, cancel_requested = ?3, ended = ?4 WHERE id = ?1",
            params![
                signed(operation.id),
                operation.state.word(),
                operation.cancel_requested,
                operation.ended.map(nanos)
            ],
        )?;
        Ok(())
    }

    /// What was requested by an operation, with the secrets in it.
    ///
    /// # Errors
    /// When the database fails or the seal cannot be opened.
    pub fn whole_request(&self, id: u64) -> Result<Option<Request>, StoreError> {
        let found = self
            .connection
            .lock()
            .query_row("SELECT request, sealed FROM operations WHERE id = ?1", [signed(id)], |r| {
                Ok((r.get::<_, String>(0)?, r.get::<_, Option<Vec<u8>>>(1)?))
            })
            .optional()?;
        let Some((request, sealed)) = found else { return Ok(None) };
        match sealed {
            None => from_json(&request).map(Some),
            Some(sealed) => {
                let opened = self.seal.open_sealed(SEALED_REQUEST, &sealed)?;
                from_json(&String::from_utf8_lossy(&opened)).map(Some)
            }
        }
    }

    /// The address from which an operation was requested; `-` where that is not known.
    ///
    /// # Errors
    /// When the database fails.
    pub fn operation_address(&self, id: u64) -> Result<String, StoreError> {
        let connection = self.connection.lock();
        let found = connection
            .query_row("SELECT address FROM operations WHERE id = ?1", [signed(id)], |r| r.get(0))
            .optional()?;
        Ok(found.unwrap_or_else(|| "-".to_owned()))
    }

    /// One operation with its targets.
    ///
    /// # Errors
    /// When the database fails.
    pub fn operation(&self, id: u64) -> Result<Option<Operation>, StoreError> {
        read(&self.connection.lock(), signed(id))
    }

    /// The operation that an idempotency key with this request's hash stands for.
    ///
    /// # Errors
    /// When the database fails.
    pub fn operation_by_key(
        &self,
        author: &str,
        key: &str,
        hash: &[u8],
    ) -> Result<Option<Operation>, StoreError> {
        let connection = self.connection.lock();
        let id = connection
            .query_row(
                "SELECT id FROM operations WHERE author = ?1 AND idempotency_key = ?2 AND idempotency_hash = ?3",
                params![author, key, hash],
                |r| r.get::<_, i64>(0),
            )
            .optional()?;
        id.map_or(Ok(None), |id| read(&connection, id))
    }

    /// The newest operations with a number below `before`, newest first, at most `most`, that a filter may match: the
    /// last word on it is [`OperationFilter::matches`].
    ///
    /// # Errors
    /// When the database fails.
    pub fn operations(
        &self,
        before: Option<u64>,
        most: u32,
        filter: &OperationFilter,
    ) -> Result<Vec<Operation>, StoreError> {
        let connection = self.connection.lock();
        let (conditions, mut values) = narrowed(filter);
        let text = format!("SELECT id FROM operations o WHERE id < ?{conditions} ORDER BY id DESC LIMIT ?");
        values.insert(0, before.map_or(i64::MAX, signed).into());
        values.push(i64::from(most).into());
        let mut query = connection.prepare_cached(&text)?;
        let ids: Vec<i64> =
            query.query_map(params_from_iter(values), |r| r.get(0))?.collect::<Result<_, _>>()?;
        Ok(ids.into_iter().filter_map(|id| readable_operation(&connection, id)).collect())
    }

    /// The operations that are not over, oldest first: what an earlier run of the service left.
    ///
    /// # Errors
    /// When the database fails.
    pub fn open_operations(&self) -> Result<Vec<Operation>, StoreError> {
        let connection = self.connection.lock();
        let mut query =
            connection.prepare("SELECT id FROM operations WHERE state = 'running' ORDER BY id")?;
        let ids: Vec<i64> = query.query_map([], |r| r.get(0))?.collect::<Result<_, _>>()?;
        Ok(ids.into_iter().filter_map(|id| readable_operation(&connection, id)).collect())
    }
}

/// The conditions of a query for what a filter may match. Text that SQL would compare otherwise than the filter does is left
/// to the filter.
fn narrowed(filter: &OperationFilter) -> (String, Vec<Value>) {
    let (mut conditions, mut values) = (String::new(), Vec::new());
    let mut narrow = |condition: &str, given: Vec<Value>| {
        conditions.push_str(condition);
        values.extend(given);
    };
    let comparable = |part: &&String| part.is_ascii() && !part.contains(['"', '\\']);
    if let Some(part) = filter.object.as_ref().filter(comparable) {
        let part = Value::from(part.to_lowercase());
        narrow(
            " AND (instr(lower(refs), ?) OR EXISTS (SELECT 1 FROM targets t WHERE t.operation = o.id \
             AND instr(lower(t.host || '/' || t.name), ?)))",
            vec![part.clone(), part],
        );
    }
    if let Some(part) = filter.member.as_ref().filter(comparable) {
        narrow(" AND instr(lower(author), ?)", vec![part.to_lowercase().into()]);
    }
    if let Some(kind) = filter.kind {
        // What creates something was once called 'make'.
        let word = Value::from(kind.word().to_owned());
        narrow(
            " AND json_extract(request, '$.kind') IN (?, replace(?, 'create-', 'make-'))",
            vec![word.clone(), word],
        );
    }
    match filter.outcome {
        None => {}
        Some(OutcomeFilter::Running) => narrow(" AND state = 'running'", Vec::new()),
        Some(OutcomeFilter::Failed) => narrow(" AND state NOT IN ('running', 'succeeded')", Vec::new()),
        // Whoever may not see the target that failed sees a success.
        Some(OutcomeFilter::Succeeded) => narrow(" AND state <> 'running'", Vec::new()),
    }
    if let Some(since) = filter.since {
        narrow(" AND created >= ?", vec![nanos(since).into()]);
    }
    if let Some(until) = filter.until {
        narrow(" AND created < ?", vec![nanos(until).into()]);
    }
    (conditions, values)
}

/// Writes how one target stands, and on the timeline what it came to.
pub(crate) fn set_target(
    transaction: &Transaction<'_>,
    operation: u64,
    position: usize,
    target: &Target,
) -> Result<(), StoreError> {
    transaction.prepare_cached(
        "UPDATE targets SET state = ?3, sentence = ?4, began = ?5, ended = ?6, at = ?7, bytes = ?8 WHERE operation = ?1 AND position = ?2",
    )?.execute(params![
        signed(operation),
        i64::try_from(position).unwrap_or(i64::MAX),
        target.state.word(),
        target.sentence,
        target.began.map(nanos),
        target.ended.map(nanos),
        target.at,
        target.bytes.map(signed)
    ])?;
    if target.state.is_final() {
        tell(transaction, operation, target)?;
    }
    Ok(())
}

/// Puts the outcome of a target on the timeline.
fn tell(transaction: &Transaction<'_>, operation: u64, target: &Target) -> Result<(), StoreError> {
    let (request, author, created): (String, String, i64) = transaction
        .prepare_cached("SELECT request, author, created FROM operations WHERE id = ?1")?
        .query_row([signed(operation)], |r| Ok((r.get(0)?, r.get(1)?, r.get(2)?)))?;
    let request: Request = from_json(&request)?;
    let event = TimelineEvent {
        id: 0,
        time: target.ended.unwrap_or_else(|| from_nanos(created)),
        kind: EventKind::Operation,
        host: target.host.clone(),
        object: target.object.word().to_owned(),
        name: target.name.clone(),
        action: request.kind().word().to_owned(),
        member: Some(author),
        sentence: target.sentence.clone().unwrap_or_else(|| target.state.word().to_owned()),
        bad: !target.state.is_good(),
        operation: Some(operation),
        folded: 0,
    };
    events::insert(transaction, &event)
}

fn insert_target(
    transaction: &Transaction<'_>,
    id: i64,
    position: i64,
    target: &Target,
) -> Result<(), StoreError> {
    let steps = if target.steps.is_empty() { None } else { Some(to_json(&target.steps)?) };
    let after = if target.after.is_empty() { None } else { Some(to_json(&target.after)?) };
    transaction
        .prepare_cached(
            "INSERT INTO targets (operation, position, host, container, name, step, state, sentence, began, ended, object, bytes, after)
             VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10, ?11, ?12, ?13)",
        )?
        .execute(params![
            id,
            position,
            target.host,
            target.id,
            target.name,
            steps,
            target.state.word(),
            target.sentence,
            target.began.map(nanos),
            target.ended.map(nanos),
            target.object.word(),
            target.bytes.map(signed),
            after
        ])?;
    Ok(())
}

/// An operation of a list; one that cannot be read is named and left out.
fn readable_operation(connection: &Connection, id: i64) -> Option<Operation> {
    read(connection, id).unwrap_or_else(|error| {
        damage::note("operations", &format!("operation {id}: {error}"));
        None
    })
}

fn read(connection: &Connection, id: i64) -> Result<Option<Operation>, StoreError> {
    let row = connection
        .prepare_cached(
            "SELECT request, refs, author, cancel_requested, created, ended FROM operations WHERE id = ?1",
        )?
        .query_row([id], |r| {
            Ok((
                r.get::<_, String>(0)?,
                r.get::<_, String>(1)?,
                r.get::<_, String>(2)?,
                r.get::<_, bool>(3)?,
                r.get::<_, i64>(4)?,
                r.get::<_, Option<i64>>(5)?,
            ))
        })
        .optional()?;
    let Some((request, references, author, cancel_requested, created, ended)) = row else { return Ok(None) };
    let mut query = connection.prepare_cached(
        "SELECT host, container, name, step, state, sentence, began, ended, object, at, bytes, after FROM targets WHERE operation = ?1 ORDER BY position",
    )?;
    let rows: Vec<(Target, String, Option<String>, Option<String>)> =
        query.query_map([id], target_row)?.collect::<Result<_, _>>()?;
    let targets = rows.into_iter().map(finish_target).collect::<Result<Vec<_>, _>>()?;
    let request: Request = from_json(&request)?;
    Ok(Some(Operation {
        id: id.unsigned_abs(),
        references: from_json(&references)?,
        author,
        state: overall(request.kind(), &targets),
        cancel_requested,
        created: from_nanos(created),
        ended: ended.map(from_nanos),
        targets,
        request,
    }))
}

fn target_row(r: &Row<'_>) -> rusqlite::Result<(Target, String, Option<String>, Option<String>)> {
    let target = Target {
        host: r.get(0)?,
        id: r.get(1)?,
        name: r.get(2)?,
        object: object(8, &r.get::<_, String>(8)?)?,
        after: Vec::new(),
        steps: Vec::new(),
        at: r.get(9)?,
        progress: None,
        bytes: r.get::<_, Option<i64>>(10)?.map(i64::unsigned_abs),
        state: TargetState::Waiting,
        sentence: r.get(5)?,
        began: r.get::<_, Option<i64>>(6)?.map(from_nanos),
        ended: r.get::<_, Option<i64>>(7)?.map(from_nanos),
    };
    Ok((target, r.get(4)?, r.get(3)?, r.get(11)?))
}

fn finish_target(
    (mut target, state, step, after): (Target, String, Option<String>, Option<String>),
) -> Result<Target, StoreError> {
    target.after = after.as_deref().map_or_else(|| Ok(Vec::new()), from_json)?;
    target.state = state
        .parse::<TargetState>()
        .ok()
        .ok_or_else(|| StoreError::Damaged(format!("target state '{state}'")))?;
    target.steps = match step.as_deref() {
        None => Vec::new(),
        Some(list) if list.starts_with('[') => from_json(list)?,
        // Written when a target had one step.
        Some(one) => vec![from_json::<Step>(one)?],
    };
    Ok(target)
}

/// Reads the word of an object.
pub(crate) fn object(column: usize, word: &str) -> rusqlite::Result<ObjectKind> {
    word.parse().map_err(|_| odd_word(column, "kind of object", word))
}

fn signed(id: u64) -> i64 {
    i64::try_from(id).unwrap_or(i64::MAX)
}

fn to_json<T: serde::Serialize + ?Sized>(value: &T) -> Result<String, StoreError> {
    serde_json::to_string(value).map_err(|e| StoreError::Damaged(e.to_string()))
}

fn from_json<T: serde::de::DeserializeOwned>(text: &str) -> Result<T, StoreError> {
    serde_json::from_str(text).map_err(|e| StoreError::Damaged(e.to_string()))
}
