/** The state of a job, in words. */

import { age } from "../../lib/format";
import type { JobRow, JobRun, RunOutcome } from "../../lib/types";

const GOOD = new Set<RunOutcome>(["succeeded", "cancelled", "skipped"]);

const WORDS: Record<RunOutcome, string> = {
  succeeded: "Succeeded",
  failed: "Failed",
  "timed-out": "Timed out",
  cancelled: "Cancelled",
  skipped: "Skipped: the previous run was still running",
  missed: "Missed",
  interrupted: "Interrupted",
};

/** Whether a run went wrong. */
export function isBadRun(run: JobRun): boolean {
  return !GOOD.has(run.outcome);
}

/** Whether its last run went wrong. */
export function isBad(row: JobRow): boolean {
  return row.last != null && isBadRun(row.last);
}

/** What its last run came to, or that one is under way. */
export function lastRun(row: JobRow, now: number): string {
  if (row.running && row.running.length > 0) {
    return row.running.length === 1 ? "Running." : `${row.running.length} runs in progress.`;
  }
  if (!row.last) return "No runs yet.";
  const when = `${WORDS[row.last.outcome]} ${age(row.last.ended, now)} ago`;
  return row.last.sentence && isBad(row) ? `${when}: ${row.last.sentence}` : `${when}.`;
}

/** How long it is until a moment: `in 3 h`. */
export function until(time: string, now: number): string {
  const ahead = Date.parse(time) - now;
  if (ahead <= 0) return "now";
  // The length of time is the same ahead as back.
  return `in ${age(new Date(now - ahead).toISOString(), now)}`;
}
