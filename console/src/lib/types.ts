/** The API's records as the console uses them; their meaning is in /openapi.json. */
import type { Definition, JoinedNetwork } from "./definition";

export type State =
  "created" | "running" | "paused" | "restarting" | "removing" | "exited" | "dead" | "unknown";
export type Health = "none" | "starting" | "healthy" | "unhealthy";

export interface Reason {
  severity: "trouble" | "warning" | "notice";
  code: string;
  sentence: string;
  advice: string;
  evidence?: string[];
}

export interface Attachment {
  network: string;
  address?: string;
  ipv6?: string;
  aliases?: string[];
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
  attachments?: Attachment[];
  architecture?: string;
  memory_limit?: number;
  labels: Record<string, string>;
  terminal: boolean;
  created: string;
  started?: string;
  finished?: string;
  is_self: boolean;
  newer_image?: boolean;
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
  public_address?: string;
  machine: Machine;
  disk: Disk;
  assets: { images: number; volumes: number; networks: number };
  assets_revision: number;
  past_problems?: { time: string; problem: LinkProblem }[];
  attention?: Reason;
}

export interface Machine {
  processors?: number;
  memory_total?: number;
  memory_free?: number;
  system?: string;
  kernel?: string;
  cgroup_version?: string;
  storage_driver?: string;
  data_folder?: string;
  booted?: string;
  clock_ahead_ms?: number;
  warnings?: string[];
}

export interface Disk {
  total?: number;
  used?: number;
  images?: number;
  containers?: number;
  volumes?: number;
  build_cache?: number;
  measured?: string;
}

export interface ImageCopy {
  host: string;
  id: string;
  tags: string[];
  digests: string[];
  size: number;
  shared?: number;
  created: string;
  labels: Record<string, string>;
  used_by: string[];
  unused_since?: string;
}

export interface ImageRow {
  id: string;
  tags: string[];
  size: number;
  created: string;
  architecture?: string;
  untagged: boolean;
  copies: ImageCopy[];
}

export interface ImageDetail {
  image: ImageRow;
  steps: { command: string; created: string; size: number; comment?: string }[];
  environment: Variable[];
  command: string[];
  user: string;
  working_folder: string;
  ports: string[];
  raw: unknown;
}

export interface VolumeRow {
  host: string;
  name: string;
  driver: string;
  mount_point: string;
  options: Record<string, string>;
  labels: Record<string, string>;
  created?: string;
  size?: number;
  anonymous: boolean;
  used_by: { container: string; target: string; read_only: boolean; running: boolean }[];
  unused_since?: string;
}

export interface NetworkRow {
  host: string;
  id: string;
  name: string;
  driver: string;
  subnets: { subnet: string; gateway?: string }[];
  internal: boolean;
  ipv6: boolean;
  options: Record<string, string>;
  labels: Record<string, string>;
  created?: string;
  members: { container: string; address?: string; ipv6?: string; aliases: string[] }[];
  built_in: boolean;
  unused_since?: string;
}

export interface ServiceRow {
  name: string;
  wanted: number;
  running: number;
  healthy: number;
  unhealthy: number;
  troubled: number;
  images: string[];
  ports: string[];
  hosts: string[];
  containers: string[];
}

export interface StackRow {
  name: string;
  wanted: number;
  running: number;
  troubled: number;
  hosts: string[];
  files: string[];
  services: ServiceRow[];
}

export interface PortRow {
  host: string;
  address?: string;
  port: number;
  protocol: string;
  container: string;
  container_port: number;
  listening: boolean;
  host_network: boolean;
  clash: boolean;
  url?: string;
}

export type FigureName =
  | "processors"
  | "memory"
  | "memory-limit"
  | "network-in"
  | "network-out"
  | "disk-read"
  | "disk-write"
  | "processes";

export interface Figures {
  processors?: number;
  memory?: number;
  memory_limit?: number;
  network_in?: number;
  network_out?: number;
  disk_read?: number;
  disk_write?: number;
  processes?: number;
}

export interface UseNow {
  host: string;
  id: string;
  name: string;
  stack?: string;
  time: string;
  figures: Figures;
  memory_has_cache?: boolean;
  recent_processors?: number[];
  recent_memory?: number[];
}

export interface FigureHistory {
  figure: FigureName;
  min: (number | null)[];
  mean: (number | null)[];
  max: (number | null)[];
}

export interface History {
  from: string;
  to: string;
  step: number;
  damaged: number;
  times: number[];
  series: { name: string; figures: FigureHistory[] }[];
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
  refused?: string;
}

export interface Preview {
  kind: Kind;
  digest: string;
  targets: TargetPlan[];
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
  | { type: "many-lines"; id: number; lines: SourcedLine[]; bytes: number }
  | { type: "log-note"; id: number; note: { source: string; note: string } }
  | { type: "searched"; id: number; progress: { reached: string } }
  | { type: "used"; id: number; samples: UseNow[] }
  | { type: "ended"; id: number; problem?: Problem | null }
  | { type: "refused"; id?: number | null; problem: Problem };
