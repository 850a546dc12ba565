/** Operations in words: in lists and above their targets. */
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
