<!-- All containers of all hosts in one list: filter, facets, sort, choose many, act on them. -->
<script lang="ts">
  import { Button } from "carbon-components-svelte";
  import Filter from "carbon-icons-svelte/lib/Filter.svelte";
  import { counts, Finder, prepare, sorted, withinFacets, type Facets, type SortKey } from "./filter";
  import { age, imageParts, number, portWords, reference, stateWords } from "../../lib/format";
  import { live } from "../../lib/live.svelte";
  import { place, query } from "../../lib/router.svelte";
  import { screen } from "../../lib/screen.svelte";
  import type { Container } from "../../lib/types";
  import SelectionActions from "./SelectionActions.svelte";
  import FacetList from "../../ui/FacetList.svelte";
  import type { Column } from "../../ui/list/columns";
  import ListBar from "../../ui/list/ListBar.svelte";
  import RowList from "../../ui/list/RowList.svelte";
  import StateMark from "../../ui/StateMark.svelte";

  const COLUMNS: Column<Container>[] = [
    { key: "state", title: "State", width: "8rem", card: "side", sorts: true, text: (c) => stateWords(c) },
    {
      key: "name",
      title: "Name",
      width: "minmax(9rem, 2fr)",
      card: "title",
      sorts: true,
      text: (c) => c.name,
    },
    {
      key: "host",
      title: "Host",
      width: "minmax(6rem, 1fr)",
      card: "below",
      sorts: true,
      text: (c) => c.host,
    },
    {
      key: "image",
      title: "Image",
      width: "minmax(9rem, 2fr)",
      from: 760,
      sorts: true,
      mono: true,
      text: (c) => c.image,
    },
    {
      key: "stack",
      title: "Stack",
      width: "minmax(5rem, 1fr)",
      from: 640,
      sorts: true,
      text: (c) => c.stack ?? "",
    },
    {
      key: "ports",
      title: "Ports",
      width: "minmax(6rem, 1fr)",
      from: 860,
      sorts: true,
      mono: true,
      text: (c) => portWords(c.ports).join(" "),
    },
    {
      key: "created",
      title: "Created",
      width: "4.5rem",
      from: 860,
      sorts: true,
      soft: true,
      text: (c) => age(c.created, live.now),
    },
  ];

  /** Milliseconds. */
  const COUNTS_AFTER = 120;

  const typed = $derived(place.query.get("find") ?? "");
  let chosen = $state.raw(new Set<string>());
  /** On a phone the filters are shown when asked for. */
  let filtering = $state(false);

  // By their texts, so that a key in the filter, which changes the address too, leaves them alone.
  const ofHosts = $derived(place.query.get("hosts") ?? "");
  const ofStates = $derived(place.query.get("states") ?? "");
  const ofStacks = $derived(place.query.get("stacks") ?? "");
  const setOf = (text: string) => new Set(text.split(",").filter(Boolean));
  const facets: Facets = $derived({
    hosts: setOf(ofHosts),
    states: setOf(ofStates),
    stacks: setOf(ofStacks),
  });
  const sortKey = $derived((place.query.get("sort") as SortKey | null) ?? "state");
  const down = $derived(place.query.get("order") === "down");
  // Put in order before it is filtered: a key that is typed then only filters.
  const ordered = $derived(sorted(live.containers, sortKey, down));
  const finder = new Finder();
  const fitting = $derived(finder.find(ordered, typed));
  $effect(() => prepare(ordered));
  /** What the facets count: it follows when the typing pauses, so that each key only filters the list. */
  let counted = $state.raw<Container[]>([]);
  $effect(() => {
    const next = fitting;
    const timer = setTimeout(() => (counted = next), counted.length === 0 ? 0 : COUNTS_AFTER);
    return () => clearTimeout(timer);
  });
  const isFaceted = $derived(Object.values(facets).some((f) => f.size > 0));
  const list = $derived(isFaceted ? fitting.filter((c) => withinFacets(c, facets)) : fitting);
  const picked = $derived(chosen.size === 0 ? [] : live.containers.filter((c) => chosen.has(key(c))));
  const inspected = $derived(place.query.get("inspect"));
  const narrowed = $derived(typed.trim() !== "" || isFaceted);

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

  function choose(row: Container, on: boolean, range: Container[]) {
    const next = new Set(chosen);
    for (const c of range) next.add(key(c));
    if (range.length === 0) next[on ? "add" : "delete"](key(row));
    chosen = next;
  }

  function chooseAll() {
    chosen = chosen.size > 0 ? new Set() : new Set(list.map(key));
  }
