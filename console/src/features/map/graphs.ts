/** What a map shows: nodes and what joins them, made from a text, from a stack that runs, or from the whole fleet. */
import { look, portWords, stateWords, type Look } from "../../lib/format";
import { needsAttention } from "../fleet/figures";
import type { Container, Host, ServiceNote, StackReport } from "../../lib/types";

export type NodeKind = "service" | "job" | "network" | "volume" | "port" | "stack" | "folder";

export interface MapNode {
  id: string;
  kind: NodeKind;
  label: string;
  /** What else there is to say of it, in a few words. */
  note: string;
  /** The state, where it has one: given by shape. */
  look?: Look;
  stateWords?: string;
  /** What the inspector shows of it. */
  inspect?: string;
  /** The host in whose box it is. */
  host?: string;
}

export interface MapEdge {
  from: string;
  to: string;
  kind: "needs" | "in" | "mounts" | "publishes";
  label?: string;
}

export interface Graph {
  nodes: MapNode[];
  edges: MapEdge[];
}

/** What a text says. */
export function ofReport(report: StackReport): Graph {
  const nodes: MapNode[] = [];
  const edges: MapEdge[] = [];
  const things = new Map<string, MapNode>();
  const thing = (kind: NodeKind, name: string, note: string) => {
    const id = `${kind}:${name}`;
    if (!things.has(id)) things.set(id, { id, kind, label: name, note });
    return id;
  };
  for (const s of report.services) {
    const id = `service:${s.name}`;
    nodes.push({ id, kind: s.job ? "job" : "service", label: s.name, note: runs(s) });
    for (const need of s.needs) {
      edges.push({
        from: id,
        to: `service:${need.service}`,
        kind: "needs",
        label: need.until === "started" ? "" : need.until,
      });
    }
    for (const network of s.networks)
      edges.push({ from: id, to: thing("network", network, "network"), kind: "in" });
    for (const volume of s.volumes)
      edges.push({ from: id, to: thing("volume", volume, "volume"), kind: "mounts" });
    for (const port of s.ports)
      edges.push({
        from: thing("port", port.split("→")[0] ?? port, "port of the host"),
        to: id,
        kind: "publishes",
      });
  }
  return { nodes: [...nodes, ...things.values()], edges };
}

function runs(s: ServiceNote): string {
  if (s.job) return "once";
  return s.containers === 1 ? "" : `${s.containers} containers`;
}

/** The worst of many states: what one has to see. */
const WORST: Look[] = ["failed", "sick", "loops", "gone", "halted", "made", "rests", "runs", "well"];

export function worst(containers: Container[]): Look {
  const looks = new Set(containers.map((c) => look(c)));
  return WORST.find((l) => looks.has(l)) ?? "gone";
}

const NEEDS = "com.docker.compose.depends_on";
const ONE_OFF = "com.docker.compose.oneoff";

