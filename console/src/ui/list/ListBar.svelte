<!-- Above a list: its name, a filter that is in the address, views of it with their counts, and what can be done. -->
<script lang="ts">
  import { ContentSwitcher, Search, Switch } from "carbon-components-svelte";
  import type { Snippet } from "svelte";

  import { number } from "../../lib/format";
  import { place, query, typedQuery } from "../../lib/router.svelte";

  let {
    title,
    placeholder,
    label,
    views = [],
    view = "",
    parameter = "show",
    children,
  }: {
    title: string;
    placeholder: string;
    /** What a screen reader calls the filter. */
    label: string;
    /** Parts of the list: the word in the address, the name, how many. */
    views?: [string, string, number][];
    view?: string;
    /** Where the view is in the address. */
    parameter?: string;
    children?: Snippet;
  } = $props();

  // The address leads: a link, or going back, changes the box too.
  const typed = $derived(place.query.get("find") ?? "");
  const selected = $derived(
    Math.max(
      0,
      views.findIndex(([word]) => word === view),
    ),
  );
</script>

<div class="list-bar">
  <h1>{title}</h1>
  <div class="find-in">
    <Search
      id="filter"
      size="sm"
      {placeholder}
      labelText={label}
      value={typed}
      on:input={(event) => typedQuery({ find: (event.target as HTMLInputElement).value })}
      on:clear={() => query({ find: null }, true)}
    />
  </div>
  {#if views.length > 0}
    <div class="views">
      <ContentSwitcher
        size="sm"
        selectedIndex={selected}
        on:change={(event) => {
          const word = views[event.detail]?.[0];
          if (event.detail !== selected && word !== undefined) query({ [parameter]: word || null }, true);
        }}
      >
        {#each views as [word, name, count] (word)}<Switch text={`${name} ${number(count)}`} />{/each}
      </ContentSwitcher>
    </div>
  {/if}
  {@render children?.()}
</div>

<style>
  .views :global(.bx--content-switcher-btn) {
    width: auto;
    min-width: max-content;
    padding: 0 0.8rem;
  }
  .list-bar {
    display: flex;
    flex-wrap: wrap;
    gap: 0.5rem 0.75rem;
    align-items: center;
    padding: 0.6rem 1rem;
    border-bottom: 1px solid var(--line);
    font-size: 0.8125rem;
  }
  h1 {
    margin: 0 0.5rem 0 0;
  }
  .find-in {
    flex: 0 1 20rem;
    min-width: min(14rem, 100%);
  }
  .views {
    flex: none;
    max-width: 100%;
  }
</style>
