/** What hosts hold: images, volumes, networks, stacks and ports. */
import type { Variable } from "./fleet";

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
