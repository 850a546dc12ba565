/** The API's records as the console uses them; their meaning is in /openapi.json. */

export type State =
  "created" | "running" | "paused" | "restarting" | "removing" | "exited" | "dead" | "unknown";
export type Health = "none" | "starting" | "healthy" | "unhealthy";

export interface Reason {
  severity: "trouble" | "warning";
  code: string;
  sentence: string;
  advice: string;
}

export interface Port {
  address?: string;
  host_port?: number;
  container_port: number;
  protocol: string;
}

export interface Mount {
  kind: string;
  source: string;
  target: string;
  read_only: boolean;
  anonymous: boolean;
}

export interface Container {
  host: string;
  name: string;
  id: string;
  image: string;
  image_id: string;
  command: string;
  state: State;
  health: Health;
  exit_code?: number;
  restart_count: number;
  restart_policy: string;
  stack: string | null;
  service: string | null;
  ports: Port[];
  mounts: Mount[];
  networks: string[];
  labels: Record<string, string>;
  terminal: boolean;
  created: string;
  started?: string;
  finished?: string;
  is_self: boolean;
  attention?: Reason;
}

export interface LinkProblem {
  code: string;
  sentence: string;
  advice: string;
}

export interface EngineFacts {
  kind: string;
  version: string;
  api_version: string;
  os: string;
  architecture: string;
  machine: string;
}

export interface Host {
  name: string;
  address: string;
  link: string;
  state: "connecting" | "live" | "stale";
  problem?: LinkProblem;
  last_seen?: string;
  engine?: EngineFacts;
}

export type Kind = "start" | "stop" | "restart" | "kill" | "remove";
export type TargetState =
  "waiting" | "running" | "succeeded" | "unchanged" | "failed" | "refused" | "cancelled" | "interrupted";

export interface Target {
  host: string;
  id: string;
  name: string;
  state: TargetState;
  sentence?: string;
  began?: string;
  ended?: string;
}

export interface Operation {
  id: number;
  kind: Kind;
  references: string[];
  author: string;
  state: "running" | "succeeded" | "partly" | "failed" | "cancelled" | "interrupted";
  cancel_requested: boolean;
  created: string;
  ended?: string;
  targets: Target[];
}

export interface OperationWish {
  kind: Kind;
  targets: string[];
  grace_seconds?: number;
  signal?: string;
  force?: boolean;
  volumes?: boolean;
}

export interface TargetPlan {
  host: string;
  id: string;
  name: string;
  consequence: string;
  refused?: string;
}

export interface Variable {
  name: string;
  value: string;
  masked: boolean;
}

export interface Detail {
  container: Container;
  environment: Variable[];
  raw: unknown;
}

export interface Line {
  time?: string;
  stream: "stdout" | "stderr" | "terminal";
  text: string;
  continued?: boolean;
}

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
  | { type: "ended"; id: number; problem?: Problem | null }
  | { type: "refused"; id?: number | null; problem: Problem };
