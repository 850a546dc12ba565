/** What the live connection tells, and problems. */
import type { Container, Host } from "./fleet";
import type { UseNow } from "./use";
import type { Line, SourcedLine } from "./logs";
import type { Operation } from "./operations";

export interface Problem {
  type: string;
  title: string;
  status: number;
  detail: string;
  field?: string;
  candidates?: string[];
}

export type Change =
  | { change: "host-put"; host: Host }
  | { change: "host-gone"; host: string }
  | { change: "container-put"; container: Container }
  | { change: "container-gone"; host: string; id: string };

export type FromServer =
  | {
      type: "snapshot";
      id: number;
      fleet: { epoch: string; revision: number; hosts: Host[]; containers: Container[] };
    }
  | { type: "delta"; id: number; delta: { revision: number; changes: Change[] } }
  | { type: "operation"; id: number; operation: Operation }
  | { type: "lines"; id: number; lines: Line[]; bytes: number }
  | { type: "many-lines"; id: number; lines: SourcedLine[]; bytes: number }
  | { type: "log-note"; id: number; note: { source: string; note: string } }
  | { type: "searched"; id: number; progress: { reached: string } }
  | { type: "used"; id: number; samples: UseNow[] }
  | { type: "ended"; id: number; problem?: Problem | null }
  | { type: "refused"; id?: number | null; problem: Problem };
