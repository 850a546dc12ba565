<!-- The list of keys (`?`). -->
<script lang="ts">
  import { Modal } from "carbon-components-svelte";

  import { shownPages } from "./pages";

  let { onclose }: { onclose: () => void } = $props();

  const keys = [
    ["/", "find anything"],
    ["?", "this list"],
    ...shownPages().map((page) => [`g ${page.key}`, page.title]),
    ["↓ ↑ or j k", "move in a list"],
    ["Enter ", "inspect"],
    ["x", "select or deselect"],
    ["← →", "move in a chart; with Shift, select a time"],
    ["Enter", "in a chart, zoom to the time that is selected"],
    ["+ -", "in a chart, zoom in and out"],
    ["Esc", "close what was opened last"],
  ];
</script>

<Modal open passiveModal size="sm" modalHeading="Keys" on:close={onclose}>
  <dl>
    {#each keys as [key, meaning] (key)}
      <dt><code>{key}</code></dt>
      <dd>{meaning}</dd>
    {/each}
  </dl>
</Modal>

<style>
  dl {
    display: grid;
    grid-template-columns: 9rem 1fr;
    row-gap: 0.5rem;
  }
</style>
