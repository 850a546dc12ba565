/** What the inspector shows: written in the address as `kind:key`, a container as its reference alone. */
import { query } from "../../lib/router.svelte";

export type Kind = "container" | "image" | "volume" | "network" | "host" | "stack" | "operation";

export interface Inspected {
  kind: Kind;
  key: string;
}

const KINDS: Kind[] = ["image", "volume", "network", "host", "stack", "operation"];

export function read(text: string): Inspected {
  const colon = text.indexOf(":");
  const kind = KINDS.find((k) => k === text.slice(0, colon));
  return kind ? { kind, key: text.slice(colon + 1) } : { kind: "container", key: text };
}

export function inspect(kind: Kind, key: string, tab?: string) {
  query({ inspect: kind === "container" ? key : `${kind}:${key}`, tab: tab ?? null });
}
