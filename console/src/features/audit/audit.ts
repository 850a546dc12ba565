/** What is asked of the audit log, and what in it went wrong. */
import type { AuditEntry } from "../../lib/types";

export interface Wish {
  text: string;
  member: string;
  action: string;
  since: string;
}

/** Whether somebody was refused, or something failed. */
export function isBad(entry: AuditEntry): boolean {
  return /refused|failed|wrong/.test(entry.outcome);
}
