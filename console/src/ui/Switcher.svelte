<!-- One of a few views: Carbon's content switcher over pairs of a value and its label. -->
<script lang="ts" generics="T extends string | number | boolean">
  import { ContentSwitcher, Switch } from "carbon-components-svelte";

  let {
    value,
    options,
    onchange,
    name,
  }: {
    value: T;
    options: readonly (readonly [T, string])[];
    onchange: (value: T) => void;
    /** What is chosen, for those who do not see it. */
    name: string;
  } = $props();

  const selected = $derived(
    Math.max(
      0,
      options.findIndex(([v]) => v === value),
    ),
  );
</script>

<div class="choice">
  <ContentSwitcher
    size="sm"
    aria-label={name}
    selectedIndex={selected}
    on:change={(event) => {
      const next = options[event.detail];
      if (next && event.detail !== selected) onchange(next[0]);
    }}
  >
    {#each options as [v, label] (v)}<Switch text={label} />{/each}
  </ContentSwitcher>
</div>

<style>
  .choice {
    flex: none;
    max-width: 100%;
    overflow-x: auto;
  }
  .choice :global(.bx--content-switcher) {
    width: auto;
    justify-content: flex-start;
  }
  .choice :global(.bx--content-switcher-btn) {
    width: auto;
    padding: 0 0.8rem;
    min-width: max-content;
  }
</style>
