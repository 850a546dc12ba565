/** Consequences of a stack's change in one word each, and the addresses of its pages. */
import type { TargetPlan } from "../../lib/types";

export function pageOf(host: string, stack: string, part?: string): string {
  const page = `/stacks/${encodeURIComponent(host)}/${encodeURIComponent(stack)}`;
  return part ? `${page}?part=${part}` : page;
}

export function editOf(host: string, stack: string, revision?: number): string {
  const query = new URLSearchParams({ host, stack });
  if (revision !== undefined) query.set("revision", String(revision));
  return `/stacks/edit?${query.toString()}`;
}

export type Outcome =
  | "refused"
  | "unchanged"
  | "recreated"
  | "created"
  | "removed"
  | "changed in place"
  | "pulled"
  | "copied"
  | "stopped"
  | "paused"
  | "resumed"
  | "restarted"
  | "started";

/** What becomes of one part of a stack. */
export function outcome(plan: TargetPlan): Outcome {
  const has = (...steps: string[]) => (plan.steps ?? []).some((s) => steps.includes(s.step));
  if (plan.refused) return "refused";
  if ((plan.steps?.length ?? 0) === 0) return "unchanged";
  if (has("create-beside")) return "recreated";
  if (has("create", "create-network", "create-volume")) return "created";
  if (has("remove", "remove-network", "remove-volume", "remove-image")) return "removed";
  if (has("change-in-place")) return "changed in place";
  if (has("copy-image", "copy-volume")) return "copied";
  if (has("stop")) return "stopped";
  if (has("pause")) return "paused";
  if (has("resume")) return "resumed";
  if (has("pull")) return "pulled";
  return has("restart") ? "restarted" : "started";
}

/** How many of what, the most telling first. */
export function tallyOf(plans: TargetPlan[]): string {
  const order: Outcome[] = [
    "refused",
    "removed",
    "recreated",
    "created",
    "changed in place",
    "copied",
    "stopped",
    "paused",
    "resumed",
    "restarted",
    "started",
    "pulled",
    "unchanged",
  ];
  const counts = new Map<Outcome, number>();
  for (const plan of plans) counts.set(outcome(plan), (counts.get(outcome(plan)) ?? 0) + 1);
  return order
    .filter((word) => counts.has(word))
    .map((word) => `${counts.get(word)} ${word}`)
    .join(", ");
}
