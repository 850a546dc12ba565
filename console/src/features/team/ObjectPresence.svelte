<!-- Beside an object: who else looks at it, who is changing it, and what is queued. -->
<script lang="ts">
  import { verbs } from "../../lib/format";
  import { minute } from "../../lib/times.svelte";
  import { live } from "../../lib/live.svelte";
  import { session } from "../../lib/session.svelte";
  import { lookers, workOn } from "./words";

  let { on }: { on: string } = $props();

  const others = $derived(lookers(live.team.people, on, session.member));
  const work = $derived(workOn(live.operations, on));
  const name = $derived(on.slice(on.indexOf(":") + 1));
  const waiting = $derived(live.team.waiting.filter((one) => one.targets.includes(name)));
</script>

{#if others.length > 0 || work.length > 0 || waiting.length > 0}
  <p class="others" data-test="others" role="status">
    {#each work as operation (operation.id)}
      <a href={`/operations?inspect=operation:${operation.id}`}
        >{verbs[operation.kind].doing} by {operation.author} since {minute(operation.created)}</a
      >
    {/each}
    {#each waiting as one (one.member + one.since)}
      <span>Queued by {one.member} since {minute(one.since)}</span>
    {/each}
    {#if others.length > 0}<span class="soft">Also viewing: {others.join(", ")}</span>{/if}
  </p>
{/if}

<style>
  .others {
    display: flex;
    flex-wrap: wrap;
    gap: 0.2rem 1rem;
    font-size: 0.8125rem;
    margin: 0.3rem 0;
  }
</style>
