/** What is asked of the audit log, and what in it went wrong. */
import type { AuditEntry } from "../../lib/types";

export interface Wish {
  text: string;
  member: string;
  action: string;
  since: string;
}

/** The query for a wish; what is empty is left out. */
export function asked(wish: Wish, page: { before?: number; limit?: number }): string {
  const query = new URLSearchParams();
  for (const [name, value] of Object.entries({ ...wish, ...page })) {
    if (value !== undefined && value !== "") query.set(name, String(value));
  }
  return query.toString();
}

/** Whether somebody was refused, or something failed. */
export function isBad(entry: AuditEntry): boolean {
  return /refused|failed|wrong/.test(entry.outcome);
}
