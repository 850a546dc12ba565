<!-- Current usage of everything, sorted; selected containers in one chart. -->
<script lang="ts">
  import { Button } from "carbon-components-svelte";
  import { bytes, count, processors, rate } from "../../lib/format";
  import { inspect } from "../fleet/inspect";
  import { live } from "../../lib/live.svelte";
  import { call } from "../../lib/api";
  import { place, query } from "../../lib/router.svelte";
  import type { Figures, CurrentUsage } from "../../lib/types";
  import Spark from "../../ui/Spark.svelte";
  import Switcher from "../../ui/Switcher.svelte";
  import Ranking from "./Ranking.svelte";
  import UsageView from "./UsageView.svelte";
  import type { Column } from "../../ui/list/columns";
  import ListBar from "../../ui/list/ListBar.svelte";
  import RowList from "../../ui/list/RowList.svelte";

  type Key = keyof Figures | "name";

  const mib = (value: number | undefined) => (value === undefined ? "unknown" : bytes(value));
  const COLUMNS: Column<CurrentUsage>[] = [
    {
      key: "name",
      title: "Container",
      width: "minmax(9rem, 2fr)",
      card: "title",
      sorts: true,
      text: (u) => u.name,
    },
    {
      key: "processors",
      title: "Processor",
      width: "9rem",
      card: "side",
      sorts: true,
      text: (u) => processors(u.figures.processors),
    },
    {
      key: "memory",
      title: "Memory",
      width: "10rem",
      card: "below",
      sorts: true,
      text: (u) => mib(u.figures.memory) + (u.memory_has_cache ? "*" : ""),
    },
    {
      key: "network_in",
      title: "Network in",
      width: "minmax(5rem, 1fr)",
      from: 760,
      sorts: true,
      text: (u) => rate(u.figures.network_in),
    },
    {
      key: "network_out",
      title: "Network out",
      width: "minmax(5rem, 1fr)",
      from: 760,
      sorts: true,
      text: (u) => rate(u.figures.network_out),
    },
    {
      key: "disk_read",
      title: "Disk read",
      width: "minmax(5rem, 1fr)",
      from: 980,
      sorts: true,
      text: (u) => rate(u.figures.disk_read),
    },
    {
      key: "disk_write",
      title: "Disk written",
      width: "minmax(5rem, 1fr)",
      from: 980,
      sorts: true,
      text: (u) => rate(u.figures.disk_write),
    },
    {
      key: "processes",
      title: "Processes",
      width: "5.5rem",
      from: 900,
      sorts: true,
      text: (u) => count(u.figures.processes),
    },
  ];
  const HELD = 30;
  /** Lines in one chart that can still be told from each other. */
  const MOST_CHARTED = 8;

  const ranked = $derived(place.query.get("view") === "ranking");
  const typed = $derived(place.query.get("find") ?? "");
  const sort = $derived((place.query.get("sort") as Key | null) ?? "processors");
  const chosen = $derived((place.query.get("refs") ?? "").split(",").filter(Boolean));

  let rows = $state.raw<CurrentUsage[]>([]);
  const latest = new Map<string, CurrentUsage>();

  let drawing = false;

  function keep(samples: CurrentUsage[]) {
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
    void call<CurrentUsage[]>("GET", "/api/v1/usage")
      .then(keep)
      .catch(() => {});
    return live.use(["*/*"], keep);
  });

  function value(u: CurrentUsage): number | string {
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

  function choose(u: CurrentUsage, on: boolean, range: CurrentUsage[]) {
    const next = new Set(chosen);
    for (const one of range) next.add(`${one.host}/${one.name}`);
    if (range.length === 0) next[on ? "add" : "delete"](`${u.host}/${u.name}`);
    query({ refs: [...next].slice(0, MOST_CHARTED).join(",") }, true);
  }
</script>

<ListBar title="Usage" placeholder="Filter by name, host or stack" label="Filter usage">
  <Switcher
    name="When"
    value={ranked}
    options={[
      [false, "Now"],
      [true, "Ranking"],
    ]}
    onchange={(on) => query({ view: on ? "ranking" : null, refs: null }, true)}
  />
  {#if !ranked}
    <span class="soft" data-test="total"
      >{shown.length} containers: {total.processors.toFixed(2)} processors, {bytes(total.memory)}, {rate(
        total.network_in,
      )} in, {rate(total.network_out)} out</span
    >
    {#if chosen.length > 0}
      <Button size="small" kind="ghost" on:click={() => query({ refs: null }, true)}>Clear</Button>
    {/if}
  {/if}
</ListBar>
{#if ranked}
  <Ranking />
{:else}
  <div class="split" class:two={chosen.length > 0}>
    <section aria-label="List of usage">
      {#if shown.length === 0}
        <p class="empty">No data yet. The first samples arrive within ten seconds.</p>
      {:else}
        <RowList
          name="usage"
          items={shown}
          columns={COLUMNS}
          test="use-row"
          sort={{ key: sort, down: sort !== "name" }}
          onsort={(key) => query({ sort: key === "processors" ? null : key }, true)}
          chosen={(u) => chosen.includes(`${u.host}/${u.name}`)}
          chooseWord={(u) => `Chart ${u.name}`}
          onchoose={choose}
          onchooseall={(on) =>
            query(
              {
                refs: on
                  ? shown
                      .slice(0, MOST_CHARTED)
                      .map((u) => `${u.host}/${u.name}`)
                      .join(",")
                  : null,
              },
              true,
            )}
          onopen={(u) => inspect("container", `${u.host}/${u.name}`, "use")}
        >
          {#snippet cell(u: CurrentUsage, key: string, text: string)}
            {#if key === "name"}<strong>{u.name}</strong> <span class="soft">{u.host}</span>
            {:else if key === "processors"}<span class="figure"
                >{text} <Spark values={u.recent_processors ?? []} title="Processor, last minutes" /></span
              >
            {:else if key === "memory"}<span class="figure"
                >{text} <Spark values={u.recent_memory ?? []} title="Memory, last minutes" /></span
              >
            {:else}{text}{/if}
          {/snippet}
        </RowList>
        {#if shown.some((u) => u.memory_has_cache)}<p class="soft foot">
            * including page cache: this engine does not report it separately.
          </p>{/if}
      {/if}
    </section>
    {#if chosen.length > 0}
      <section class="charts">
        {#key chosen.join()}<UsageView references={chosen} />{/key}
      </section>
    {/if}
  </div>
{/if}

<style>
  .split {
    flex: 1;
    min-height: 0;
    display: grid;
    grid-template-columns: minmax(0, 1fr);
    grid-template-rows: minmax(0, 1fr);
  }
  .split.two {
    grid-template-rows: minmax(0, 1fr) minmax(0, 1.2fr);
  }
  section {
    min-width: 0;
    min-height: 0;
    display: flex;
    flex-direction: column;
  }
  .charts {
    border-top: 2px solid var(--line);
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
