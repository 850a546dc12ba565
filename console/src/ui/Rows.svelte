<!-- A small table: Carbon's. On a phone each row becomes a block of lines (styles.css). Long lists are RowList's. -->
<script lang="ts">
  import { Table } from "carbon-components-svelte";
  import type { Snippet } from "svelte";

  let {
    children,
    class: more = "",
    ...rest
  }: {
    children: Snippet;
    class?: string;
    "aria-label"?: string;
    "data-test"?: string;
  } = $props();
</script>

<Table size="compact" class="rows {more}" {...rest}>{@render children()}</Table>
