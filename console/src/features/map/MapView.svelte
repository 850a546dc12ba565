<!-- A map: nodes by shape with their states, lines by what they mean. It can be moved, made larger, gone through with the keyboard,
and read as a list; it stands still unless something changes. -->
<script lang="ts">
  import type { Graph, MapNode } from "./graphs";
  import { HEIGHT, layout, WIDTH, type Layout } from "./layout";
  import StateShape from "../../ui/StateShape.svelte";
  import ToolButton from "../../ui/ToolButton.svelte";

  let {
    graph,
    label,
    laid = null,
    plain = false,
    filter = "",
    onpick,
  }: {
    graph: Graph;
    label: string;
    /** The positions, once they were set. */
    laid?: Layout | null;
    /** Without tools: where there is little room. */
    plain?: boolean;
    filter?: string;
    onpick: (node: MapNode) => void;
  } = $props();

  const MARGIN = 24;
  const SMALLEST = 0.15;
  const LARGEST = 3;

  let width = $state(0);
  let height = $state(0);
  /** What was chosen by hand; until then all of it is shown. */
  let chosen = $state.raw<{ x: number; y: number; scale: number } | null>(null);
  let drag: { x: number; y: number; from: { x: number; y: number; scale: number } } | null = null;
  let moved = false;

  // The places change only with what is there, not with every word about it.
  const shape = $derived(
    `${graph.nodes.map((n) => n.id).join(" ")}|${graph.edges.map((e) => `${e.from}>${e.to}`).join(" ")}`,
  );
  let before: { shape: string; layout: Layout } | null = null;
  const placed = $derived.by(() => {
    if (laid) return laid;
    if (before?.shape === shape) {
      const now = new Map(graph.nodes.map((n) => [n.id, n]));
      return { ...before.layout, nodes: before.layout.nodes.map((n) => ({ ...n, ...now.get(n.id) })) };
    }
    before = { shape, layout: layout(graph) };
    return before.layout;
  });
  const whole = $derived.by(() => {
    const [w, h] = [placed.width + 2 * MARGIN, placed.height + 2 * MARGIN];
    if (!width || !height || !w || !h) return { x: 0, y: 0, scale: 1 };
    const scale = Math.min(1.2, Math.max(SMALLEST, Math.min(width / w, height / h)));
    return { x: (width - placed.width * scale) / 2, y: (height - placed.height * scale) / 2, scale };
  });
  const view = $derived(chosen ?? whole);

  const found = $derived.by(() => {
    const wanted = filter.trim().toLowerCase();
    if (!wanted) return null;
    const hits = (n: MapNode) =>
      `${n.label} ${n.note} ${n.host ?? ""} ${n.kind}`.toLowerCase().includes(wanted);
    return new Set(placed.nodes.filter(hits).map((n) => n.id));
  });

  function zoom(by: number, x = width / 2, y = height / 2) {
    const scale = Math.min(LARGEST, Math.max(SMALLEST, view.scale * by));
    const real = scale / view.scale;
    chosen = { x: x - (x - view.x) * real, y: y - (y - view.y) * real, scale };
  }

  function keys(event: KeyboardEvent) {
    const step = 60;
    const moves: Record<string, [number, number]> = {
      ArrowLeft: [step, 0],
      ArrowRight: [-step, 0],
      ArrowUp: [0, step],
      ArrowDown: [0, -step],
    };
    const move = moves[event.key];
    if (move) chosen = { ...view, x: view.x + move[0], y: view.y + move[1] };
    else if (event.key === "+") zoom(1.25);
    else if (event.key === "-") zoom(0.8);
    else if (event.key === "0") chosen = null;
    else return;
    event.preventDefault();
    event.stopPropagation();
  }

  /** With the keyboard one comes to nodes that are out of sight: they come into it. */
  function intoSight(n: { x: number; y: number }) {
    const [x, y] = [view.x + n.x * view.scale, view.y + n.y * view.scale];
    const [halfW, halfH] = [(WIDTH / 2) * view.scale, (HEIGHT / 2) * view.scale];
    const dx = x < halfW ? halfW - x + 10 : x > width - halfW ? width - halfW - x - 10 : 0;
    const dy = y < halfH ? halfH - y + 10 : y > height - halfH ? height - halfH - y - 10 : 0;
    if (dx || dy) chosen = { ...view, x: view.x + dx, y: view.y + dy };
  }

  function path(points: { x: number; y: number }[]): string {
    return points.map((p, n) => `${n === 0 ? "M" : "L"}${p.x.toFixed(1)} ${p.y.toFixed(1)}`).join("");
  }
  const cut = (text: string, most: number) => (text.length > most ? `${text.slice(0, most - 1)}…` : text);
  const spoken = (n: MapNode) =>
    [n.kind, n.label, n.note, n.host ? `on ${n.host}` : ""].filter(Boolean).join(", ");
  const middle = (points: { x: number; y: number }[]) =>
    points[Math.floor(points.length / 2)] ?? { x: 0, y: 0 };
