<!--
  Resource usage of containers, a stack or a host: live, or up to months back, with zoom and pan; events are
  marked on the same axis.
-->
<script lang="ts">
  import { call, sentence } from "../../lib/api";
  import { bytes, count, processors, rate, span } from "../../lib/format";
  import { live } from "../../lib/live.svelte";
  import type { FigureName, Figures, History, TimelineEvent, CurrentUsage } from "../../lib/types";
  import Chart from "../../ui/Chart.svelte";
  import Switcher from "../../ui/Switcher.svelte";
  import ToolButton from "../../ui/ToolButton.svelte";

  let {
    references = [],
    stack = "",
    host = "",
  }: { references?: string[]; stack?: string; host?: string } = $props();

  const RANGES: [string, number][] = [
    ["10 min", 600],
    ["1 h", 3600],
    ["6 h", 6 * 3600],
    ["1 d", 86_400],
    ["7 d", 7 * 86_400],
    ["30 d", 30 * 86_400],
    ["1 y", 365 * 86_400],
  ];
  const RANGE_OPTIONS = RANGES.map(([title, seconds]): [number, string] => [seconds, title]);
  const CHARTS: { title: string; figures: FigureName[]; write: (v: number | null | undefined) => string }[] =
    [
      { title: "Processors", figures: ["processors"], write: processors },
      { title: "Memory", figures: ["memory", "memory-limit"], write: bytes },
      { title: "Network in", figures: ["network-in"], write: rate },
      { title: "Network out", figures: ["network-out"], write: rate },
      { title: "Disk read", figures: ["disk-read"], write: rate },
      { title: "Disk written", figures: ["disk-write"], write: rate },
      { title: "Processes", figures: ["processes"], write: count },
    ];
  const MARKED = new Set([
    "started",
    "exited",
    "out of memory",
    "restarted",
    "created",
    "removed",
    "stopped",
    "signal sent",
    "unreachable",
    "connected",
    "restart",
    "remove",
  ]);

  /** Seconds that are shown, and where they end: null is now. */
  let range = $state(3600);
  let end = $state<number | null>(null);
  let history = $state.raw<History | null>(null);
  let events = $state.raw<TimelineEvent[]>([]);
  let now = $state.raw<Record<string, CurrentUsage>>({});
  let wrong = $state("");
  let asked = 0;

  const whose = $derived.by(() => {
    const parts = new URLSearchParams();
    for (const r of references) parts.append("reference", r);
    if (stack) parts.append("stack", stack);
    if (host) parts.append("host", host);
    return parts.toString();
  });

  const bounds = $derived.by((): [number, number] => {
    void history;
    const to = end ?? Date.now() / 1000;
    return [to - range, to];
  });

  function times(): string {
    const to = end ?? Date.now() / 1000;
    const iso = (t: number) => new Date(t * 1000).toISOString();
    return `since=${iso(to - range)}&until=${iso(to)}`;
  }

  async function fetch() {
    const mine = ++asked;
    try {
      const wide = Math.max(200, Math.min(1200, Math.round(innerWidth * 0.6)));
      const found = await call<History>("GET", `/api/v1/history?${whose}&${times()}&points=${wide}`);
      if (mine !== asked) return;
      history = found;
      wrong = "";
    } catch (error) {
      wrong = sentence(error);
    }
  }

  async function fetchEvents() {
    // A stack has no events of its own; its containers' would be too many to tell apart.
    const of =
      references.length === 1
        ? `object=${encodeURIComponent(references[0] ?? "")}`
        : host
          ? `host=${host}&kind=host`
          : "";
    if (!of) return;
    try {
      const found = await call<TimelineEvent[]>("GET", `/api/v1/timeline?${of}&${times()}&limit=300`);
      events = found.filter((e) => MARKED.has(e.action));
    } catch {
      events = [];
    }
  }

  $effect(() => {
    void [whose, range, end];
    history = null;
    void fetch();
    void fetchEvents();
    if (end !== null) return;
    const every = Math.max(5000, Math.min(60_000, range * 5));
    const timer = setInterval(() => {
      void fetch();
      void fetchEvents();
    }, every);
    return () => clearInterval(timer);
  });

  const looked = $derived(
    references.length > 0
      ? references
      : live.containers
          .filter((c) => (stack && c.stack === stack) || (host && c.host === host))
          .map((c) => `${c.host}/${c.name}`)
          .slice(0, 200),
  );
  const lookedKey = $derived(looked.join());

  $effect(() => {
    const list = lookedKey.split(",").filter(Boolean);
    now = {};
    if (list.length === 0) return;
    return live.use(list, (samples) => {
      const next = { ...now };
      for (const s of samples) next[`${s.host}/${s.name}`] = s;
      now = next;
    });
  });

  const total = $derived.by(() => {
    const sum: Figures = {};
    for (const { figures } of Object.values(now)) {
      for (const [key, value] of Object.entries(figures) as [keyof Figures, number][])
        sum[key] = (sum[key] ?? 0) + value;
    }
    return sum;
  });
  const cached = $derived(Object.values(now).some((u) => u.memory_has_cache));

  function lines(figures: FigureName[]) {
    return (history?.series ?? []).flatMap((s) =>
      figures.flatMap((name) => {
        const found = s.figures.find((f) => f.figure === name);
        if (!found) return [];
        const limit = name === "memory-limit";
        // Limits of many lines over each other tell nothing.
        if (limit && ((history?.series.length ?? 0) > 1 || found.mean.every((v) => v === null))) return [];
        return [{ name: limit ? "limit" : s.name, mean: found.mean, min: found.min, max: found.max, limit }];
      }),
    );
  }

  function zoom(from: number, to: number) {
    range = Math.max(60, Math.round(to - from));
    end = to;
  }

  function pan(by: number) {
    const next = (end ?? Date.now() / 1000) + by * range * 0.5;
    end = next >= Date.now() / 1000 ? null : next;
  }
