<!-- The list of keys (`?`). -->
<script lang="ts">
  import { Modal } from "carbon-components-svelte";

  let { onclose }: { onclose: () => void } = $props();

  const keys = [
    ["/", "find anything"],
    ["?", "this list"],
    ["g o", "overview"],
    ["g c", "containers"],
    ["g s", "stacks"],
    ["g l", "logs"],
    ["g u", "use of resources"],
    ["g r", "ports"],
    ["g i, g v, g n", "images, volumes, networks"],
    ["g h", "hosts"],
    ["g t", "timeline"],
    ["g d", "deploy a container"],
    ["g y", "tidy"],
    ["g p", "operations"],
    ["g a", "account and tokens"],
    ["↓ ↑ or j k", "move in a list"],
    ["Enter", "inspect"],
    ["x", "choose or leave out"],
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