</script>

<!-- svelte-ignore a11y_no_noninteractive_tabindex, a11y_no_noninteractive_element_interactions -->
<div
  class="map"
  role="group"
  aria-label={`${label}. Arrow keys move it, plus and minus change its size, 0 shows all of it; Tab goes through what is on it.`}
  tabindex="0"
  bind:clientWidth={width}
  bind:clientHeight={height}
  onkeydown={keys}
  onwheel={(e) => {
    if (plain && !e.ctrlKey) return;
    e.preventDefault();
    const box = e.currentTarget.getBoundingClientRect();
    zoom(e.deltaY < 0 ? 1.15 : 0.87, e.clientX - box.left, e.clientY - box.top);
  }}
  onpointerdown={(e) => {
    if (e.button !== 0) return;
    moved = false;
    drag = { x: e.clientX, y: e.clientY, from: view };
  }}
  onpointermove={(e) => {
    if (!drag) return;
    const [dx, dy] = [e.clientX - drag.x, e.clientY - drag.y];
    if (!moved && Math.abs(dx) + Math.abs(dy) < 5) return;
    if (!moved) e.currentTarget.setPointerCapture(e.pointerId);
    moved = true;
    chosen = { ...drag.from, x: drag.from.x + dx, y: drag.from.y + dy };
  }}
  onpointerup={() => (drag = null)}
  onpointercancel={() => (drag = null)}
  data-test="map"
