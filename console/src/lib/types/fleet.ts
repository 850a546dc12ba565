/** Hosts and containers. */

export type State =
  "created" | "running" | "paused" | "restarting" | "removing" | "exited" | "dead" | "unknown";
export type Health = "none" | "starting" | "healthy" | "unhealthy";

export interface Reason {
  severity: "trouble" | "warning" | "notice";
  /** Its place in the attention list, the lowest first. */
  rank: number;
  /** The container that it follows from, as `host/name`. */
  because?: string;
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
  /** What it is for, while an operation holds it; such a container is in no list. */
  role?: { kind: "next" | "previous" | "one-off"; of: string; operation?: number };
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
