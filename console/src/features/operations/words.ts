/** What is said of an operation in lists and above its targets. */
import { tally } from "../../lib/format";
import type { Operation } from "../../lib/types";

export function outcome(o: Operation): string {
  const { bad, all } = tally(o);
  if (o.state === "running") return "running";
  return bad ? `${o.state}: ${all - bad} of ${all} succeeded` : `${all} succeeded`;
}

/** How long it took; nothing while it runs. */
export function took(o: Operation): string {
  if (!o.ended) return "";
  return `${((Date.parse(o.ended) - Date.parse(o.created)) / 1000).toFixed(1)} s`;
}

/** What is asked for by its filters: part of a reference, a member, a kind, an outcome, an age in milliseconds. */
export interface Wanted {
  object: string;
  member: string;
  kind: string;
  outcome: string;
  age: number;
}

export function fits(o: Operation, wanted: Wanted, now: number): boolean {
  const has = (text: string, part: string) => text.toLowerCase().includes(part.trim().toLowerCase());
  return (
    (wanted.object.trim() === "" ||
      o.references.some((r) => has(r, wanted.object)) ||
      o.targets.some((t) => has(`${t.host}/${t.name}`, wanted.object))) &&
    (wanted.member.trim() === "" || has(o.author, wanted.member)) &&
    (wanted.kind === "" || o.kind === wanted.kind) &&
    (wanted.outcome === "" || group(o) === wanted.outcome) &&
    (wanted.age === 0 || now - Date.parse(o.created) <= wanted.age)
  );
}

function group(o: Operation): string {
  if (o.state === "running") return "running";
  return tally(o).bad > 0 ? "failed" : "succeeded";
}
