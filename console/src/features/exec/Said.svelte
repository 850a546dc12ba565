<!-- A sentence of the service: what stands between backticks is what somebody wrote, and is drawn as such. -->
<script lang="ts">
  let { text }: { text: string } = $props();

  const full = $derived(
    (/[.!?:]$/.test(text) ? text : `${text}.`).replace(/^[a-z]/, (first) => first.toUpperCase()),
  );
  const pieces = $derived(full.split("`"));
</script>

{#each pieces as piece, n (n)}{#if n % 2 === 1}<code>{piece}</code>{:else}{piece}{/if}{/each}

<style>
  code {
    font-size: 0.95em;
    font-weight: 600;
  }
</style>
