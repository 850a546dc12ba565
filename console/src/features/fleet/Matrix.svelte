<!-- Where everything runs: stacks by hosts. A cell with many services folds what is well; with more hosts than there is room for, each
     stack is one line that names what is not well. -->
<script lang="ts">
  import Rows from "../../ui/Rows.svelte";
  import { live } from "../../lib/live.svelte";
  import { query } from "../../lib/router.svelte";
  import { number, reference } from "../../lib/format";
  import type { Container } from "../../lib/types";
  import StateMark from "../../ui/StateMark.svelte";
  import { isUp, needsAttention } from "./figures";

  const LOOSE = "(no stack)";
  /** Hosts that have a column each; beyond it the table is folded. */
  const MOST_COLUMNS = 8;
  /** Containers of a cell that are all shown. */
  const MOST_IN_CELL = 6;
  /** Containers that are named in a folded line. */
  const MOST_NAMED = 8;

  const folded = $derived(live.hosts.length > MOST_COLUMNS);
  interface Line {
    stack: string;
    all: number;
    up: number;
    hosts: number;
    bad: Container[];
  }
  /** A line for each stack, counted in one go: with hundreds of hosts this is done over for every change. */
  const lines = $derived.by(() => {
    if (!folded) return [];
    const found = new Map<string, Line & { on: Set<string> }>();
    for (const c of live.containers) {
      const stack = c.stack ?? LOOSE;
      let line = found.get(stack);
      if (!line) found.set(stack, (line = { stack, all: 0, up: 0, hosts: 0, bad: [], on: new Set() }));
      line.all += 1;
      if (isUp(c)) line.up += 1;
      if (needsAttention(c)) line.bad.push(c);
      line.on.add(c.host);
    }
    for (const line of found.values()) line.hosts = line.on.size;
    return [...found.values()].sort((a, b) => inOrder(a.stack, b.stack));
  });

  function inOrder(a: string, b: string): number {
    return Number(a === LOOSE) - Number(b === LOOSE) || a.localeCompare(b);
  }

  const matrix = $derived.by(() => {
    if (folded) return [];
    const rows = new Map<string, Map<string, Container[]>>();
    for (const c of live.containers) {
      const stack = c.stack ?? LOOSE;
      let row = rows.get(stack);
      if (!row) rows.set(stack, (row = new Map()));
      const cell = row.get(c.host);
      if (cell) cell.push(c);
      else row.set(c.host, [c]);
    }
    for (const row of rows.values()) for (const cell of row.values()) cell.sort(byName);
    return [...rows].sort((a, b) => inOrder(a[0], b[0]));
  });

  function byName(a: Container, b: Container): number {
    return a.name.localeCompare(b.name);
  }

  function stackFilter(stack: string): string {
    return `stacks=${encodeURIComponent(stack === LOOSE ? "(none)" : stack)}`;
  }

  function show(event: MouseEvent, c: Container) {
    if (event.ctrlKey || event.metaKey || event.shiftKey || event.button !== 0) return;
    event.preventDefault();
    query({ inspect: reference(c), tab: null });
  }

  /** What is shown of a cell, and how many more there are. */
  function part(cell: Container[]): [Container[], number] {
    if (cell.length <= MOST_IN_CELL) return [cell, 0];
    const named = cell.filter(needsAttention).slice(0, MOST_IN_CELL);
    return [named, cell.length - named.length];
  }
</script>

{#snippet one(c: Container, name: string)}
  <a
    class="cell"
    class:needs={needsAttention(c)}
    href={`?inspect=${reference(c)}`}
    onclick={(event) => show(event, c)}
    title={`${c.name}: ${c.attention?.sentence ?? c.state}`}
  >
    <StateMark container={c} />
    {name}
  </a>
{/snippet}

<h2>Where everything runs</h2>
<!-- svelte-ignore a11y_no_noninteractive_tabindex -->
<div class="scroll" role="region" aria-label="Stacks by hosts" tabindex="0">
  {#if folded}
    <Rows data-test="matrix">
      <thead><tr><th>Stack</th><th>Containers</th><th>Hosts</th><th>Needs attention</th></tr></thead>
      <tbody>
        {#each lines as line (line.stack)}
          <tr>
            <th scope="row"><a href={`/containers?${stackFilter(line.stack)}`}>{line.stack}</a></th>
            <td>{number(line.up)} of {number(line.all)} up</td>
            <td>{line.hosts} {line.hosts === 1 ? "host" : "hosts"}</td>
            <td>
              {#each line.bad.slice(0, MOST_NAMED) as c (c.host + c.id)}{@render one(c, reference(c))}{/each}
              {#if line.bad.length > MOST_NAMED}<span class="soft"
                  >and {number(line.bad.length - MOST_NAMED)} more</span
                >{/if}
            </td>
          </tr>
        {/each}
      </tbody>
    </Rows>
  {:else}
    <Rows class="matrix" data-test="matrix">
      <thead>
        <tr>
          <th scope="col">Stack</th>
          {#each live.hosts as host (host.name)}
            <th scope="col" class:trouble={host.state !== "live" || needsAttention(host)}>
              <a href={`/containers?hosts=${host.name}`}>{host.name}</a>
              {#if host.state === "stale"}<small>unreachable</small>{/if}
              {#if host.state === "connecting"}<small>connecting</small>{/if}
            </th>
          {/each}
        </tr>
      </thead>
      <tbody>
        {#each matrix as [stack, row] (stack)}
          <tr>
            <th scope="row"><a href={`/containers?${stackFilter(stack)}`}>{stack}</a></th>
            {#each live.hosts as host (host.name)}
              {@const [named, more] = part(row.get(host.name) ?? [])}
              <td class:stale={host.state !== "live"}>
                {#each named as c (c.id)}{@render one(c, c.service ?? c.name)}{/each}
                {#if more > 0}
                  <a class="cell" href={`/containers?hosts=${host.name}&${stackFilter(stack)}`}
                    >{named.length > 0 ? `${more} more` : `${more} containers`}</a
                  >
                {/if}
              </td>
            {/each}
          </tr>
        {/each}
      </tbody>
    </Rows>
  {/if}
</div>

<style>
  .scroll {
    overflow-x: auto;
  }
  th[scope="row"] {
    white-space: nowrap;
    vertical-align: top;
  }
  th.trouble {
    box-shadow: inset 0 -3px 0 var(--state-failed);
  }
  th small {
    display: block;
    color: var(--state-failed);
    font-weight: 400;
  }
  td.stale,
  td.stale .cell {
    color: var(--cds-text-02);
    font-style: italic;
  }
  a {
    color: inherit;
    text-decoration: none;
  }
  a:hover {
    text-decoration: underline;
  }
  .cell {
    display: inline-flex;
    align-items: center;
    gap: 0.35rem;
    margin: 0 0.7rem 0.2rem 0;
    padding: 0.1rem 0.2rem;
    font-size: 0.8125rem;
    white-space: nowrap;
  }
  .cell.needs {
    font-weight: 600;
  }
</style>
