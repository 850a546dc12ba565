<!-- One of several: Carbon's select over pairs of a value and its label. -->
<script lang="ts">
  import { Select, SelectItem } from "carbon-components-svelte";

  let {
    value,
    options,
    onchange,
    name,
    id,
    label = "",
    disabled = false,
  }: {
    value: string | undefined;
    options: readonly (readonly [string, string])[];
    onchange: (value: string) => void;
    /** What it is called for those who do not see it. */
    name: string;
    id?: string;
    /** Shown above it; without one only `name` is read out. */
    label?: string;
    disabled?: boolean;
  } = $props();
</script>

<div class="pick">
  <Select
    size="sm"
    {id}
    {disabled}
    labelText={label || name}
    hideLabel={!label}
    selected={value ?? options[0]?.[0] ?? ""}
    on:update={(event) => {
      const next = String(event.detail);
      if (next !== value) onchange(next);
    }}
  >
    {#each options as [v, text] (v)}<SelectItem value={v} {text} />{/each}
  </Select>
</div>

<style>
  .pick {
    min-width: 0;
    width: var(--pick-width, 100%);
  }
</style>
