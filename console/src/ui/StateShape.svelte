<!-- The shapes of states, in a drawing of 16 by 16, each with its colour. -->
<script lang="ts">
  import type { Look } from "../lib/format";

  let { shape }: { shape: Look } = $props();
</script>

<g class={shape}>
  {#if shape === "well"}
    <!-- A full field with a tick. -->
    <path d="M1 1h14v14H1z" fill="currentColor" /><path
      d="M4 8.2l2.8 2.8L12 5.4"
      fill="none"
      stroke="var(--cds-ui-background)"
      stroke-width="2"
    />
  {:else if shape === "runs"}
    <!-- A full field: it runs, nobody checks it. -->
    <path d="M1 1h14v14H1z" fill="currentColor" />
  {:else if shape === "sick"}
    <!-- A wedge that points up. -->
    <path d="M8 0l8 15H0z" fill="currentColor" /><path
      d="M8 5v5M8 11.5v1.8"
      stroke="var(--cds-ui-background)"
      stroke-width="1.8"
    />
  {:else if shape === "loops"}
    <!-- Two halves that chase each other. -->
    <path d="M8 1a7 7 0 0 1 7 7h-3a4 4 0 0 0-4-4zM8 15a7 7 0 0 1-7-7h3a4 4 0 0 0 4 4z" fill="currentColor" />
  {:else if shape === "failed"}
    <!-- A field with a cross cut out. -->
    <path d="M1 1h14v14H1z" fill="currentColor" /><path
      d="M4.5 4.5l7 7m0-7l-7 7"
      stroke="var(--cds-ui-background)"
      stroke-width="2"
    />
  {:else if shape === "halted"}
    <path d="M2 1h4.5v14H2zM9.5 1H14v14H9.5z" fill="currentColor" />
  {:else if shape === "rests"}
    <path d="M2 2h12v12H2z" fill="none" stroke="currentColor" stroke-width="2" />
  {:else if shape === "made"}
    <path d="M2 2h12v12H2z" fill="none" stroke="currentColor" stroke-width="2" stroke-dasharray="3 2.4" />
  {:else}
    <path d="M1 8h14" stroke="currentColor" stroke-width="2.5" />
  {/if}
</g>

<style>
  g {
    color: var(--state-quiet);
  }
  .well {
    color: var(--state-well);
  }
  .runs {
    color: var(--state-runs);
  }
  .sick,
  .loops {
    color: var(--state-sick);
  }
  .failed {
    color: var(--state-failed);
  }
  .halted {
    color: var(--state-halted);
  }
</style>
