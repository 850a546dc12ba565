/** Log lines, the timeline and what is kept. */

export interface Line {
  time?: string;
  stream: "stdout" | "stderr" | "terminal";
  text: string;
  continued?: boolean;
}

export type EventKind = "engine" | "operation" | "access" | "host";

export interface TimelineEvent {
  id: number;
  time: string;
  kind: EventKind;
  host: string;
  object: string;
  name: string;
  action: string;
  member?: string;
  sentence: string;
  bad: boolean;
  operation?: number;
  /** Of an operation: how many events of its engine are folded under it. */
  folded?: number;
}

export type Level = "trace" | "debug" | "info" | "warning" | "error" | "fatal";

export interface SourcedLine extends Line {
  source: string;
  level?: Level;
  matches?: [number, number][];
}

export interface ManyWish {
  references: string[];
  stack?: string;
  label?: string;
  tail?: number;
  since?: string;
  until?: string;
  follow: boolean;
  with?: string[];
  without?: string[];
  plain?: boolean;
  any_case?: boolean;
  level?: Level;
  only?: "stdout" | "stderr";
}

export interface KeepRule {
  id: number;
  scope: "container" | "label" | "stack" | "host" | "all";
  value: string;
  days: number;
  bytes: number;
  member: string;
  created: string;
  held: number;
  containers: number;
}
