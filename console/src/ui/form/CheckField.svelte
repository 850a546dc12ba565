<!-- A yes or no: Carbon's checkbox. -->
<script lang="ts">
  import { Checkbox } from "carbon-components-svelte";

  let {
    value,
    onchange,
    label,
    disabled = false,
  }: {
    value: boolean;
    onchange: (value: boolean) => void;
    label: string;
    disabled?: boolean;
  } = $props();
</script>

<div class="tick">
  <Checkbox labelText={label} checked={value} {disabled} on:check={(event) => onchange(event.detail)} />
</div>

<style>
  .tick :global(.bx--form-item),
  .tick :global(.bx--checkbox-wrapper) {
    margin: 0;
  }
</style>
