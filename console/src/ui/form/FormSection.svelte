<!-- One section of a form. Rare ones are folded, with a mark when something in them is set or wrong. -->
<script lang="ts">
  import type { Snippet } from "svelte";

  let {
    title,
    note = "",
    set = 0,
    wrong = 0,
    folded = false,
    children,
  }: {
    title: string;
    note?: string;
    set?: number;
    wrong?: number;
    folded?: boolean;
    children: Snippet;
  } = $props();

  // svelte-ignore state_referenced_locally
  let open = $state(!folded);
  $effect(() => {
    if (wrong > 0) open = true;
  });
</script>

<details class="part" bind:open data-test="part" data-title={title}>
  <summary>
    <strong>{title}</strong>
    {#if wrong > 0}
      <span class="wrong">{wrong} to fix</span>
    {:else if set > 0}
      <span class="set">{set} set</span>
    {/if}
    <span class="soft">{note}</span>
  </summary>
  <div class="inside">{@render children()}</div>
</details>

<style>
  .part {
    border-top: 1px solid var(--line);
  }
  summary {
    display: flex;
    gap: 0.75rem;
    align-items: baseline;
    padding: 0.6rem 0;
    cursor: pointer;
    font-size: 0.875rem;
  }
  summary::before {
    content: "▸";
    color: var(--cds-text-02);
  }
  [open] > summary::before {
    content: "▾";
  }
  .set {
    padding: 0 0.4rem;
    background: #e0b84c;
    color: #1b1b16;
    font-size: 0.75rem;
    border-radius: 2px;
  }
  .wrong {
    padding: 0 0.4rem;
    background: var(--state-failed);
    color: var(--cds-ui-background);
    font-size: 0.75rem;
    border-radius: 2px;
  }
  .inside {
    padding: 0.2rem 0 0.8rem 1.3rem;
  }
</style>
