<!-- The mark of a state within a map: the shapes of `ui/Mark`, drawn at a place. -->
<script lang="ts">
  import type { Look } from "../../lib/format";
  import MarkShape from "../../ui/MarkShape.svelte";

  let { look, x, y }: { look: Look; x: number; y: number } = $props();
</script>

<g class={look} transform={`translate(${x} ${y}) scale(0.9)`}><MarkShape shape={look} /></g>

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
