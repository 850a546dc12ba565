<!-- The mark of a container's state: told by shape as well as by colour, with the word behind it. -->
<script lang="ts">
  import { look, stateWords } from "../lib/format";
  import type { Container } from "../lib/types";
  import MarkShape from "./MarkShape.svelte";

  let { container, size = 14 }: { container: Container; size?: number } = $props();

  const shape = $derived(look(container));
  const words = $derived(stateWords(container));
</script>

<svg class={shape} width={size} height={size} viewBox="0 0 16 16" role="img" aria-label={words}>
  <title>{container.name}: {words}</title>
  <MarkShape {shape} />
</svg>

<style>
  svg {
    flex: none;
    vertical-align: -2px;
  }
</style>