/** The services of a stack on a host with what they use. */
export function ofStack(containers: Container[]): Graph {
  const nodes: MapNode[] = [];
  const edges: MapEdge[] = [];
  const things = new Map<string, MapNode>();
  const seen = new Set<string>();
  const edge = (e: MapEdge) => {
    const key = `${e.from} ${e.to} ${e.kind}`;
    if (!seen.has(key)) edges.push(e);
    seen.add(key);
  };
  const thing = (node: MapNode) => {
    if (!things.has(node.id)) things.set(node.id, node);
    return node.id;
  };
  const services = new Map<string, Container[]>();
  for (const c of containers) {
    if (c.labels[ONE_OFF] === "True") continue;
    const name = `${c.host}/${c.service ?? c.name}`;
    services.set(name, [...(services.get(name) ?? []), c]);
  }
  for (const [name, all] of services) {
    const first = all[0];
    if (!first) continue;
    const id = `service:${name}`;
    const up = all.filter((c) => c.state === "running").length;
    nodes.push({
      id,
      kind: "service",
      label: first.service ?? first.name,
      note: all.length === 1 ? stateWords(first) : `${up} of ${all.length} running`,
      look: worst(all),
      stateWords: all.length === 1 ? stateWords(first) : `${up} of ${all.length} running`,
      inspect: `${first.host}/${first.name}`,
      host: first.host,
    });
    for (const part of (first.labels[NEEDS] ?? "").split(",").filter(Boolean)) {
      const [other, condition] = part.split(":");
      const label =
        condition === "service_healthy" ? "healthy" : condition?.endsWith("successfully") ? "completed" : "";
      if (services.has(`${first.host}/${other}`)) {
        edge({ from: id, to: `service:${first.host}/${other}`, kind: "needs", label });
      }
    }
    for (const c of all) {
      for (const network of c.networks) {
        const node: MapNode = {
          id: `network:${c.host}/${network}`,
          kind: "network",
          label: short(network, c.stack),
          note: "network",
          inspect: `network:${c.host}/${network}`,
          host: c.host,
        };
        edge({ from: id, to: thing(node), kind: "in" });
      }
      for (const m of c.mounts) {
        if (m.kind !== "volume" && m.kind !== "bind") continue;
        const kind = m.kind === "volume" ? "volume" : "folder";
        const label = m.anonymous ? "anonymous" : m.kind === "volume" ? short(m.source, c.stack) : m.source;
        const node: MapNode = {
          id: `${kind}:${c.host}/${m.source}`,
          kind,
          label,
          note: m.kind === "volume" ? "volume" : "folder of the host",
          inspect: m.kind === "volume" ? `volume:${c.host}/${m.source}` : undefined,
          host: c.host,
        };
        edge({ from: id, to: thing(node), kind: "mounts" });
      }
      for (const words of portWords(c.ports)) {
        const [outer, inner] = words.split("→");
        const node: MapNode = {
          id: `port:${c.host}/${outer}`,
          kind: "port",
          label: outer ?? words,
          note: "port of the host",
          host: c.host,
        };
        edge({ from: thing(node), to: id, kind: "publishes", label: inner });
      }
    }
  }
  return { nodes: [...nodes, ...things.values()], edges };
}

/** A name of the engine without the stack's before it. */
function short(name: string, stack: string | undefined): string {
  return stack && name.startsWith(`${stack}_`) ? name.slice(stack.length + 1) : name;
}

export const LOOSE = "(no stack)";

/** The whole fleet: each stack of each host is one node, but for those that are unfolded. */
export function ofFleet(hosts: Host[], containers: Container[], unfolded: ReadonlySet<string>): Graph[] {
  const byHost = new Map<string, Map<string, Container[]>>(hosts.map((h) => [h.name, new Map()]));
  for (const c of containers) {
    const stacks = byHost.get(c.host);
    if (!stacks) continue;
    const stack = c.stack ?? LOOSE;
    const all = stacks.get(stack);
    if (all) all.push(c);
    else stacks.set(stack, [c]);
  }
  return [...byHost].map(([host, stacks]) => {
    const nodes: MapNode[] = [];
    const edges: MapEdge[] = [];
    for (const [stack, all] of [...stacks].sort((a, b) => a[0].localeCompare(b[0]))) {
      if (unfolded.has(`${host}/${stack}`)) {
        const inner = ofStack(all);
        nodes.push(...inner.nodes);
        edges.push(...inner.edges);
        continue;
      }
      const up = all.filter((c) => c.state === "running").length;
      const troubled = all.filter(needsAttention).length;
      const words = `${up} of ${all.length} running${troubled ? `, ${troubled} ${troubled === 1 ? "needs" : "need"} attention` : ""}`;
      nodes.push({
        id: `stack:${host}/${stack}`,
        kind: "stack",
        label: stack,
        note: words,
        look: worst(all),
        stateWords: words,
        host,
      });
    }
    const known = new Set<string>();
    return { nodes: nodes.filter((n) => !known.has(n.id) && known.add(n.id)), edges };
  });
}
