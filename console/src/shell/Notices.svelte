<!-- The outcome of operations since the page was opened, to be read again. -->
<script lang="ts">
  import { Modal } from "carbon-components-svelte";

  import { age, moment, tally, verbs } from "../lib/format";
  import { live } from "../lib/live.svelte";
  import { notices, words } from "../lib/notices.svelte";

  const close = () => (notices.isOpen = false);
</script>

<Modal open passiveModal size="sm" modalHeading="Notices" on:close={close}>
  <ul data-test="notices">
    {#each notices.ended as o (o.id)}
      <li class:bad={tally(o).bad > 0}>
        <span class="soft" title={moment(o.ended)}>{age(o.ended, live.now)} ago</span>
        <span>
          <a href={`/operations/${o.id}`} onclick={close}
            >{verbs[o.kind].ask}
            {o.references[0] ?? ""}{o.references.length > 1 ? ` and ${o.references.length - 1} more` : ""}</a
          >: {words(o)} <span class="soft">by {o.author}</span>
        </span>
      </li>
    {:else}
      <li>Nothing has ended since this page was opened.</li>
    {/each}
  </ul>
  <p><a href="/operations" onclick={close}>All operations</a></p>
</Modal>

<style>
  li {
    display: grid;
    grid-template-columns: 5.5rem minmax(0, 1fr);
    gap: 0.5rem;
    padding: 0.35rem 0.5rem;
    border-bottom: 1px solid var(--line);
    overflow-wrap: anywhere;
  }
  li:only-child:not(:has(a)) {
    grid-template-columns: 1fr;
  }
  .bad {
    box-shadow: inset 3px 0 0 var(--state-failed);
  }
  p {
    margin-top: 0.75rem;
  }
</style>
