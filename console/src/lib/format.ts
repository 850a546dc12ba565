/** Times, ports and states in words. */
import { clockParts, dayAndTime } from "./times.svelte";
import type { Container, Health, Operation, PlainKind, Port, State } from "./types";

const MINUTE = 60;
const HOUR = 3600;
const DAY = 86_400;

const grouped = new Intl.NumberFormat("en");

/** A number of things, with its thousands set apart. */
export function number(count: number): string {
  return grouped.format(count);
}

/** How long before `now` (milliseconds) a time was, in the largest unit that fits. */
export function age(time: string | undefined, now: number): string {
  if (!time) return "";
  const seconds = Math.max(0, Math.round((now - Date.parse(time)) / 1000));
  if (seconds < MINUTE) return `${seconds} s`;
  if (seconds < HOUR) return `${Math.floor(seconds / MINUTE)} min`;
  if (seconds < DAY) return `${Math.floor(seconds / HOUR)} h`;
  return `${Math.floor(seconds / DAY)} d`;
}

export function moment(time: string | undefined): string {
  if (!time) return "";
  return dayAndTime(time);
}

export type Clock = "off" | "24h" | "12h";

export function lineTime(time: string | undefined, clock: Clock): string {
  if (!time || clock === "off") return "";
  const date = new Date(time);
  const pad = (n: number, width = 2) => String(n).padStart(width, "0");
  const { hours, minutes, seconds } = clockParts(date);
  const rest = `${pad(minutes)}:${pad(seconds)}.${pad(date.getMilliseconds(), 3)}`;
  if (clock === "24h") return `${pad(hours)}:${rest}`;
  return `${pad(hours % 12 || 12)}:${rest} ${hours < 12 ? "am" : "pm"}`;
}

/** What a container's state looks like: one word of ours for each shape. */
export type Look = "well" | "runs" | "sick" | "loops" | "rests" | "failed" | "halted" | "made" | "gone";

export function look(c: { state: State; health: Health; exit_code?: number; attention?: unknown }): Look {
  switch (c.state) {
    case "running":
      if (c.health === "unhealthy") return "sick";
      return c.health === "healthy" ? "well" : "runs";
    case "restarting":
      return "loops";
    case "paused":
      return "halted";
    case "exited":
      return c.attention ? "failed" : "rests";
    case "created":
      return c.attention ? "failed" : "made";
    case "dead":
      return "failed";
    default:
      return "gone";
  }
}

export function stateWords(c: Container): string {
  if (c.state === "running" && c.health !== "none") return c.health;
  if (c.state === "exited" && c.exit_code !== undefined) return `exited ${c.exit_code}`;
  return c.state;
}

export function portWords(ports: Port[]): string[] {
  const words = ports
    .filter((p) => p.host_port !== undefined)
    .map((p) => {
      const every = !p.address || p.address === "0.0.0.0" || p.address === "::";
      return `${every ? "" : `${p.address}:`}${p.host_port}→${p.container_port}${p.protocol === "tcp" ? "" : `/${p.protocol}`}`;
    });
  return [...new Set(words)];
}

export function reference(c: { host: string; name: string }): string {
  return `${c.host}/${c.name}`;
}

/** An image without its registry and with the registry apart, since the end tells most. */
export function imageParts(image: string): { registry: string; rest: string } {
  const slash = image.indexOf("/");
  const first = image.slice(0, slash);
  if (slash > 0 && (first.includes(".") || first.includes(":") || first === "localhost")) {
    return { registry: first, rest: image.slice(slash + 1) };
  }
  return { registry: "", rest: image };
}

const BAD = new Set(["failed", "refused", "interrupted", "cancelled"]);

export function tally(operation: Operation): { done: number; bad: number; all: number } {
  let done = 0;
  let bad = 0;
  for (const target of operation.targets) {
    if (target.state !== "waiting" && target.state !== "running") done += 1;
    if (BAD.has(target.state)) bad += 1;
  }
  return { done, bad, all: operation.targets.length };
}

