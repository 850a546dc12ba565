/** Changes: what is asked for, what it would do, how it stands. */
import type { Definition, JoinedNetwork } from "../definition";

/** Changes that need nothing but containers and a few settings. */
export type PlainKind = "start" | "stop" | "restart" | "kill" | "pause" | "resume" | "remove";
export type Kind =
  | PlainKind
  | "deploy"
  | "edit"
  | "update"
  | "rollback"
  | "pull"
  | "push"
  | "tag"
  | "remove-image"
  | "make-volume"
  | "remove-volume"
  | "make-network"
  | "remove-network"
  | "connect"
  | "disconnect"
  | "tidy";
export type ObjectKind = "container" | "image" | "volume" | "network" | "cache";
export type TargetState =
  "waiting" | "running" | "succeeded" | "unchanged" | "failed" | "refused" | "cancelled" | "interrupted";

export interface Target {
  host: string;
  id: string;
  name: string;
  object: ObjectKind;
  steps?: { step: string }[];
  at?: number;
  progress?: Progress;
  bytes?: number;
  state: TargetState;
  sentence?: string;
  began?: string;
  ended?: string;
}

export interface Progress {
  doing: string;
  done: number;
  total: number;
  layers?: { id: string; doing: string; done: number; total: number }[];
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

export interface Rolling {
  at_once: number;
  go_on?: boolean;
}

export interface TidyPiece {
  host: string;
  object: ObjectKind;
  id: string;
}

export interface OperationWish {
  kind: Kind;
  targets: string[];
  digest?: string;
  grace_seconds?: number;
  signal?: string;
  force?: boolean;
  volumes?: boolean;
  definition?: Definition;
  from?: string;
  image?: string;
  policy?: "always" | "missing" | "never";
  platform?: string;
  new_name?: string;
  keep_parents?: boolean;
  earlier?: number;
  watch_seconds?: number;
  rolling?: Rolling;
  volume?: { driver?: string; options?: Record<string, string>; labels?: Record<string, string> };
  network?: {
    driver?: string;
    subnet?: string;
    gateway?: string;
    internal?: boolean;
    ipv6?: boolean;
    options?: Record<string, string>;
    labels?: Record<string, string>;
  };
  join?: JoinedNetwork;
  pieces?: TidyPiece[];
}

export interface Finding {
  field: string;
  weight: "error" | "warning";
  sentence: string;
  proposal?: string;
}

export interface TargetPlan {
  host: string;
  object: ObjectKind;
  id: string;
  name: string;
  course?: string[];
  consequence: string;
  creates?: string[];
  keeps?: string[];
  recreates?: string[];
  removes?: string[];
  data_at_risk?: string[];
  downtime?: string;
  differences?: { setting: string; from?: string; to?: string }[];
  bytes?: number;
  findings?: Finding[];
  /** Nothing to do. */
  unchanged?: string;
  refused?: string;
}

export interface Preview {
  kind: Kind;
  digest: string;
  targets: TargetPlan[];
}
