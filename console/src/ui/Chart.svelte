<!--
  One chart over time: a line for the mean of each series, the range between least and most behind a
  single one, gaps where nothing is known, and marks for what happened. Dragging over it zooms, and so do keys: arrows move,
  Shift with arrows selects, Enter zooms to what is selected, + and - zoom in and out.
-->
<script lang="ts">
  import type uPlot from "uplot";
  import { moment } from "../lib/format";
  import { theme } from "../lib/theme.svelte";
  import type { TimelineEvent } from "../lib/types";

  interface Series {
    name: string;
    mean: (number | null)[];
    min?: (number | null)[];
    max?: (number | null)[];
    /** A limit: drawn broken, not a use. */
    limit?: boolean;
  }

  let {
    title,
    times,
    series,
    write,
    events = [],
    range,
    onzoom,
  }: {
    title: string;
    times: number[];
    series: Series[];
    write: (value: number | null | undefined) => string;
    events?: TimelineEvent[];
    /** The whole range in seconds, so that all charts of a page agree. */
    range: [number, number];
    onzoom?: (from: number, to: number) => void;
  } = $props();

  const LIGHT = ["#2f6f4f", "#8a5a00", "#2b5fa8", "#9c2f4b", "#5b4a91", "#1f7f86", "#7a5230", "#5d6b1d"];
  const DARK = ["#7fd0a0", "#e0b84c", "#8db8f0", "#ff8490", "#b9a8ee", "#6fd0d6", "#d7a877", "#bccb62"];
  const TALL = 150;

  let frame: HTMLDivElement | undefined = $state();
  let wide = $state(0);
  let plot: uPlot | undefined;

  function token(name: string): string {
    return getComputedStyle(document.documentElement).getPropertyValue(name).trim() || "#888";
  }

  function data(): uPlot.AlignedData {
    const columns: (number | null | undefined)[][] = [];
    for (const s of series) {
      columns.push(s.mean);
      if (banded(s)) columns.push(s.max ?? [], s.min ?? []);
    }
    return [times, ...columns] as uPlot.AlignedData;
  }

  /** Ranges of many series over each other would hide all of them. */
  function banded(s: Series): boolean {
    return !!s.min && !!s.max && series.filter((x) => !x.limit).length === 1 && !s.limit;
  }

  function marks(u: uPlot) {
    const context = u.ctx;
    context.save();
    for (const event of events) {
      const at = Date.parse(event.time) / 1000;
      const [from, to] = [u.scales["x"]?.min ?? 0, u.scales["x"]?.max ?? 0];
      if (at < from || at > to) continue;
      const x = Math.round(u.valToPos(at, "x", true));
      context.strokeStyle = context.fillStyle = event.bad ? token("--state-failed") : token("--state-quiet");
      context.lineWidth = devicePixelRatio;
      context.setLineDash([3, 3]);
      context.beginPath();
      context.moveTo(x, u.bbox.top);
      context.lineTo(x, u.bbox.top + u.bbox.height);
      context.stroke();
      context.setLineDash([]);
      context.beginPath();
      context.moveTo(x - 4, u.bbox.top);
      context.lineTo(x + 4, u.bbox.top);
      context.lineTo(x, u.bbox.top + 7);
      context.fill();
    }
    context.restore();
  }

  /** Times of an axis: the hour while it spans hours, the day when it spans days. */
  function clock(_: uPlot, ticks: number[]): string[] {
    const wideSpan = range[1] - range[0] > 2 * 86_400;
    const pad = (n: number) => String(n).padStart(2, "0");
    return ticks.map((t) => {
      const d = new Date(t * 1000);
      const day = `${pad(d.getDate())}.${pad(d.getMonth() + 1)}.`;
      const midnight = d.getHours() === 0 && d.getMinutes() === 0;
      if (wideSpan) return midnight ? day : `${day} ${pad(d.getHours())}h`;
      if (midnight) return day;
      const seconds = range[1] - range[0] < 600 ? `:${pad(d.getSeconds())}` : "";
      return `${pad(d.getHours())}:${pad(d.getMinutes())}${seconds}`;
    });
  }

  async function draw() {
    const [{ default: Plot }] = await Promise.all([import("uplot"), import("uplot/dist/uPlot.min.css")]);
    if (!frame || wide === 0) return;
    plot?.destroy();
    const colours = theme.choice === "dark" ? DARK : LIGHT;
    const text = token("--cds-text-02");
    const grid = { stroke: token("--line"), width: 1 };
    const lines: uPlot.Series[] = [{}];
    const bands: uPlot.Band[] = [];
    series.forEach((s, i) => {
      const stroke = s.limit ? token("--state-failed") : (colours[i % colours.length] ?? "#888");
      const dash = s.limit ? { dash: [6, 4] } : {};
      lines.push({ label: s.name, stroke, width: 1.6, points: { show: false }, spanGaps: false, ...dash });
      if (banded(s)) {
        const bare = { stroke: "transparent", width: 0, points: { show: false } };
        lines.push({ ...bare, label: "most" }, { ...bare, label: "least" });
        bands.push({ series: [lines.length - 2, lines.length - 1], fill: `${stroke}33` });
      }
    });
    const axis = { stroke: text, grid, ticks: grid, font: "11px IBM Plex Sans" };
    plot = new Plot(
      {
        width: wide,
        height: TALL,
        legend: { show: false },
        cursor: { drag: { x: true, y: false, setScale: false }, points: { size: 6 } },
        scales: {
          x: { time: true, range: () => range },
          y: { range: (_, __, most) => [0, most > 0 ? most * 1.12 : 1] },
        },
        series: lines,
        bands,
        axes: [
          { ...axis, values: clock },
          { ...axis, size: 74, values: (_, ticks) => ticks.map((t) => write(t)) },
        ],
        hooks: {
          drawAxes: [marks],
          setSelect: [
            (u) => {
              if (u.select.width < 5) return;
              const from = u.posToVal(u.select.left, "x");
              onzoom?.(from, u.posToVal(u.select.left + u.select.width, "x"));
              u.setSelect({ left: 0, top: 0, width: 0, height: 0 }, false);
            },
          ],
          setCursor: [(u) => (hovered = u.cursor.idx ?? null)],
        },
      },
      data(),
      frame,
    );
  }

  let hovered = $state<number | null>(null);
  /** Where a selection by keys begins. */
  let anchor: number | null = null;

  /** Moves to a step of the chart, and selects from the anchor to it. */
  function moveTo(index: number) {
    if (!plot) return;
    const at = (n: number) => plot?.valToPos(times[n] ?? 0, "x") ?? 0;
    plot.setCursor({ left: at(index), top: TALL / 3 });
    const [from, to] = anchor === null ? [0, 0] : [at(Math.min(anchor, index)), at(Math.max(anchor, index))];
    plot.setSelect({ left: from, width: to - from, top: 0, height: plot.over.clientHeight }, false);
  }

  function keys(event: KeyboardEvent) {
    const last = times.length - 1;
    if (last < 0 || event.ctrlKey || event.metaKey || event.altKey) return;
    const at = Math.min(hovered ?? last, last);
    const far = Math.max(1, Math.round(last / 20));
    const moves: Record<string, number> = {
      ArrowLeft: at - (event.shiftKey ? far : 1),
      ArrowRight: at + (event.shiftKey ? far : 1),
      PageUp: at - far,
      PageDown: at + far,
      Home: 0,
      End: last,
    };
    const to = moves[event.key];
    const [begin, end] = range;
    if (to !== undefined) {
      anchor = event.shiftKey ? (anchor ?? at) : null;
      moveTo(Math.max(0, Math.min(last, to)));
    } else if (event.key === "Enter" && anchor !== null && anchor !== at) {
      const [from, until] = [times[Math.min(anchor, at)] ?? begin, times[Math.max(anchor, at)] ?? end];
      anchor = null;
      moveTo(at);
      onzoom?.(from, until);
    } else if (event.key === "+" || event.key === "-") {
      const middle = hovered === null ? (begin + end) / 2 : (times[at] ?? (begin + end) / 2);
      const half = (end - begin) * (event.key === "+" ? 0.25 : 1);
      onzoom?.(middle - half, Math.min(middle + half, Date.now() / 1000));
    } else if (event.key === "Escape" && anchor !== null) {
      anchor = null;
      moveTo(at);
    } else return;
    event.preventDefault();
    event.stopPropagation();
  }

  const said = $derived.by(() => {
    const last = series.map((s) => s.mean.findLastIndex((v) => v !== null));
    return series.map((s, i) => {
      const at = hovered ?? last[i] ?? -1;
      return { name: s.name, limit: s.limit, value: s.mean[at], max: s.max?.[at] };
    });
  });
  const when = $derived(hovered === null ? "" : moment(new Date((times[hovered] ?? 0) * 1000).toISOString()));

  // The shape of the chart is rebuilt; fresh values alone are only set.
  const shape = $derived(`${series.map((s) => `${s.name}${banded(s)}`).join()}|${theme.choice}|${wide}`);
  $effect(() => {
    void shape;
    void draw();
    return () => {
      plot?.destroy();
      plot = undefined;
    };
  });
  $effect(() => {
    const fresh = data();
    void range;
    void events;
    plot?.setData(fresh);
  });
