<!-- What was changed, by whom, and what came of it: filtered by object, member, kind, outcome and age. One opens in the inspector, or as a
page of its own under its address. -->
<script lang="ts">
  import Rows from "../../ui/Rows.svelte";
  import { Button, InlineNotification, Select, SelectItem, TextInput } from "carbon-components-svelte";
  import { call, sentence } from "../../lib/api";
  import { age, moment, verbs } from "../../lib/format";
  import { live } from "../../lib/live.svelte";
  import { go, place, query } from "../../lib/router.svelte";
  import type { Operation } from "../../lib/types";
  import { inspect } from "../fleet/inspect";
  import OperationView from "./OperationView.svelte";
  import { fits, outcome } from "./words";

  let past = $state.raw<Operation[]>([]);
  let whole = $state(false);
  let single = $state.raw<Operation | null>(null);
  let wrong = $state("");

  const PAGE = 100;
  /** So many are looked through by themselves for what a filter asks for; more on request. */
  const LOOKED_THROUGH = 1000;
  const HOUR = 3_600_000;
  const AGES: [number, string][] = [
    [0, "Any time"],
    [HOUR, "Last hour"],
    [24 * HOUR, "Last 24 hours"],
    [7 * 24 * HOUR, "Last 7 days"],
    [30 * 24 * HOUR, "Last 30 days"],
  ];
  const OUTCOMES = [
    ["", "Any outcome"],
    ["running", "Running"],
    ["failed", "Failed, all or in part"],
    ["succeeded", "Succeeded"],
  ];
  const id = $derived(Number(place.path.split("/")[2] ?? 0));
  const field = (name: string) => place.query.get(name) ?? "";
  const wanted = $derived({
    object: field("object"),
    member: field("member"),
    kind: field("kind"),
    outcome: field("outcome"),
    age: Number(field("age")) || 0,
  });
  const narrowed = $derived(Object.values(wanted).some(Boolean));

  const all = $derived.by(() => {
    const byId = new Map(past.map((o) => [o.id, o]));
    for (const o of live.operations) byId.set(o.id, o);
    return [...byId.values()].sort((a, b) => b.id - a.id);
  });
  const shown = $derived(narrowed ? all.filter((o) => fits(o, wanted, live.now)) : all);
  const one = $derived(id ? (all.find((o) => o.id === id) ?? (single?.id === id ? single : null)) : null);

  async function more() {
    try {
      const before = past.at(-1)?.id;
      const next = await call<Operation[]>(
        "GET",
        `/api/v1/operations?limit=${PAGE}${before ? `&before=${before}` : ""}`,
      );
      past = [...past, ...next];
      whole = next.length < PAGE;
      wrong = "";
    } catch (error) {
      wrong = sentence(error);
    }
  }

  // A filter looks further back than the first page, down to the age that is asked for.
  $effect(() => {
    const last = past.at(-1);
    const reached = wanted.age > 0 && last && live.now - Date.parse(last.created) > wanted.age;
    if (past.length === 0 || (narrowed && !whole && !reached && past.length < LOOKED_THROUGH && !wrong))
      void more();
  });

  $effect(() => {
    if (!id || all.some((o) => o.id === id)) return;
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
      value={wanted.object}
      on:input={(event) => query({ object: String(event.detail ?? "") || null }, true)}
    />
    <TextInput
      size="sm"
      labelText="Member"
      placeholder="anyone"
      value={wanted.member}
      on:input={(event) => query({ member: String(event.detail ?? "") || null }, true)}
    />
    <Select
      size="sm"
      labelText="Kind"
      selected={wanted.kind}
      on:change={(event) => query({ kind: (event.target as HTMLSelectElement).value || null }, true)}
    >
      <SelectItem value="" text="All kinds" />
      {#each Object.entries(verbs) as [kind, words] (kind)}<SelectItem value={kind} text={words.ask} />{/each}
    </Select>
    <Select
      size="sm"
      labelText="Outcome"
      selected={wanted.outcome}
      on:change={(event) => query({ outcome: (event.target as HTMLSelectElement).value || null }, true)}
    >
      {#each OUTCOMES as [word, text] (word)}<SelectItem value={word} {text} />{/each}
    </Select>
    <Select
      size="sm"
      labelText="Time"
      selected={String(wanted.age)}
      on:change={(event) =>
        query(
          {
            age:
              (event.target as HTMLSelectElement).value === "0"
                ? null
                : (event.target as HTMLSelectElement).value,
          },
          true,
        )}
    >
      {#each AGES as [span, text] (span)}<SelectItem value={String(span)} {text} />{/each}
    </Select>
  </div>
  {#if all.length === 0}
    <p class="soft">
      Nothing has been changed yet. Every change that a member or a job makes is listed here.
    </p>
  {:else}
    <p class="soft" data-test="count">
      {shown.length}
      {shown.length === 1 ? "operation" : "operations"}{narrowed
        ? ` of ${all.length} looked through`
        : ""}{whole ? "" : "; earlier ones can be loaded"}
    </p>
    <Rows data-test="operations">
      <thead><tr><th>When</th><th>Who</th><th>What</th><th>On</th><th>Outcome</th></tr></thead>
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
      <Button size="small" kind="ghost" on:click={() => void more()}>Show earlier ones</Button>
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
