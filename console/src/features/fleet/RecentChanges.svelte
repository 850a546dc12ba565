<!-- What members and jobs changed in the last hour, beside the attention list: often the one explains the other. -->
<script lang="ts">
  import { call } from "../../lib/api";
  import { age, moment, tally, verbs } from "../../lib/format";
  import { live } from "../../lib/live.svelte";
  import type { Operation } from "../../lib/types";

  const HOUR = 3_600_000;
  const ASKED = 50;
  const SHOWN = 6;

  let past = $state.raw<Operation[]>([]);
  call<Operation[]>("GET", `/api/v1/operations?limit=${ASKED}`)
    .then((found) => (past = found))
    .catch(() => {
      // What is seen live is shown all the same; that the service does not answer is said above every page.
    });

  const changes = $derived.by(() => {
    const byId = new Map([...past, ...live.operations].map((o) => [o.id, o]));
    return [...byId.values()]
      .filter((o) => live.now - Date.parse(o.created) < HOUR)
      .sort((a, b) => b.id - a.id);
  });

  function what(o: Operation): string {
    const [first, ...more] = o.references;
    return `${first ?? ""}${more.length > 0 ? ` and ${more.length} more` : ""}`;
  }
</script>

{#if changes.length > 0}
  <section aria-label="Changed in the last hour" data-test="last-hour">
    <h2>Changed in the last hour <small class="soft">{changes.length}</small></h2>
    <ul>
      {#each changes.slice(0, SHOWN) as o (o.id)}
        {@const { bad } = tally(o)}
        <li>
          <span class="soft" title={moment(o.created)}>{age(o.created, live.now)} ago</span>
          <span>
            {o.author}: <a href={`/operations/${o.id}`}>{verbs[o.kind].ask.toLowerCase()} {what(o)}</a>
            {#if o.state === "running"}<span class="soft">running</span>
            {:else if bad > 0}<strong class="bad">▲ {o.state}</strong>{/if}
          </span>
        </li>
      {/each}
    </ul>
    <a class="all" href="/timeline?since=1h">Timeline of the last hour</a>
  </section>
{/if}

<style>
  h2 {
    margin-top: 0;
  }
  small {
    font-weight: 400;
  }
  li {
    display: grid;
    grid-template-columns: 5.5rem minmax(0, 1fr);
    gap: 0.5rem;
    padding: 0.3rem 0;
    font-size: 0.875rem;
    border-bottom: 1px solid var(--line);
    overflow-wrap: anywhere;
  }
  .bad {
    color: var(--state-failed);
    font-weight: 600;
  }
  .all {
    display: inline-block;
    margin-top: 0.4rem;
  }
</style>
