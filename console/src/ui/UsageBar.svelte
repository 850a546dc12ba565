<!-- A share as a bar with its words: used of total. -->
<script lang="ts">
  let { part, whole, words }: { part: number | undefined; whole: number | undefined; words: string } =
    $props();

  const share = $derived(part !== undefined && whole ? Math.min(1, part / whole) : 0);
  const tone = $derived(share >= 0.95 ? "full" : share >= 0.85 ? "filling" : "fine");
</script>

<div class="bar">
  {#if part !== undefined && whole}
    <svg class={tone} viewBox="0 0 100 6" preserveAspectRatio="none" aria-hidden="true">
      <rect class="ground" width="100" height="6" /><rect
        width={share * 100}
        height="6"
        fill="currentColor"
      />
    </svg>
  {/if}
  <span>{words}</span>
</div>

<style>
  .bar {
    font-size: 0.8125rem;
    min-width: 7rem;
  }
  svg {
    display: block;
    width: 100%;
    height: 6px;
    margin-bottom: 2px;
  }
  .ground {
    fill: var(--line);
  }
  .fine {
    color: var(--state-runs);
  }
  .filling {
    color: var(--state-halted);
  }
  .full {
    color: var(--state-failed);
  }
</style>
