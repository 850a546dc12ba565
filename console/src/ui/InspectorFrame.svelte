<!-- The frame of an inspector: what is inspected, its actions, its parts as tabs. On a phone it takes the screen. It takes the focus when
     it opens and gives it back to whatever opened it. -->
<script lang="ts">
  import { Button, Tab, TabContent, Tabs } from "carbon-components-svelte";
  import Close from "carbon-icons-svelte/lib/Close.svelte";
  import type { Snippet } from "svelte";

  import { place, query } from "../lib/router.svelte";

  let {
    label,
    title,
    tabs,
    mark,
    about,
    acts,
    children,
  }: {
    /** What a screen reader calls it. */
    label: string;
    title: string;
    /** The parts: the word in the address, and what is on the tab. The first is shown when the address names none. */
    tabs: (readonly [string, string])[];
    mark?: Snippet;
    /** A line below the title. */
    about: Snippet;
    acts?: Snippet;
    children: Snippet;
  } = $props();

  let heading: HTMLElement | undefined = $state();

  const tab = $derived(place.query.get("tab") ?? tabs[0]?.[0]);
  const selected = $derived(
    Math.max(
      0,
      tabs.findIndex(([name]) => name === tab),
    ),
  );

  $effect(() => {
    const opener = document.activeElement;
    // Typing in a filter is not interrupted.
    if (!opener?.matches("input:not([type=checkbox]), textarea, select, [contenteditable]"))
      heading?.focus({ preventScroll: true });
    return () => {
      if (opener instanceof HTMLElement && opener.isConnected && document.activeElement === document.body)
        opener.focus({ preventScroll: true });
    };
  });

  function close() {
    query({ inspect: null, tab: null, with: null, without: null, line: null });
  }
</script>

<aside class="inspector" class:wide={selected > 0} aria-label={label} data-test="inspector">
  <header>
    <div class="title">
      {@render mark?.()}
      <div>
        <h2 tabindex="-1" bind:this={heading}>{title}</h2>
        <span class="soft">{@render about()}</span>
      </div>
      <Button
        kind="ghost"
        size="small"
        class="close"
        icon={Close}
        iconDescription="Close the inspector"
        tooltipPosition="left"
        on:click={close}
      />
    </div>
    {@render acts?.()}
    {#if tabs.length > 1}
      <Tabs
        autoWidth
        aria-label={`Parts of ${title}`}
        {selected}
        on:change={(event) => {
          const name = tabs[event.detail]?.[0];
          if (event.detail !== selected && name) query({ tab: event.detail === 0 ? null : name }, true);
        }}
      >
        {#each tabs as [name, words] (name)}<Tab label={words} />{/each}
        <svelte:fragment slot="content">
          {#each tabs as [name, words] (name)}<TabContent><span hidden>{words}</span></TabContent>{/each}
        </svelte:fragment>
      </Tabs>
    {/if}
  </header>
  {@render children()}
</aside>

<style>
  .inspector {
    container-type: inline-size;
    width: 27rem;
    flex: none;
    display: flex;
    flex-direction: column;
    min-height: 0;
    border-left: 1px solid var(--line);
    background: var(--panel);
  }
  .inspector.wide {
    width: min(46rem, 58vw);
  }
  header {
    padding: 0.9rem 1rem 0;
    border-bottom: 1px solid var(--line);
  }
  header :global(.bx--tab-content) {
    display: none;
  }
  .title {
    display: flex;
    gap: 0.6rem;
    align-items: flex-start;
  }
  .title > div {
    min-width: 0;
    flex: 1;
    font-size: 0.8125rem;
  }
  h2 {
    margin: 0;
    font-size: 1rem;
    font-weight: 600;
    overflow-wrap: anywhere;
  }
  h2:focus {
    outline: none;
  }
  @media (max-width: 66rem) {
    .inspector,
    .inspector.wide {
      position: fixed;
      inset: 3rem 0 0 auto;
      z-index: 100;
      width: min(100vw, 40rem);
      box-shadow: 0 2px 12px rgb(0 0 0 / 35%);
    }
  }
</style>
