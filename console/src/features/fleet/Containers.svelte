<!-- All containers of all hosts in one list: filter, facets, sort, choose many, act on them. -->
<script lang="ts">
  import { Button } from "carbon-components-svelte";
  import { counts, matcher, sorted, withinFacets, type Facets, type SortKey } from "./filter";
  import { reference, verbs } from "../../lib/format";
  import { live } from "../../lib/live.svelte";
  import { place, query } from "../../lib/router.svelte";
  import { pending, session } from "../../lib/session.svelte";
  import type { Container, Kind } from "../../lib/types";
  import ContainerRow from "./ContainerRow.svelte";
  import FacetList from "../../ui/FacetList.svelte";
  import VirtualRows from "../../ui/VirtualRows.svelte";

  const COLUMNS: [SortKey, string][] = [
    ["state", "State"],
    ["name", "Name"],
    ["host", "Host"],
    ["image", "Image"],
    ["stack", "Stack"],
    ["ports", "Ports"],
    ["created", "Made"],
  ];

  // The address leads: a link, or going back, changes the box too.
  let typed = $derived(place.query.get("find") ?? "");
  let chosen = $state.raw(new Set<string>());
  let cursor = $state(0);
  let lastChosen = -1;
  let rows: VirtualRows<Container> | undefined = $state();

  function fromQuery(name: string): Set<string> {
    return new Set((place.query.get(name) ?? "").split(",").filter(Boolean));
  }

  const facets: Facets = $derived({
    hosts: fromQuery("hosts"),
    states: fromQuery("states"),
    stacks: fromQuery("stacks"),
  });
  const sortKey = $derived((place.query.get("sort") as SortKey | null) ?? "state");
  const down = $derived(place.query.get("order") === "down");
  const fitting = $derived(live.containers.filter(matcher(typed)));
  const list = $derived(
    sorted(
      fitting.filter((c) => withinFacets(c, facets)),
      sortKey,
      down,
    ),
  );
  const picked = $derived(live.containers.filter((c) => chosen.has(key(c))));
  const inspected = $derived(place.query.get("inspect"));
  const narrowed = $derived(typed.trim() !== "" || Object.values(facets).some((f) => f.size > 0));

  function key(c: Container): string {
    return `${c.host}/${c.id}`;
  }

  function toggleFacet(facet: keyof Facets, value: string) {
    const next = new Set(facets[facet]);
    if (!next.delete(value)) next.add(value);
    query({ [facet]: [...next].join(",") }, true);
  }

  function sortBy(column: SortKey) {
    query({ sort: column, order: sortKey === column && !down ? "down" : null }, true);
  }

  function choose(index: number, range: boolean) {
    const next = new Set(chosen);
    const one = list[index];
    if (!one) return;
    if (range && lastChosen >= 0) {
      const [from, to] = lastChosen < index ? [lastChosen, index] : [index, lastChosen];
      for (const c of list.slice(from, to + 1)) next.add(key(c));
    } else if (!next.delete(key(one))) next.add(key(one));
    lastChosen = index;
    chosen = next;
  }

  function chooseAll() {
    chosen = chosen.size > 0 ? new Set() : new Set(list.map(key));
  }

  function inspect(index: number) {
    const one = list[index];
    cursor = index;
    if (one) query({ inspect: reference(one) }, inspected !== null);
  }

  const ACTS = ["start", "stop", "restart", "update", "pause", "resume", "kill", "remove"] as const;

  function ask(kind: Kind) {
    pending.wish = { kind, containers: picked };
  }

  function keys(event: KeyboardEvent) {
    const target = event.target as HTMLElement;
    if (target.matches("input:not([type=checkbox]), textarea, select") || pending.wish) return;
    if (event.ctrlKey || event.metaKey || event.altKey) return;
    const step: Record<string, number> = {
      ArrowDown: 1,
      j: 1,
      ArrowUp: -1,
      k: -1,
      PageDown: 15,
      PageUp: -15,
    };
    const by = step[event.key];
    if (by !== undefined) {
      cursor = Math.max(0, Math.min(list.length - 1, cursor + by));
      rows?.show(cursor);
      if (inspected) inspect(cursor);
    } else if (event.key === "Enter" && !target.matches("button, a")) inspect(cursor);
    else if (event.key === "x") choose(cursor, false);
    else return;
    event.preventDefault();
  }
</script>

<svelte:window onkeydown={keys} />

