/** What a container is to be, as the API has it; the meaning of each field is in /openapi.json. */
import type { Finding } from "./types";

export interface EnvironmentEntry {
  name: string;
  value: string;
  hidden?: boolean;
}
export interface PortRule {
  address?: string;
  host_port?: number;
  container_port: number;
  protocol: string;
}
export interface MountRule {
  kind: "volume" | "bind" | "tmpfs";
  source?: string;
  target: string;
  read_only?: boolean;
  make?: { user: number; group: number; mode?: string };
  propagation?: string;
  size?: number;
  driver?: string;
  options?: Record<string, string>;
}
export interface HealthRule {
  disabled?: boolean;
  test?: string[];
  interval_ms?: number;
  timeout_ms?: number;
  retries?: number;
  start_ms?: number;
}
export interface Limits {
  memory?: number;
  memory_and_swap?: number;
  memory_reserved?: number;
  shared_memory?: number;
  processors?: number;
  processor_weight?: number;
  processor_set?: string;
  processes?: number;
  each_process?: { name: string; soft: number; hard: number }[];
  out_of_memory_score?: number;
}
export interface Rights {
  privileged?: boolean;
  read_only?: boolean;
  add?: string[];
  drop?: string[];
  devices?: { host: string; container?: string; permissions?: string }[];
  gpus?: { count?: number; ids?: string[]; driver?: string };
  security?: string[];
  groups?: string[];
  kernel?: Record<string, string>;
  processes_of?: string;
  memory_of?: string;
  users_of?: string;
}
export interface JoinedNetwork {
  name: string;
  aliases?: string[];
  address?: string;
  ipv6?: string;
}
export interface NetworkRule {
  mode?: string;
  networks?: JoinedNetwork[];
  dns?: string[];
  dns_search?: string[];
  dns_options?: string[];
  hosts?: string[];
  hardware_address?: string;
}
export interface Definition {
  image: string;
  name?: string;
  pull?: "always" | "missing" | "never";
  platform?: string;
  entrypoint?: string[];
  command?: string[];
  environment?: EnvironmentEntry[];
  user?: string;
  working_folder?: string;
  hostname?: string;
  domain?: string;
  labels?: Record<string, string>;
  ports?: PortRule[];
  open?: string[];
  mounts?: MountRule[];
  restart?: { policy: string; most_tries?: number };
  health?: HealthRule;
  grace_seconds?: number;
  stop_signal?: string;
  auto_remove?: boolean;
  init?: boolean;
  terminal?: boolean;
  input?: boolean;
  limits?: Limits;
  rights?: Rights;
  network?: NetworkRule;
  log?: { driver?: string; options?: Record<string, string> };
}
export interface DefinitionView {
  host?: string;
  definition: Definition;
  image?: Definition;
  compose: string;
  left?: { line: number; column: number; sentence: string }[];
  findings?: Finding[];
}
