/** What is asked of the journal of operations: the service filters all of it; the running ones are filtered here as they move. */
import { tally } from "../../lib/format";
import type { Operation } from "../../lib/types";

/** Filters as they are in the address: part of a reference, part of a member's name, a kind, an outcome, a span back from now. */
export interface Wish {
  object: string;
  member: string;
  kind: string;
  outcome: string;
  since: string;
}

/** Spans that are offered, as the service reads them. */
export const SPANS: [string, string][] = [
  ["", "Any time"],
  ["1h", "Last hour"],
  ["24h", "Last 24 hours"],
  ["7d", "Last 7 days"],
  ["30d", "Last 30 days"],
];

const UNITS: Record<string, number> = { h: 3_600_000, d: 24 * 3_600_000 };

/** A span in milliseconds; nothing for what is none. */
export function span(text: string): number | undefined {
  const [, number, unit] = /^(\d+)([hd])$/.exec(text) ?? [];
  return number && unit ? Number(number) * (UNITS[unit] ?? 0) : undefined;
}

/** The filters of an address. */
export function wishOf(query: URLSearchParams): Wish {
  const field = (name: string) => query.get(name)?.trim() ?? "";
  return {
    object: field("object"),
    member: field("member"),
    kind: field("kind"),
    outcome: field("outcome"),
    since: field("since"),
  };
}

/** Whether an operation is wished for: the same rule as the service's, for what has moved since. */
export function fits(o: Operation, wish: Wish, now: number): boolean {
  const has = (text: string, part: string) => text.toLowerCase().includes(part.toLowerCase());
  const back = span(wish.since);
  return (
    (wish.object === "" ||
      o.references.some((r) => has(r, wish.object)) ||
      o.targets.some((t) => has(`${t.host}/${t.name}`, wish.object))) &&
    (wish.member === "" || has(o.author, wish.member)) &&
    (wish.kind === "" || o.kind === wish.kind) &&
    (wish.outcome === "" || group(o) === wish.outcome) &&
    (back === undefined || now - Date.parse(o.created) <= back)
  );
}

function group(o: Operation): string {
  if (o.state === "running") return "running";
  return tally(o).bad > 0 ? "failed" : "succeeded";
}
