/** Resource use, now and back in time. */

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
