<!-- What everything uses now, sorted by use; chosen ones in one chart. -->
<script lang="ts">
  import { bytes, count, processors, rate } from "../../lib/format";
  import { inspect } from "../fleet/inspect";
  import { live } from "../../lib/live.svelte";
  import { call } from "../../lib/api";
  import { place, query } from "../../lib/router.svelte";
  import type { Figures, UseNow } from "../../lib/types";
  import Spark from "../../ui/Spark.svelte";
  import UseView from "./UseView.svelte";
  import VirtualRows from "../../ui/VirtualRows.svelte";

  type Key = keyof Figures | "name";

  const COLUMNS: [Key, string][] = [
    ["name", "Container"],
    ["processors", "Processors"],
    ["memory", "Memory"],
    ["network_in", "Network in"],
    ["network_out", "Network out"],
    ["disk_read", "Disk read"],
    ["disk_write", "Disk written"],
    ["processes", "Processes"],
  ];
  const HELD = 30;

  const typed = $derived(place.query.get("find") ?? "");
  const sort = $derived((place.query.get("sort") as Key | null) ?? "processors");
  const chosen = $derived((place.query.get("refs") ?? "").split(",").filter(Boolean));

  let rows = $state.raw<UseNow[]>([]);
  const latest = new Map<string, UseNow>();

  let drawing = false;

  function keep(samples: UseNow[]) {
    for (const s of samples) {
      const key = `${s.host}/${s.id}`;
      const before = latest.get(key);
      const add = (ring: number[] | undefined, value: number | undefined) =>
        [...(ring ?? []), value ?? 0].slice(-HELD);
      latest.set(key, {
        ...s,
        recent_processors: s.recent_processors ?? add(before?.recent_processors, s.figures.processors),
        recent_memory: s.recent_memory ?? add(before?.recent_memory, s.figures.memory),
      });
    }
    // Hosts tell one after another: many messages, one drawing.
    if (drawing) return;
    drawing = true;
    setTimeout(() => {
      drawing = false;
      const up = live.containers.filter((c) => c.state === "running" || c.state === "paused");
      const running = new Set(up.map((c) => `${c.host}/${c.id}`));
      for (const key of latest.keys()) if (!running.has(key)) latest.delete(key);
      rows = [...latest.values()];
    }, 250);
  }

  $effect(() => {
    void call<UseNow[]>("GET", "/api/v1/use")
      .then(keep)
      .catch(() => {});
    return live.use(["*/*"], keep);
  });

  function value(u: UseNow): number | string {
    return sort === "name" ? u.name : (u.figures[sort] ?? -1);
  }

  const shown = $derived(
    rows
      .filter((u) => `${u.host}/${u.name} ${u.stack ?? ""}`.toLowerCase().includes(typed.toLowerCase()))
      .sort((a, b) => {
        const [x, y] = [value(a), value(b)];
        const order = typeof x === "string" ? x.localeCompare(String(y)) : Number(y) - x;
        return order || a.name.localeCompare(b.name) || a.host.localeCompare(b.host);
      }),
  );
  const total = $derived.by(() => {
    const sum = { processors: 0, memory: 0, network_in: 0, network_out: 0 };
    for (const u of shown)
      for (const key of Object.keys(sum) as (keyof typeof sum)[]) sum[key] += u.figures[key] ?? 0;
    return sum;
  });

  function choose(u: UseNow) {
    const key = `${u.host}/${u.name}`;
    const next = chosen.includes(key) ? chosen.filter((c) => c !== key) : [...chosen, key];
    query({ refs: next.join(",") }, true);
  }
</script>

<div class="tools bar">
  <h1>Use</h1>
  <input
    class="filter"
    id="filter"
    placeholder="Filter by name, host or stack"
    aria-label="Filter"
    value={typed}
    oninput={(e) => query({ find: e.currentTarget.value }, true)}
  />
  <span class="soft" data-test="total"
    >{shown.length} containers: {total.processors.toFixed(2)} processors, {bytes(total.memory)}, {rate(
      total.network_in,
    )} in, {rate(total.network_out)} out</span
  >
  {#if chosen.length > 0}
    <span class="push"></span>
    <button onclick={() => query({ refs: null }, true)}>Choose none</button>
  {/if}
</div>
<div class="split" class:two={chosen.length > 0}>
  <section>
    <div class="columns using" role="row">
      <span></span>
      {#each COLUMNS as [key, name] (key)}
        <button class="plain" onclick={() => query({ sort: key === "processors" ? null : key }, true)}
          >{name}{sort === key ? " ↓" : ""}</button
        >
      {/each}
    </div>
    {#if shown.length === 0}
      <p class="empty">Nothing is sampled yet; the first figures come within ten seconds.</p>
    {:else}
      <VirtualRows items={shown} height={36}>
        {#snippet row(u: UseNow)}
          <div
            class="line using"
            role="row"
            tabindex="-1"
            class:current={chosen.includes(`${u.host}/${u.name}`)}
            onclick={(e) =>
              (e.target as Element).closest("input") || inspect("container", `${u.host}/${u.name}`, "use")}
            onkeydown={(e) => e.key === "Enter" && inspect("container", `${u.host}/${u.name}`, "use")}
            data-test="use-row"
          >
            <input
              type="checkbox"
              checked={chosen.includes(`${u.host}/${u.name}`)}
              aria-label={`Chart ${u.name}`}
              onclick={() => choose(u)}
            />
            <span title={`${u.host}/${u.name}`}
              ><strong>{u.name}</strong> <span class="soft">{u.host}</span></span
            >
            <span class="figure"
              >{processors(u.figures.processors)}
              <Spark values={u.recent_processors ?? []} title="Processors lately" /></span
            >
            <span class="figure"
              >{bytes(u.figures.memory)}{u.memory_has_cache ? "*" : ""}
              <Spark values={u.recent_memory ?? []} title="Memory lately" /></span
            >
            <span>{rate(u.figures.network_in)}</span>
            <span>{rate(u.figures.network_out)}</span>
            <span>{rate(u.figures.disk_read)}</span>
            <span>{rate(u.figures.disk_write)}</span>
            <span>{count(u.figures.processes)}</span>
          </div>
        {/snippet}
      </VirtualRows>
      {#if shown.some((u) => u.memory_has_cache)}<p class="soft foot">
          * with page cache: this engine does not tell it apart.
        </p>{/if}
    {/if}
  </section>
  {#if chosen.length > 0}
    <section class="charts">
      {#key chosen.join()}<UseView references={chosen} />{/key}
    </section>
  {/if}
</div>

<style>
  .split {
    flex: 1;
    min-height: 0;
    display: grid;
    grid-template-rows: minmax(0, 1fr);
  }
  .split.two {
    grid-template-rows: minmax(0, 1fr) minmax(0, 1.2fr);
  }
  section {
    min-height: 0;
    display: flex;
    flex-direction: column;
  }
  .charts {
    border-top: 2px solid var(--line);
  }
  .using {
    grid-template-columns: 1.25rem minmax(12rem, 2fr) 9rem 10rem repeat(4, minmax(4.5rem, 1fr)) 4.5rem;
  }
  @container (max-width: 60rem) {
    .using {
      grid-template-columns: 1.25rem minmax(8rem, 2fr) 9rem 10rem;
    }
    .using > :nth-child(n + 5) {
      display: none;
    }
  }
  .figure {
    display: flex;
    justify-content: space-between;
    gap: 0.4rem;
  }
  .foot {
    padding: 0.3rem 1rem;
    font-size: 0.75rem;
  }
</style>