>
  <svg {width} {height} role="presentation">
    <defs>
      <marker
        id="map-arrow"
        viewBox="0 0 8 8"
        refX="7"
        refY="4"
        markerWidth="7"
        markerHeight="7"
        orient="auto"
      >
        <path d="M0 0L8 4L0 8z" fill="var(--cds-text-02)" />
      </marker>
    </defs>
    <g transform={`translate(${view.x} ${view.y}) scale(${view.scale})`}>
      {#each placed.boxes as box (box.title)}
        <rect class="box" x={box.x} y={box.y} width={box.width} height={box.height} />
        <text class="host" x={box.x + 10} y={box.y + 19}>{box.title}</text>
      {/each}
      {#each placed.lines as line (`${line.from} ${line.to} ${line.kind}`)}
        <path
          class="line {line.kind}"
          class:dim={found && !(found.has(line.from) || found.has(line.to))}
          d={path(line.points)}
          marker-end={line.kind === "needs" || line.kind === "publishes" ? "url(#map-arrow)" : undefined}
        />
        {#if line.label}
          {@const m = middle(line.points)}
          <text class="on-line" x={m.x} y={m.y - 3}>{line.label}</text>
        {/if}
      {/each}
      {#each placed.nodes as n (n.id)}
        <g
          class="node"
          class:dim={found && !found.has(n.id)}
          role="button"
          tabindex="0"
          transform={`translate(${n.x - WIDTH / 2} ${n.y - HEIGHT / 2})`}
          onclick={() => {
            if (!moved) onpick(n);
          }}
          onkeydown={(e) => {
            if (e.key !== "Enter" && e.key !== " ") return;
            e.preventDefault();
            onpick(n);
          }}
          onfocus={(e) => {
            if (e.currentTarget.matches(":focus-visible")) intoSight(n);
          }}
          data-node={n.id}
        >
          <title>{spoken(n)}</title>
          {#if n.kind === "network"}
            <rect class="shape" width={WIDTH} height={HEIGHT} rx={HEIGHT / 2} />
          {:else if n.kind === "volume"}
            <path
              class="shape"
              d={`M0 8a${WIDTH / 2} 8 0 0 1 ${WIDTH} 0v${HEIGHT - 16}a${WIDTH / 2} 8 0 0 1 ${-WIDTH} 0z`}
            />
            <path class="rim" d={`M0 8a${WIDTH / 2} 8 0 0 0 ${WIDTH} 0`} />
          {:else if n.kind === "port"}
            <path class="shape" d={`M0 0h${WIDTH - 16}l16 ${HEIGHT / 2}l-16 ${HEIGHT / 2}H0z`} />
          {:else if n.kind === "folder"}
            <path class="shape" d={`M0 6h50l8 -6h${WIDTH - 58}v${HEIGHT}H0z`} />
          {:else if n.kind === "stack"}
            <path class="shape behind" d={`M5 -5h${WIDTH}v${HEIGHT}`} />
            <rect class="shape" width={WIDTH} height={HEIGHT} />
          {:else}
            <rect class="shape" class:job={n.kind === "job"} width={WIDTH} height={HEIGHT} />
          {/if}
          {#if n.look}<g transform={`translate(9 ${HEIGHT / 2 - 7}) scale(0.9)`}
              ><StateShape shape={n.look} /></g
            >{/if}
          <text
            class="name"
            x={n.look ? 30 : n.kind === "network" ? 20 : 11}
            y={n.kind === "volume" ? (n.note ? 24 : 30) : n.note ? 19 : 27}
            >{cut(n.label, n.look ? 20 : 23)}</text
          >
          {#if n.note}<text
              class="note"
              x={n.look ? 30 : n.kind === "network" ? 20 : 11}
              y={n.kind === "volume" ? 36 : 34}>{cut(n.note, n.look ? 29 : 32)}</text
            >{/if}
        </g>
      {/each}
    </g>
  </svg>
  <div class="tools">
    <ToolButton onclick={() => zoom(1.25)} aria-label="Larger">+</ToolButton>
    <ToolButton onclick={() => zoom(0.8)} aria-label="Smaller">−</ToolButton>
    <ToolButton onclick={() => (chosen = null)} disabled={chosen === null}>All</ToolButton>
  </div>
</div>

<style>
  .map {
    position: relative;
    width: 100%;
    height: 100%;
    overflow: hidden;
    touch-action: none;
    background: var(--cds-ui-background);
    border: 1px solid var(--line);
    cursor: grab;
  }
  .map:focus-visible {
    outline: 2px solid var(--cds-focus);
    outline-offset: -2px;
  }
  svg {
    display: block;
  }
  .tools {
    position: absolute;
    right: 0.5rem;
    bottom: 0.5rem;
  }
  .box {
    fill: var(--cds-ui-01);
    stroke: var(--line);
  }
  .host {
    font-size: 13px;
    font-weight: 600;
    fill: var(--cds-text-01);
  }
  .line {
    fill: none;
    stroke: var(--cds-text-02);
    stroke-width: 1.3;
  }
  .line.in {
    stroke-dasharray: 2 3;
  }
  .line.mounts {
    stroke-dasharray: 7 3;
  }
  .on-line {
    font-size: 10px;
    fill: var(--cds-text-02);
    text-anchor: middle;
  }
  .node {
    cursor: pointer;
    outline: none;
  }
  .shape {
    fill: var(--cds-field-01);
    stroke: var(--cds-text-02);
    stroke-width: 1.2;
  }
  .shape.behind,
  .rim {
    fill: none;
    stroke: var(--cds-text-02);
    stroke-width: 1.2;
  }
  .shape.job {
    stroke-dasharray: 5 3;
  }
  .node:hover .shape {
    stroke: var(--cds-interactive-01);
    stroke-width: 2;
  }
  .node:focus-visible .shape {
    stroke: var(--cds-focus);
    stroke-width: 3;
  }
  .name {
    font-size: 13px;
    font-weight: 600;
    fill: var(--cds-text-01);
  }
  .note {
    font-size: 10.5px;
    fill: var(--cds-text-02);
  }
  .dim {
    opacity: 0.2;
  }
</style>
