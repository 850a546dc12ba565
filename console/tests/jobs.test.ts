import { expect, test } from "vitest";
import { isBad, lastRun, until } from "../src/features/stacks/jobs";
import type { JobRow, JobRun } from "../src/lib/types";

const NOW = Date.parse("2026-11-29T12:00:00Z");

function row(last: Partial<JobRun> | null, running: number[] = []): JobRow {
  const run = { outcome: "succeeded", ended: "2026-11-29T10:00:00Z", ...last } as JobRun;
  return {
    host: "coldstore",
    stack: "coldchain",
    service: "night-report",
    last: last ? run : undefined,
    running,
  };
}

test("how a job stands is said in words", () => {
  expect(lastRun(row(null), NOW)).toBe("No runs yet.");
  expect(lastRun(row({}), NOW)).toBe("Succeeded 2 h ago.");
  const failed = row({ outcome: "failed", sentence: "it ended with exit code 2" });
  expect(lastRun(failed, NOW)).toBe("Failed 2 h ago: it ended with exit code 2");
  expect(lastRun(row({ outcome: "failed" }, [12]), NOW)).toBe("Running.");
  expect(lastRun(row({}, [12, 13]), NOW)).toBe("2 runs in progress.");
});

test("what went wrong is told from what was called off or left out", () => {
  for (const outcome of ["failed", "timed-out", "missed", "interrupted"] as const) {
    expect(isBad(row({ outcome }))).toBe(true);
  }
  for (const outcome of ["succeeded", "cancelled", "skipped"] as const) {
    expect(isBad(row({ outcome }))).toBe(false);
  }
  expect(isBad(row(null))).toBe(false);
});

test("a moment to come is told from now", () => {
  expect(until("2026-11-29T15:30:00Z", NOW)).toBe("in 3 h");
  expect(until("2026-11-29T11:00:00Z", NOW)).toBe("now");
});