</script>

<figure>
  <figcaption>
    <strong>{title}</strong>
    {#each said as s, i (s.name)}
      <span class={`key tone-${s.limit ? "limit" : i % 8}`}>
        {#if series.length > 1}{s.name}{/if}
        {write(s.value)}
        {#if s.max !== undefined && s.max !== null && hovered !== null}
          <span class="soft">up to {write(s.max)}</span>
        {/if}
      </span>
    {/each}
    <span class="soft when" aria-live="polite">{when}</span>
  </figcaption>
  <!-- svelte-ignore a11y_no_noninteractive_tabindex, a11y_no_noninteractive_element_interactions -->
  <div
    class="plot"
    bind:this={frame}
    bind:clientWidth={wide}
    data-test="chart"
    role="group"
    aria-roledescription="chart"
    aria-label={`${title}: arrow keys move, Shift with arrows selects, Enter zooms to what is selected, plus and minus zoom`}
    tabindex="0"
    onkeydown={keys}
  ></div>
</figure>

<style>
  figure {
    margin: 0 0 0.8rem;
  }
  figcaption {
    display: flex;
    flex-wrap: wrap;
    gap: 0.2rem 0.9rem;
    font-size: 0.8125rem;
    padding-bottom: 0.15rem;
  }
  .when {
    margin-left: auto;
  }
  .plot {
    min-height: 150px;
  }
  .key::before {
    content: "";
    display: inline-block;
    width: 0.8rem;
    border-top: 3px solid currentColor;
    margin-right: 0.35rem;
    vertical-align: middle;
  }
  .tone-0 {
    color: var(--chart-0);
  }
  .tone-1 {
    color: var(--chart-1);
  }
  .tone-2 {
    color: var(--chart-2);
  }
  .tone-3 {
    color: var(--chart-3);
  }
  .tone-4 {
    color: var(--chart-4);
  }
  .tone-5 {
    color: var(--chart-5);
  }
  .tone-6 {
    color: var(--chart-6);
  }
  .tone-7 {
    color: var(--chart-7);
  }
  .tone-limit {
    color: var(--state-failed);
  }
</style>
