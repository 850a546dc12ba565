<!-- The menu of a list: which columns are shown, and the listed rows as text or as a file. -->
<script lang="ts" generics="T">
  import { copyText } from "carbon-components-svelte/src/utils/copyText.js";
  import { OverflowMenu, OverflowMenuItem } from "carbon-components-svelte";

  import { csvOf, keepHiddenColumns, textOf, type Column } from "./columns";

  let {
    name,
    items,
    columns,
    cards,
    hidden,
    onhide,
  }: {
    name: string;
    items: T[];
    columns: Column<T>[];
    /** A card has no columns to choose from. */
    cards: boolean;
    hidden: Set<string>;
    onhide: (hidden: Set<string>) => void;
  } = $props();

  let copied = $state("");

  function toggle(key: string) {
    const next = new Set(hidden);
    if (!next.delete(key)) next.add(key);
    keepHiddenColumns(name, next);
    onhide(next);
  }

  async function copy() {
    try {
      await copyText(textOf(columns, items));
      copied = `${items.length} rows copied`;
    } catch {
      copied = "The browser does not let it be copied. Download the CSV file instead.";
    }
    setTimeout(() => (copied = ""), 4000);
  }

  function save() {
    const url = URL.createObjectURL(new Blob([csvOf(columns, items)], { type: "text/csv" }));
    const link = document.createElement("a");
    link.href = url;
    link.download = `${name.toLowerCase().replaceAll(" ", "-")}.csv`;
    link.click();
    URL.revokeObjectURL(url);
  }
</script>

<OverflowMenu flipped size="sm" iconDescription="Columns and export" data-test="list-menu">
  {#if !cards}
    {#each columns.slice(1) as column (column.key)}
      <OverflowMenuItem
        text={`${hidden.has(column.key) ? "Show" : "Hide"} ${column.title.toLowerCase()}`}
        on:click={() => toggle(column.key)}
      />
    {/each}
  {/if}
  <OverflowMenuItem text="Copy as text" hasDivider={!cards} on:click={() => void copy()} />
  <OverflowMenuItem text="Download CSV" on:click={save} />
</OverflowMenu>
<span class="bx--visually-hidden" role="status">{copied}</span>
