/** Finding containers by what people type, and counting what there is. Fast enough for every keystroke. */
import { portWords } from "../../lib/format";
import type { Container } from "../../lib/types";

export interface Facets {
  hosts: Set<string>;
  states: Set<string>;
  stacks: Set<string>;
}

export const NO_STACK = "(none)";

/** The text of a record that is searched, made once for each version of the record. */
const texts = new WeakMap<Container, string>();

function text(c: Container): string {
  let found = texts.get(c);
  if (found === undefined) {
    const labels = Object.entries(c.labels).map(([k, v]) => `${k}=${v}`);
    const ports = c.ports.map((p) => `:${p.host_port ?? ""} ${p.container_port}`);
    found = [`${c.host}/${c.name}`, c.image, c.stack ?? "", ...labels, ...portWords(c.ports), ...ports]
      .join("\n")
      .toLowerCase();
    texts.set(c, found);
  }
  return found;
}

/** "unhealthy" is asked for as often as "running", so health counts as a state here. */
export function stateKey(c: Container): string {
  return c.state === "running" && c.health === "unhealthy" ? "unhealthy" : c.state;
}

export function matcher(typed: string): (c: Container) => boolean {
  const words = typed.toLowerCase().split(/\s+/).filter(Boolean);
  if (words.length === 0) return () => true;
  return (c) => {
    const all = text(c);
    for (const word of words) {
      if (!all.includes(word) && !(word.length >= 3 && c.id.startsWith(word))) return false;
    }
    return true;
  };
}

/** Containers whose texts are made in one go while nothing else is to be done. */
const AT_ONCE = 200;

/** Makes the texts that are searched while the browser is idle, so that the first key finds them made. Gives what stops it. */
export function prepare(list: readonly Container[]): () => void {
  // Not every browser tells when it is idle.
  const idle = globalThis.requestIdleCallback as typeof requestIdleCallback | undefined;
  if (!idle) return () => undefined;
  let at = 0;
  const some = () => {
    for (const end = Math.min(at + AT_ONCE, list.length); at < end; at += 1) {
      const container = list[at];
      if (container) text(container);
    }
    if (at < list.length) next = idle(some);
  };
  let next = idle(some);
  return () => cancelIdleCallback(next);
}

/** Finds in a list what is typed. While a word only gets longer, it looks through what it found before, not through all. */
export class Finder {
  #list: readonly Container[] | null = null;
  #typed = "";
  #found: Container[] = [];

  find(list: Container[], typed: string): Container[] {
    const goesOn = this.#list === list && this.#typed.trim() !== "" && typed.startsWith(this.#typed);
    const from = goesOn ? this.#found : list;
    const found = typed.trim() === "" ? list : from.filter(matcher(typed));
    [this.#list, this.#typed, this.#found] = [list, typed, found];
    return found;
  }
}

export function withinFacets(c: Container, facets: Facets, except?: keyof Facets): boolean {
  return (
    (except === "hosts" || facets.hosts.size === 0 || facets.hosts.has(c.host)) &&
    (except === "states" || facets.states.size === 0 || facets.states.has(stateKey(c))) &&
    (except === "stacks" || facets.stacks.size === 0 || facets.stacks.has(c.stack ?? NO_STACK))
  );
}

const KEYS: Record<keyof Facets, (c: Container) => string> = {
  hosts: (c) => c.host,
  states: stateKey,
  stacks: (c) => c.stack ?? NO_STACK,
};

const byName = new Intl.Collator().compare;

/** How many there would be of each value, given what else is chosen. */
export function counts(list: Container[], facets: Facets, facet: keyof Facets): [string, number][] {
  const found = new Map<string, { count: number }>();
  const key = KEYS[facet];
  const others = Object.entries(facets).some(([name, chosen]) => name !== facet && chosen.size > 0);
  // The last one met: neighbours often share their host and stack.
  let [last, entry] = ["", undefined as { count: number } | undefined];
  for (const c of list) {
    if (others && !withinFacets(c, facets, facet)) continue;
    const value = key(c);
    if (!entry || value !== last) {
      entry = found.get(value);
      if (!entry) found.set(value, (entry = { count: 0 }));
      last = value;
    }
    entry.count += 1;
  }
  for (const chosen of facets[facet]) if (!found.has(chosen)) found.set(chosen, { count: 0 });
  return [...found]
    .map(([value, { count }]): [string, number] => [value, count])
    .sort((a, b) => byName(a[0], b[0]));
}

export type SortKey = "state" | "name" | "host" | "image" | "stack" | "ports" | "created";

const STATE_ORDER = ["unhealthy", "restarting", "dead", "exited", "created", "paused", "running"];

function rank(c: Container): number {
  const base = STATE_ORDER.indexOf(stateKey(c));
  return (c.attention ? 0 : 100) + (base < 0 ? 50 : base);
}

export function sorted(list: Container[], key: SortKey, down: boolean): Container[] {
  const by: Record<SortKey, (a: Container, b: Container) => number> = {
    state: (a, b) => rank(a) - rank(b),
    name: (a, b) => compare(a.name, b.name),
    host: (a, b) => compare(a.host, b.host),
    image: (a, b) => compare(a.image, b.image),
    stack: (a, b) => compare(a.stack ?? "\uffff", b.stack ?? "\uffff"),
    ports: (a, b) => firstPort(a) - firstPort(b),
    created: (a, b) => compare(b.created, a.created),
  };
  const order = by[key];
  const sign = down ? -1 : 1;
  return [...list].sort(
    (a, b) => sign * order(a, b) || compare(a.name, b.name) || compare(a.host, b.host) || compare(a.id, b.id),
  );
}

function compare(a: string, b: string): number {
  return a < b ? -1 : a > b ? 1 : 0;
}

function firstPort(c: Container): number {
  return Math.min(...c.ports.map((p) => p.host_port ?? 70_000), 70_001);
}
