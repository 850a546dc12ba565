<!-- A list of thousands of rows of one height, of which only those in view exist. -->
<script lang="ts" generics="T extends { id: string; host: string }">
  import type { Snippet } from "svelte";

  let { items, height, row }: { items: T[]; height: number; row: Snippet<[T, number]> } = $props();

  const SPARE = 8;

  let frame: HTMLDivElement | undefined = $state();
  let top = $state(0);
  let tall = $state(600);

  const first = $derived(Math.max(0, Math.floor(top / height) - SPARE));
  const last = $derived(Math.min(items.length, Math.ceil((top + tall) / height) + SPARE));
  const shown = $derived(items.slice(first, last));

  /** Scrolls so that a row can be seen. */
  export function show(index: number) {
    if (!frame) return;
    const y = index * height;
    if (y < frame.scrollTop) frame.scrollTop = y;
    else if (y + height > frame.scrollTop + tall) frame.scrollTop = y + height - tall;
  }

  /** Heights are set here and not in the markup, which the content policy forbids. */
  function tallAs(node: HTMLElement, pixels: number) {
    node.style.height = `${pixels}px`;
    return { update: (next: number) => (node.style.height = `${next}px`) };
  }
</script>

<div
  class="window"
  bind:this={frame}
  bind:clientHeight={tall}
  onscroll={() => (top = frame?.scrollTop ?? 0)}
  role="rowgroup"
>
  <div use:tallAs={first * height}></div>
  {#each shown as item, index (`${item.host}/${item.id}`)}
    {@render row(item, first + index)}
  {/each}
  <div use:tallAs={(items.length - last) * height}></div>
</div>

<style>
  .window {
    flex: 1;
    min-height: 0;
    overflow-y: auto;
    overflow-anchor: none;
  }
</style>
