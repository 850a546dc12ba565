<!-- A sentence of the service, with quoted names and values set apart. -->
<script lang="ts">
  let { text }: { text: string } = $props();

  const full = $derived(
    (/[.!?:]$/.test(text) ? text : `${text}.`).replace(/^[a-z]/, (first) => first.toUpperCase()),
  );
  /** An apostrophe within a word is no quote. */
  const QUOTED = /(?<=^|[\s(])'([^']+)'(?=[\s.,;:)!?…]|$)/;
  const pieces = $derived(full.split(QUOTED));
</script>

{#each pieces as piece, n (n)}{#if n % 2 === 1}<b>{piece}</b>{:else}{piece}{/if}{/each}

<style>
  b {
    font-weight: 600;
  }
</style>
