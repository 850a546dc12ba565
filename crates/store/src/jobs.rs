//! Jobs: their runs and output, and up to when each schedule was checked.

use std::collections::BTreeMap;

use gubernum_core::jobs::{JobRun, RunOutcome};
use jiff::Timestamp;
use rusqlite::{OptionalExtension, Row, params};

use crate::{Store, StoreError, from_nanos, nanos};

/// A host, a stack and a service.
pub type JobKey = (String, String, String);

const COLUMNS: &str =
    "id, host, stack, service, operation, due, began, ended, outcome, exit_code, sentence, missed";

impl Store {
    /// Keeps what a run came to, and of the job only the newest `keep` runs. Gives its number. A run whose operation is kept
    /// already stays as it is.
    ///
    /// # Errors
    /// When the database fails.
    pub fn add_job_run(
        &self,
        run: &JobRun,
        output: &str,
        is_cut: bool,
        keep: u32,
    ) -> Result<u64, StoreError> {
        let operation = run.operation.map(|n| i64::try_from(n).unwrap_or(i64::MAX));
        let mut connection = self.connection.lock();
        let transaction = connection.transaction()?;
        let known: Option<i64> = transaction
            .query_row(
                "SELECT id FROM job_runs WHERE operation = ?1 AND host = ?2",
                params![operation, run.host],
                |r| r.get(0),
            )
            .optional()?;
        if let Some(id) = known {
            return Ok(id.unsigned_abs());
        }
        let id: i64 = transaction.query_row(
            "INSERT INTO job_runs (host, stack, service, operation, due, began, ended, outcome, exit_code, sentence, missed,
                                   output, cut)
             VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10, ?11, ?12, ?13) RETURNING id",
            params![
                run.host,
                run.stack,
                run.service,
                operation,
                run.due.map(nanos),
                nanos(run.began),
                nanos(run.ended),
                run.outcome.word(),
                run.exit_code,
                run.sentence,
                run.missed,
                output,
                is_cut
            ],
            |r| r.get(0),
        )?;
        transaction.execute(
            "DELETE FROM job_runs WHERE host = ?1 AND stack = ?2 AND service = ?3 AND id NOT IN
             (SELECT id FROM job_runs WHERE host = ?1 AND stack = ?2 AND service = ?3 ORDER BY id DESC LIMIT ?4)",
            params![run.host, run.stack, run.service, keep.max(1)],
        )?;
        transaction.commit()?;
        Ok(id.unsigned_abs())
    }

    /// The runs of a job that are kept, the newest first.
    ///
    /// # Errors
    /// When the database fails.
    pub fn job_runs(&self, host: &str, stack: &str, service: &str) -> Result<Vec<JobRun>, StoreError> {
        let connection = self.connection.lock();
        let mut query = connection.prepare_cached(&format!(
            "SELECT {COLUMNS} FROM job_runs WHERE host = ?1 AND stack = ?2 AND service = ?3 ORDER BY id DESC"
        ))?;
        let rows = query.query_map([host, stack, service], job_run)?;
        Ok(rows.collect::<Result<_, _>>()?)
    }

    /// The newest run of each job.
    ///
    /// # Errors
    /// When the database fails.
    pub fn last_job_runs(&self) -> Result<BTreeMap<JobKey, JobRun>, StoreError> {
        let connection = self.connection.lock();
        let mut query = connection.prepare_cached(&format!(
            "SELECT {COLUMNS} FROM job_runs WHERE id IN (SELECT MAX(id) FROM job_runs GROUP BY host, stack, service)"
        ))?;
        let rows = query.query_map([], job_run)?;
        let keyed = |run: JobRun| ((run.host.clone(), run.stack.clone(), run.service.clone()), run);
        Ok(rows.map(|run| run.map(keyed)).collect::<Result<_, _>>()?)
    }

    /// One run with what it said, and whether the beginning of that was left out.
    ///
    /// # Errors
    /// When the database fails.
    pub fn job_run(&self, id: u64) -> Result<Option<(JobRun, String, bool)>, StoreError> {
        let id = i64::try_from(id).unwrap_or(i64::MAX);
        let connection = self.connection.lock();
        let found = connection.query_row(
            &format!("SELECT {COLUMNS}, output, cut FROM job_runs WHERE id = ?1"),
            [id],
            |r| Ok((job_run(r)?, r.get(12)?, r.get(13)?)),
        );
        Ok(found.optional()?)
    }

    /// What the run of an operation came to on a host.
    ///
    /// # Errors
    /// When the database fails.
    pub fn job_run_of(&self, operation: u64, host: &str) -> Result<Option<JobRun>, StoreError> {
        let operation = i64::try_from(operation).unwrap_or(i64::MAX);
        let connection = self.connection.lock();
        let found = connection.query_row(
            &format!("SELECT {COLUMNS} FROM job_runs WHERE operation = ?1 AND host = ?2"),
            params![operation, host],
            job_run,
        );
        Ok(found.optional()?)
    }

    /// Up to when each schedule was looked at, with what it said then.
    ///
    /// # Errors
    /// When the database fails.
    pub fn job_marks(&self) -> Result<BTreeMap<JobKey, (String, Timestamp)>, StoreError> {
        let connection = self.connection.lock();
        let mut query =
            connection.prepare_cached("SELECT host, stack, service, schedule, considered FROM job_marks")?;
        let rows = query
            .query_map([], |r| Ok(((r.get(0)?, r.get(1)?, r.get(2)?), (r.get(3)?, from_nanos(r.get(4)?)))))?;
        Ok(rows.collect::<Result<_, _>>()?)
    }

    /// Notes up to when a schedule was looked at.
    ///
    /// # Errors
    /// When the database fails.
    pub fn mark_job(&self, job: &JobKey, schedule: &str, considered: Timestamp) -> Result<(), StoreError> {
        self.connection.lock().execute(
            "INSERT INTO job_marks (host, stack, service, schedule, considered) VALUES (?1, ?2, ?3, ?4, ?5)
             ON CONFLICT (host, stack, service) DO UPDATE SET schedule = ?4, considered = ?5",
            params![job.0, job.1, job.2, schedule, nanos(considered)],
        )?;
        Ok(())
    }

    /// Forgets the runs of jobs that are no more, or never had a schedule, which ended before a moment.
    ///
    /// # Errors
    /// When the database fails.
    pub fn drop_job_runs_before(&self, before: Timestamp) -> Result<usize, StoreError> {
        let gone = self.connection.lock().execute(
            "DELETE FROM job_runs WHERE ended < ?1 AND NOT EXISTS (SELECT 1 FROM job_marks AS mark
             WHERE mark.host = job_runs.host AND mark.stack = job_runs.stack AND mark.service = job_runs.service)",
            [nanos(before)],
        )?;
        Ok(gone)
    }

    /// Forgets up to when a schedule was evaluated, for a job that no longer exists: one of the same name starts over.
    ///
    /// # Errors
    /// When the database fails.
    pub fn unmark_job(&self, job: &JobKey) -> Result<(), StoreError> {
        self.connection.lock().execute(
            "DELETE FROM job_marks WHERE host = ?1 AND stack = ?2 AND service = ?3",
            params![job.0, job.1, job.2],
        )?;
        Ok(())
    }
}

fn job_run(r: &Row<'_>) -> rusqlite::Result<JobRun> {
    let word: String = r.get(8)?;
    Ok(JobRun {
        id: r.get::<_, i64>(0)?.unsigned_abs(),
        host: r.get(1)?,
        stack: r.get(2)?,
        service: r.get(3)?,
        operation: r.get::<_, Option<i64>>(4)?.map(i64::unsigned_abs),
        due: r.get::<_, Option<i64>>(5)?.map(from_nanos),
        began: from_nanos(r.get(6)?),
        ended: from_nanos(r.get(7)?),
        // A word that is not known is of a newer service.
        outcome: word.parse().unwrap_or(RunOutcome::Interrupted),
        exit_code: r.get(9)?,
        sentence: r.get(10)?,
        missed: r.get(11)?,
    })
}

#[cfg(test)]
#[path = "jobs_tests.rs"]
mod tests;