</script>

<div class="use">
  <div class="tools">
    <Switcher
      name="Range"
      value={end === null ? range : 0}
      options={end === null && RANGES.some(([, s]) => s === range)
        ? RANGE_OPTIONS
        : [[0, "as zoomed"], ...RANGE_OPTIONS]}
      onchange={(seconds) => {
        if (seconds) [range, end] = [seconds, null];
      }}
    />
    <ToolButton onclick={() => pan(-1)} aria-label="Earlier">← Earlier</ToolButton>
    <ToolButton onclick={() => pan(1)} disabled={end === null} aria-label="Later">Later →</ToolButton>
    <ToolButton onclick={() => ((end = end ?? Date.now() / 1000), (range = range * 2))}>Zoom out</ToolButton>
    <span class="push"></span>
    <a href={`/api/v1/history?${whose}&${times()}&points=5000&format=csv`} download="resource-history.csv"
      >CSV</a
    >
    <a href={`/api/v1/history?${whose}&${times()}&points=5000`} download="resource-history.json">JSON</a>
  </div>
  {#if Object.keys(now).length > 0}
    <dl class="now" data-test="use-now">
      <div>
        <dt>Processors</dt>
        <dd>{processors(total.processors)}</dd>
      </div>
      <div>
        <dt>Memory{cached ? " (with page cache)" : ""}</dt>
        <dd>
          {bytes(total.memory)}{total.memory_limit && references.length === 1
            ? ` of ${bytes(total.memory_limit)}`
            : ""}
        </dd>
      </div>
      <div>
        <dt>Network</dt>
        <dd>{rate(total.network_in)} in, {rate(total.network_out)} out</dd>
      </div>
      <div>
        <dt>Disk</dt>
        <dd>{rate(total.disk_read)} read, {rate(total.disk_write)} written</dd>
      </div>
      <div>
        <dt>Processes</dt>
        <dd>{count(total.processes)}</dd>
      </div>
    </dl>
  {/if}
  {#if wrong}
    <p class="soft">{wrong}</p>
  {:else if !history}
    <p class="soft">Loading history…</p>
  {:else}
    {#each CHARTS as chart (chart.title)}
      {@const series = lines(chart.figures)}
      {#if series.some((s) => s.mean.some((v) => v !== null))}
        <Chart
          title={chart.title}
          times={history.times}
          {series}
          write={chart.write}
          {events}
          range={bounds}
          onzoom={zoom}
        />
      {/if}
    {:else}
      <p class="soft">No data for this period.</p>
    {/each}
    <p class="soft">
      Steps of {span(history.step)}{history.damaged ? `; ${history.damaged} damaged parts were skipped` : ""}.
      Drag over a chart to zoom in, or use its keys (<kbd>?</kbd> lists them).
      {#if events.length > 0}Marks: {[...new Set(events.map((e) => e.action))].join(", ")}.{/if}
    </p>
  {/if}
</div>

<style>
  .use {
    flex: 1;
    min-height: 0;
    padding: 0.6rem 1rem 1.5rem;
    overflow-y: auto;
  }
  .now {
    display: flex;
    flex-wrap: wrap;
    gap: 0.4rem 1.6rem;
    margin: 0.5rem 0 0.9rem;
    font-size: 0.8125rem;
  }
  dt {
    color: var(--cds-text-02);
    font-size: 0.75rem;
  }
  dd {
    font-weight: 600;
  }
</style>