</script>

<ListBar title="Containers" placeholder="Filter by name, image, ID, label or port" label="Filter containers">
  {#if screen.isPhone}
    <Button size="small" kind="ghost" icon={Filter} on:click={() => (filtering = !filtering)}
      >{filtering ? "Hide filters" : "Filters"}</Button
    >
  {/if}
  <span class="soft" data-test="count">{number(list.length)} of {number(live.containers.length)}</span>
  {#if narrowed}
    <Button
      size="small"
      kind="ghost"
      on:click={() => query({ find: null, hosts: null, states: null, stacks: null })}>Clear filters</Button
    >
  {/if}
</ListBar>
<div class="split" class:narrow={inspected && (place.query.get("tab") ?? "facts") !== "facts"}>
  {#if !screen.isPhone || filtering}
    <aside aria-label="Filters">
      <FacetList
        title="State"
        values={counts(counted, facets, "states")}
        chosen={facets.states}
        ontoggle={(v) => toggleFacet("states", v)}
      />
      <FacetList
        title="Host"
        values={counts(counted, facets, "hosts")}
        chosen={facets.hosts}
        ontoggle={(v) => toggleFacet("hosts", v)}
      />
      <FacetList
        title="Stack"
        values={counts(counted, facets, "stacks")}
        chosen={facets.stacks}
        ontoggle={(v) => toggleFacet("stacks", v)}
      />
    </aside>
  {/if}
  <section aria-label="List of containers">
    {#if live.containers.length === 0}
      <div class="empty">
        {#if live.status !== "on"}
          <p>Loading…</p>
        {:else}
          <p>No containers yet. Deploy one, or start one on a host: it appears here automatically.</p>
          <Button size="small" href="/deploy">Deploy a container</Button>
        {/if}
      </div>
    {:else}
      <RowList
        name="containers"
        items={list}
        columns={COLUMNS}
        test="row"
        sort={{ key: sortKey, down }}
        onsort={(column) => sortBy(column as SortKey)}
        chosen={(c) => chosen.has(key(c))}
        isAnyChosen={chosen.size > 0}
        chooseWord={(c) => `Choose ${c.name}`}
        onchoose={choose}
        onchooseall={chooseAll}
        current={(c) => inspected === reference(c)}
        dim={(c) => live.stale.has(c.host)}
        onopen={(c) => query({ inspect: reference(c) }, inspected !== null)}
      >
        {#snippet empty()}<p class="none">No container matches these filters.</p>{/snippet}
        {#snippet cell(c: Container, column: string, text: string)}
          {#if column === "state"}<StateMark container={c} /> {text}
          {:else if column === "name"}<strong class="name">{text}</strong>
          {:else if column === "host"}{live.stale.has(c.host) ? "⌁ " : ""}{text}
          {:else if column === "image"}{c.newer_image ? "↥ " : ""}{imageParts(c.image).rest}
          {:else}{text}{/if}
        {/snippet}
      </RowList>
    {/if}
    {#if picked.length > 0}
      <SelectionActions containers={picked} onclear={() => (chosen = new Set())} />
    {/if}
  </section>
</div>

<style>
  .none {
    padding: 1rem 1.25rem;
  }
  .split {
    flex: 1;
    min-height: 0;
    display: flex;
  }
  .split.narrow aside {
    display: none;
  }
  aside {
    flex: 0 0 12rem;
    overflow-y: auto;
    padding: 0.75rem 0.75rem 1rem 1.5rem;
    border-right: 1px solid var(--line);
  }
  section {
    flex: 1;
    min-width: 0;
    min-height: 0;
    display: flex;
    flex-direction: column;
  }
  @media (max-width: 41.98rem) {
    .split {
      flex-direction: column;
    }
    aside {
      flex: 0 1 auto;
      max-height: 45%;
      padding: 0.75rem 1rem;
      border-right: 0;
      border-bottom: 1px solid var(--line);
    }
  }
</style>
