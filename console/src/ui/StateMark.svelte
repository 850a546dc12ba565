<!-- The mark of a container's state: a shape and a colour, followed by the word. -->
<script lang="ts">
  import { look, stateWords } from "../lib/format";
  import type { Container } from "../lib/types";
  import StateShape from "./StateShape.svelte";

  let { container, size = 14 }: { container: Container; size?: number } = $props();

  const shape = $derived(look(container));
  const words = $derived(stateWords(container));
</script>

<svg class={shape} width={size} height={size} viewBox="0 0 16 16" role="img" aria-label={words}>
  <title>{container.name}: {words}</title>
  <StateShape {shape} />
</svg>

<style>
  svg {
    flex: none;
    vertical-align: -2px;
  }
</style>
