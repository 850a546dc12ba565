<!-- Removes a row of a form: Carbon's button with a cross. -->
<script lang="ts">
  import { Button } from "carbon-components-svelte";
  import Close from "carbon-icons-svelte/lib/Close.svelte";

  let {
    name,
    onclick,
  }: { /** What it does, for those who do not see it. */ name: string; onclick: () => void } = $props();
</script>

<Button
  kind="ghost"
  size="small"
  class="away"
  icon={Close}
  aria-label={name}
  title={name}
  on:click={onclick}
/>
