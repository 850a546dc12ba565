<!-- Who else has the console open, and what they look at. -->
<script lang="ts">
  import { live } from "../../lib/live.svelte";
  import { session } from "../../lib/session.svelte";
  import { addressOf } from "./words";

  const others = $derived(live.team.people.filter((one) => one.member !== session.member));
  let open = $state(false);
</script>

<svelte:window onclick={(event) => open && !(event.target as Element).closest(".people") && (open = false)} />

{#if others.length > 0}
  <div class="people" data-test="people">
    <button class="bx--header__menu-item" aria-expanded={open} onclick={() => (open = !open)}>
      {others.length}
      {others.length === 1 ? "other" : "others"}
    </button>
    {#if open}
      <ul>
        {#each others as one (one.member)}
          <li>
            <strong>{one.member}</strong>
            {#if one.looking_at}
              <a href={addressOf(one.looking_at)} onclick={() => (open = false)}
                >{one.looking_at.slice(one.looking_at.indexOf(":") + 1)}</a
              >
            {/if}
          </li>
        {/each}
      </ul>
    {/if}
  </div>
{/if}

<style>
  .people {
    position: relative;
    display: flex;
  }
  ul {
    position: absolute;
    top: 100%;
    right: 0;
    z-index: 20;
    min-width: 14rem;
    max-width: 90vw;
    max-height: 60vh;
    overflow-y: auto;
    padding: 0.5rem 0;
    background: #2a5139;
    box-shadow: 0 2px 6px rgb(0 0 0 / 30%);
    font-size: 0.875rem;
  }
  li {
    display: flex;
    align-items: center;
    padding: 0.15rem 0.8rem;
  }
</style>
