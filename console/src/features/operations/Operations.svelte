<!-- What was changed, by whom, and the outcome of it: filtered by object, member, kind, outcome and age. One opens in the inspector, or as a
page of its own under its address. -->
<script lang="ts">
  import { untrack } from "svelte";
  import Rows from "../../ui/Rows.svelte";
  import { Button, InlineNotification, Select, SelectItem, TextInput } from "carbon-components-svelte";
  import { call, sentence } from "../../lib/api";
  import { asked } from "../../lib/listQuery";
  import { age, moment, verbs } from "../../lib/format";
  import { live } from "../../lib/live.svelte";
  import { go, place, query } from "../../lib/router.svelte";
  import type { Operation } from "../../lib/types";
  import { inspect } from "../fleet/inspect";
  import OperationView from "./OperationView.svelte";
  import { fits, SPANS, wishOf, type Wish } from "./search";
  import { outcome } from "./words";

  let past = $state.raw<Operation[]>([]);
  let whole = $state(false);
  let loaded = $state(false);
  let single = $state.raw<Operation | null>(null);
  let wrong = $state("");

  const PAGE = 100;
  /** Milliseconds after the last key until the service is asked. */
  const PAUSE = 250;
  const OUTCOMES = [
    ["", "Any outcome"],
    ["running", "Running"],
    ["failed", "Failed, all or in part"],
    ["succeeded", "Succeeded"],
  ];
  const id = $derived(Number(place.path.split("/")[2] ?? 0));
  // As one text, so that opening the inspector, which changes the address too, loads nothing again.
  const filters = $derived(JSON.stringify(wishOf(place.query)));
  const wish = $derived(JSON.parse(filters) as Wish);
  const narrowed = $derived(Object.values(wish).some(Boolean));

  const shown = $derived.by(() => {
    const byId = new Map(past.map((o) => [o.id, o]));
    for (const o of live.operations) byId.set(o.id, o);
    return [...byId.values()].filter((o) => fits(o, wish, live.now)).sort((a, b) => b.id - a.id);
  });
  const one = $derived(id ? (shown.find((o) => o.id === id) ?? (single?.id === id ? single : null)) : null);

  let round = 0;
  async function load(wish: Wish, before?: number) {
    const own = ++round;
    try {
      const next = await call<Operation[]>(
        "GET",
        `/api/v1/operations?${asked(wish, { before, limit: PAGE })}`,
      );
      // An answer that a later question has overtaken.
      if (own !== round) return;
      past = before === undefined ? next : [...past, ...next];
      whole = next.length < PAGE;
      loaded = true;
      wrong = "";
    } catch (error) {
      if (own === round) wrong = sentence(error);
    }
  }

  $effect(() => {
    const now = wish;
    const timer = setTimeout(() => void load(now), untrack(() => loaded) ? PAUSE : 0);
    return () => clearTimeout(timer);
  });

  $effect(() => {
    if (!id || shown.some((o) => o.id === id)) return;
    call<Operation>("GET", `/api/v1/operations/${id}`)
      .then((o) => (single = o))
      .catch((error: unknown) => (wrong = sentence(error)));
  });

  function open(event: MouseEvent, o: Operation) {
    if (event.ctrlKey || event.metaKey || event.shiftKey || event.button !== 0) return;
    event.preventDefault();
    inspect("operation", String(o.id));
  }
</script>

{#if wrong}
  <InlineNotification kind="error" lowContrast hideCloseButton title={wrong} />
{/if}
{#if id}
  <p><a href="/operations">← All operations</a></p>
  {#if one}<OperationView operation={one} onretried={(again) => go(`/operations/${again.id}`)} />{/if}
{:else}
  <h1>Operations</h1>
  <div class="filters">
    <TextInput
      size="sm"
      id="filter"
      labelText="Object"
      placeholder="host/name, or a part"
      value={wish.object}
      on:input={(event) => query({ object: String(event.detail ?? "") || null }, true)}
    />
    <TextInput
      size="sm"
      labelText="Member"
      placeholder="anyone"
      value={wish.member}
      on:input={(event) => query({ member: String(event.detail ?? "") || null }, true)}
    />
    <Select
      size="sm"
      labelText="Kind"
      selected={wish.kind}
      on:change={(event) => query({ kind: (event.target as HTMLSelectElement).value || null }, true)}
    >
      <SelectItem value="" text="All kinds" />
      {#each Object.entries(verbs) as [kind, words] (kind)}<SelectItem value={kind} text={words.ask} />{/each}
    </Select>
    <Select
      size="sm"
      labelText="Outcome"
      selected={wish.outcome}
      on:change={(event) => query({ outcome: (event.target as HTMLSelectElement).value || null }, true)}
    >
      {#each OUTCOMES as [word, text] (word)}<SelectItem value={word} {text} />{/each}
    </Select>
    <Select
      size="sm"
      labelText="Time"
      selected={wish.since}
      on:change={(event) => query({ since: (event.target as HTMLSelectElement).value || null }, true)}
    >
      {#each SPANS as [word, text] (word)}<SelectItem value={word} {text} />{/each}
    </Select>
  </div>
  {#if loaded && !narrowed && shown.length === 0}
    <p class="soft">
      Nothing has been changed yet. Every change that a member or a job makes is listed here.
    </p>
  {:else if loaded && shown.length === 0}
    <p class="soft none" data-test="count">
      No operation matches.
      <Button
        size="small"
        kind="ghost"
        on:click={() => query({ object: null, member: null, kind: null, outcome: null, since: null }, true)}
        >Clear filters</Button
      >
    </p>
  {:else if loaded}
    <p class="soft" data-test="count">
      {shown.length}
      {shown.length === 1 ? "operation" : "operations"}{narrowed ? " found" : ""}{whole || !loaded
        ? ""
        : "; earlier ones can be loaded"}
    </p>
    <Rows data-test="operations">
      <thead><tr><th>Time</th><th>Member</th><th>Operation</th><th>Targets</th><th>Outcome</th></tr></thead>
      <tbody>
        {#each shown as o (o.id)}
          <tr class:current={place.query.get("inspect") === `operation:${o.id}`}>
            <td class="soft" title={moment(o.created)}>{age(o.created, live.now)} ago</td>
            <td>{o.author}</td>
            <td>{verbs[o.kind].ask}</td>
            <td
              ><a href={`/operations/${o.id}`} onclick={(event) => open(event, o)}
                >{o.references.slice(0, 3).join(" ")}{o.references.length > 3
                  ? ` and ${o.references.length - 3} more`
                  : ""}</a
              ></td
            >
            <td class={`outcome ${o.state}`}>{outcome(o)}</td>
          </tr>
        {/each}
      </tbody>
    </Rows>
    {#if !whole && past.length > 0}
      <Button size="small" kind="ghost" on:click={() => void load(wish, past.at(-1)?.id)}>Show older</Button>
    {/if}
  {/if}
{/if}

<style>
  .filters {
    display: grid;
    grid-template-columns: repeat(auto-fit, minmax(min(9rem, 100%), 1fr));
    gap: 0.75rem;
    align-items: end;
    margin: 0.75rem 0;
  }
  .none {
    display: flex;
    align-items: center;
  }
  .current {
    box-shadow: inset 3px 0 0 #e0b84c;
  }
  .outcome.failed,
  .outcome.partly,
  .outcome.refused,
  .outcome.interrupted {
    color: var(--state-failed);
    font-weight: 600;
  }
  .outcome.succeeded {
    color: var(--state-well);
  }
  .outcome.running {
    color: var(--state-runs);
  }
</style>
