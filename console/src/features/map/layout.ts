/** Where nodes of a map stand. The layout is the library's; boxes of hosts are set in rows. */
import dagre from "@dagrejs/dagre";
import type { Graph, MapEdge, MapNode } from "./graphs";

export const WIDTH = 190;
export const HEIGHT = 44;
const GAP = 26;
const HEAD = 30;
const PAD = 16;

export interface Placed extends MapNode {
  x: number;
  y: number;
}

export interface Line extends MapEdge {
  points: { x: number; y: number }[];
}

export interface Box {
  title: string;
  x: number;
  y: number;
  width: number;
  height: number;
}

export interface Layout {
  nodes: Placed[];
  lines: Line[];
  boxes: Box[];
  width: number;
  height: number;
}

/** Sets one graph; nodes without any line are in a grid, which a layout by layers would put into one long row. */
export function layout(graph: Graph): Layout {
  const joined = new Set(graph.edges.flatMap((e) => [e.from, e.to]));
  const alone = graph.nodes.filter((n) => !joined.has(n.id));
  const known = new Set(graph.nodes.map((n) => n.id));
  const g = new dagre.graphlib.Graph({ multigraph: true });
  g.setGraph({ rankdir: "LR", nodesep: 14, ranksep: 56, marginx: 4, marginy: 4 });
  g.setDefaultEdgeLabel(() => ({}));
  for (const n of graph.nodes) if (joined.has(n.id)) g.setNode(n.id, { width: WIDTH, height: HEIGHT });
  graph.edges.forEach((e, n) => {
    if (known.has(e.from) && known.has(e.to)) g.setEdge(e.from, e.to, {}, String(n));
  });
  const nodes: Placed[] = [];
  const lines: Line[] = [];
  let [width, height] = [0, 0];
  if (joined.size > 0) {
    dagre.layout(g);
    for (const n of graph.nodes) {
      const at = joined.has(n.id) ? g.node(n.id) : undefined;
      if (at) nodes.push({ ...n, x: at.x, y: at.y });
    }
    graph.edges.forEach((e, n) => {
      const edge = g.edge(e.from, e.to, String(n)) as { points?: { x: number; y: number }[] } | undefined;
      if (edge?.points) lines.push({ ...e, points: edge.points });
    });
    const size = g.graph();
    [width, height] = [size.width ?? 0, size.height ?? 0];
  }
  if (alone.length > 0) {
    const columns = Math.max(1, Math.ceil(Math.sqrt(alone.length / 2)));
    const top = height > 0 ? height + GAP : 0;
    alone.forEach((n, at) => {
      const [column, row] = [at % columns, Math.floor(at / columns)];
      nodes.push({
        ...n,
        x: column * (WIDTH + GAP) + WIDTH / 2,
        y: top + row * (HEIGHT + GAP / 2) + HEIGHT / 2,
      });
    });
    width = Math.max(width, columns * (WIDTH + GAP) - GAP);
    height = top + Math.ceil(alone.length / columns) * (HEIGHT + GAP / 2);
  }
  return { nodes, lines, boxes: [], width, height };
}

/** Sets the graphs of many hosts, each in a box of its own, in rows of about the shape of the window. */
export function layoutOfHosts(graphs: { title: string; graph: Graph }[], shape = 1.6): Layout {
  const each = graphs.map(({ title, graph }) => ({ title, inner: layout(graph) }));
  const sizes = each.map(({ inner }) => ({
    width: Math.max(WIDTH, inner.width) + 2 * PAD,
    height: Math.max(HEIGHT / 2, inner.height) + HEAD + PAD,
  }));
  const area = sizes.reduce((sum, s) => sum + (s.width + GAP) * (s.height + GAP), 0);
  const widest = Math.max(...sizes.map((s) => s.width), Math.sqrt(area * shape));
  const out: Layout = { nodes: [], lines: [], boxes: [], width: 0, height: 0 };
  let [x, y, row] = [0, 0, 0];
  each.forEach(({ title, inner }, n) => {
    const size = sizes[n] ?? { width: 0, height: 0 };
    if (x > 0 && x + size.width > widest) [x, y, row] = [0, y + row + GAP, 0];
    const move = <P extends { x: number; y: number }>(p: P): P => ({
      ...p,
      x: p.x + x + PAD,
      y: p.y + y + HEAD,
    });
    out.boxes.push({ title, x, y, ...size });
    out.nodes.push(...inner.nodes.map(move));
    out.lines.push(...inner.lines.map((line) => ({ ...line, points: line.points.map(move) })));
    out.width = Math.max(out.width, x + size.width);
    x += size.width + GAP;
    row = Math.max(row, size.height);
  });
  out.height = y + row;
  return out;
}