export const verbs: Record<Operation["kind"], { ask: string; doing: string }> = {
  start: { ask: "Start", doing: "Starting" },
  stop: { ask: "Stop", doing: "Stopping" },
  restart: { ask: "Restart", doing: "Restarting" },
  kill: { ask: "Kill", doing: "Killing" },
  pause: { ask: "Pause", doing: "Pausing" },
  resume: { ask: "Resume", doing: "Resuming" },
  remove: { ask: "Remove", doing: "Removing" },
  deploy: { ask: "Deploy", doing: "Deploying" },
  edit: { ask: "Change", doing: "Changing" },
  update: { ask: "Update", doing: "Updating" },
  rollback: { ask: "Roll back", doing: "Rolling back" },
  pull: { ask: "Pull", doing: "Pulling" },
  push: { ask: "Push", doing: "Pushing" },
  tag: { ask: "Tag", doing: "Tagging" },
  "remove-image": { ask: "Remove image", doing: "Removing image" },
  "create-volume": { ask: "Create volume", doing: "Creating volume" },
  "remove-volume": { ask: "Remove volume", doing: "Removing volume" },
  "create-network": { ask: "Create network", doing: "Creating network" },
  "remove-network": { ask: "Remove network", doing: "Removing network" },
  connect: { ask: "Connect", doing: "Connecting" },
  disconnect: { ask: "Disconnect", doing: "Disconnecting" },
  tidy: { ask: "Tidy", doing: "Tidying" },
  apply: { ask: "Apply", doing: "Applying" },
  "remove-stack": { ask: "Remove stack", doing: "Removing stack" },
  move: { ask: "Move", doing: "Moving" },
  clone: { ask: "Clone", doing: "Cloning" },
  run: { ask: "Run", doing: "Running" },
};

/** The changes that need nothing but containers. */
export const PLAIN_KINDS: PlainKind[] = ["start", "stop", "restart", "kill", "pause", "resume", "remove"];

const UNITS = ["B", "KiB", "MiB", "GiB", "TiB", "PiB"];

/** Bytes in the largest binary unit that fits; unknown is said. */
export function bytes(value: number | null | undefined): string {
  if (value === undefined || value === null || !Number.isFinite(value)) return "unknown";
  let unit = 0;
  while (value >= 1024 && unit + 1 < UNITS.length) {
    value /= 1024;
    unit += 1;
  }
  return `${unit === 0 || value >= 100 ? Math.round(value) : value.toFixed(1)} ${UNITS[unit]}`;
}

export function rate(value: number | null | undefined): string {
  return value === undefined || value === null ? "unknown" : `${bytes(value)}/s`;
}

/** Processors in use, as a share of one: 174 % are nearly two. */
export function processors(value: number | null | undefined): string {
  if (value === undefined || value === null) return "unknown";
  return `${(value * 100).toFixed(value < 0.1 ? 1 : 0)} %`;
}

export function count(value: number | null | undefined): string {
  return value === undefined || value === null ? "unknown" : String(Math.round(value));
}

/** Seconds as a step of time in words. */
export function span(seconds: number): string {
  if (seconds < MINUTE) return `${seconds} s`;
  if (seconds < HOUR) return `${Math.round((seconds / MINUTE) * 10) / 10} min`;
  if (seconds < DAY) return `${Math.round((seconds / HOUR) * 10) / 10} h`;
  return `${Math.round((seconds / DAY) * 10) / 10} d`;
}

/** An id or a name of an image that a person can read. */
export function imageName(image: { id: string; tags: string[] }): string {
  const tag = image.tags[0];
  return tag ? imageParts(tag).rest : `untagged ${image.id.slice(0, 12)}`;
}

/** Control characters made visible, so that foreign text cannot play tricks. */
export function visible(text: string): string {
  return text.replace(/[\u0000-\u001f\u007f-\u009f\u202a-\u202e\u2066-\u2069]/g, (c) => {
    const code = c.charCodeAt(0);
    return code < 0x20 ? String.fromCharCode(0x2400 + code) : "�";
  });
}
