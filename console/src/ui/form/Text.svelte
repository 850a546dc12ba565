<!-- A field for text that may be absent. -->
<script lang="ts">
  let {
    value,
    onchange,
    placeholder = "",
    name,
    id,
    wide = true,
  }: {
    value: string | undefined;
    onchange: (value: string | undefined) => void;
    placeholder?: string;
    /** What it is called for those who do not see it. */
    name: string;
    id?: string;
    wide?: boolean;
  } = $props();
</script>

<input
  class:wide
  type="text"
  {id}
  aria-label={name}
  {placeholder}
  autocomplete="off"
  spellcheck="false"
  value={value ?? ""}
  oninput={(e) => onchange(e.currentTarget.value === "" ? undefined : e.currentTarget.value)}
/>

<style>
  .wide {
    width: 100%;
  }
</style>