<div class="tools bar">
  <h1>Containers</h1>
  <input
    class="filter"
    id="filter"
    placeholder="Filter by name, image, id, label or port"
    aria-label="Filter containers"
    bind:value={typed}
    oninput={() => query({ find: typed }, true)}
  />
  <a href="/deploy">Deploy…</a>
  <span class="soft" data-test="count">{list.length} of {live.containers.length}</span>
  {#if narrowed}
    <button class="link" onclick={() => query({ find: null, hosts: null, states: null, stacks: null })}>
      Show all
    </button>
  {/if}
</div>
<div class="split" class:narrow={inspected && (place.query.get("tab") ?? "facts") !== "facts"}>
  <aside aria-label="Narrow down">
    <FacetList
      title="State"
      values={counts(fitting, facets, "states")}
      chosen={facets.states}
      ontoggle={(v) => toggleFacet("states", v)}
    />
    <FacetList
      title="Host"
      values={counts(fitting, facets, "hosts")}
      chosen={facets.hosts}
      ontoggle={(v) => toggleFacet("hosts", v)}
    />
    <FacetList
      title="Stack"
      values={counts(fitting, facets, "stacks")}
      chosen={facets.stacks}
      ontoggle={(v) => toggleFacet("stacks", v)}
    />
  </aside>
  <section aria-label="Containers">
    <div class="columns grid" class:slim={inspected} role="row">
      <input
        type="checkbox"
        aria-label="Choose all that are listed"
        checked={chosen.size > 0}
        indeterminate={chosen.size > 0 && picked.length < list.length}
        onchange={chooseAll}
      />
      {#each COLUMNS as [column, name] (column)}
        <button
          class={`plain column-${column}`}
          onclick={() => sortBy(column)}
          title={`Sort by ${name.toLowerCase()}`}
        >
          {name}{sortKey === column ? (down ? " ↓" : " ↑") : ""}
        </button>
      {/each}
    </div>
    {#if list.length === 0}
      <div class="empty">
        {#if live.status !== "on" && live.containers.length === 0}
          <p>Fetching the fleet…</p>
        {:else if live.containers.length === 0}
          <p>No host has a container yet. Whatever is started there appears here by itself.</p>
          <a href="/hosts">See the hosts</a>
        {:else}
          <p>No container fits. Take a word or a mark away, or show all.</p>
        {/if}
      </div>
    {:else}
      <VirtualRows items={list} height={36} bind:this={rows}>
        {#snippet row(c: Container, index: number)}
          <ContainerRow
            container={c}
            slim={inspected !== null}
            stale={live.stale.has(c.host)}
            now={live.now}
            chosen={chosen.has(key(c))}
            current={inspected === reference(c)}
            cursor={cursor === index}
            onchoose={(range) => choose(index, range)}
            onopen={() => inspect(index)}
          />
        {/snippet}
      </VirtualRows>
    {/if}
    {#if picked.length > 0}
      <div class="chosen" data-test="chosen">
        <strong>{picked.length} chosen</strong>
        {#each ACTS.filter((kind) => session.mayChange(kind)) as kind (kind)}
          <Button
            size="small"
            kind={kind === "remove" || kind === "kill" ? "danger-tertiary" : "tertiary"}
            on:click={() => ask(kind)}>{verbs[kind].ask}…</Button
          >
        {/each}
        <a href={`/logs?refs=${picked.map(reference).join(",")}`}>Logs together</a>
        <a href={`/use?refs=${picked.map(reference).join(",")}`}>Use together</a>
        <button class="link" onclick={() => (chosen = new Set())}>Choose none</button>
      </div>
    {/if}
  </section>
</div>

<style>
  .split {
    flex: 1;
    min-height: 0;
    display: grid;
    grid-template-columns: 12rem minmax(0, 1fr);
    grid-template-rows: minmax(0, 1fr);
  }
  .split.narrow {
    grid-template-columns: minmax(0, 1fr);
  }
  .split.narrow aside {
    display: none;
  }
  aside {
    overflow-y: auto;
    padding: 0.75rem 0.75rem 1rem 1.5rem;
    border-right: 1px solid var(--line);
  }
  section {
    min-width: 0;
    min-height: 0;
    display: flex;
    flex-direction: column;
  }
  .chosen {
    display: flex;
    align-items: center;
    gap: 0.5rem;
    padding: 0.5rem 1rem;
    border-top: 2px solid var(--state-runs);
    background: var(--panel);
  }
  :global(.grid) {
    display: grid;
    grid-template-columns:
      1.25rem 7.5rem minmax(10rem, 2fr) minmax(6rem, 1fr) minmax(9rem, 2fr) minmax(5rem, 1fr) minmax(
        6rem,
        1fr
      )
      4rem;
    gap: 0.75rem;
    align-items: center;
    padding: 0 1rem;
  }
  :global(.grid.slim) {
    grid-template-columns: 1.25rem 6.5rem minmax(8rem, 2fr) minmax(5rem, 1fr);
  }
  .slim .column-image,
  .slim .column-stack,
  .slim .column-ports,
  .slim .column-created {
    display: none;
  }
</style>
