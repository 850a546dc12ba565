<!-- A list of thousands of rows of which only those in view exist, with one behaviour everywhere: j/k, arrows, Home, End and PageUp/Down
     move, Enter opens, Space or x chooses; columns give way where there is no room, and on a phone a row is a card. What a column holds is
     in columns.ts; Carbon's table would draw every row. -->
<script lang="ts" generics="T extends { id: string; host: string }">
  import type { Snippet } from "svelte";

  import { pending } from "../../lib/session.svelte";
  import { CARDS_BELOW, hiddenColumns, shownColumns, type Column } from "./columns";
  import ListMenu from "./ListMenu.svelte";

  let {
    name,
    items,
    columns,
    cell,
    empty,
    test,
    sort,
    onsort,
    chosen,
    isAnyChosen = true,
    choosable,
    chooseWord = (row) => `Choose ${row.id}`,
    onchoose,
    onchooseall,
    current,
    dim,
    onopen,
  }: {
    /** What it lists: for screen readers, the file of an export, and where hidden columns are kept. */
    name: string;
    items: T[];
    columns: Column<T>[];
    /** Draws the cell of a column (its key, its text) where that is more than its text. */
    cell?: Snippet<[T, string, string]>;
    /** Shown when there is nothing to list. */
    empty?: Snippet;
    /** For tests: the data-test of a row. */
    test?: string;
    sort?: { key: string; down: boolean };
    onsort?: (key: string) => void;
    /** Whether a row is chosen; without it nothing can be. */
    chosen?: (row: T) => boolean;
    /** False tells that no row is chosen, so that none is asked. */
    isAnyChosen?: boolean;
    /** Which rows can be chosen; all when absent. */
    choosable?: (row: T) => boolean;
    chooseWord?: (row: T) => string;
    /** Chooses a row or leaves it out; `from` is the other end of a range. */
    onchoose?: (row: T, on: boolean, range: T[]) => void;
    onchooseall?: (on: boolean) => void;
    /** Whether a row is what the inspector shows. */
    current?: (row: T) => boolean;
    /** Whether a row is as it was last seen, or otherwise in the background. */
    dim?: (row: T) => boolean;
    onopen: (row: T) => void;
  } = $props();

  /** Rows beyond those in view, once somebody scrolls. */
  const SPARE = 6;
  const id = $props.id();

  let grid: HTMLElement | undefined = $state();
  let frame: HTMLElement | undefined = $state();
  let top = $state(0);
  let tall = $state(600);
  let wide = $state(1000);
  let cursor = $state(0);
  let last = -1;
  // A list keeps its name while it is shown.
  // svelte-ignore state_referenced_locally
  let hidden = $state.raw(hiddenColumns(name));

  const cards = $derived(wide < CARDS_BELOW);
  const height = $derived(cards ? 60 : 36);
  const shown = $derived(
    cards ? columns.filter((column) => column.card) : shownColumns(columns, hidden, wide),
  );
  const tracks = $derived(
    cards
      ? `${chosen ? "1.5rem " : ""}minmax(0, 1fr) auto`
      : `${chosen ? "1.25rem " : ""}${shown.map((column) => column.width).join(" ")} 2rem`,
  );
  const spare = $derived(top > 0 ? SPARE : 0);
  const begin = $derived(Math.max(0, Math.floor(top / height) - spare));
  const end = $derived(Math.min(items.length, Math.ceil((top + tall) / height) + spare));
  const drawn = $derived(items.slice(begin, end));
  let before: T[] = [];
  /** The rows that are drawn, and behind them those that were drawn before: they are hidden and wait, which is faster than to make them
   * again at the next key. */
  const slots = $derived.by(() => {
    before = [...drawn, ...before.slice(drawn.length)];
    return before;
  });

  /** What a cell has no room for is reported by its title, set when the pointer comes. */
  function entitle(event: PointerEvent) {
    const cell = (event.target as Element).closest<HTMLElement>(".cell");
    if (cell) cell.title = cell.scrollWidth > cell.clientWidth ? cell.innerText : "";
  }
  const can = (row: T) => choosable?.(row) ?? true;
  const picked = $derived(chosen && isAnyChosen ? items.filter((row) => chosen(row)).length : 0);
  const pickable = $derived(chosen && choosable ? items.filter(choosable).length : items.length);

  function show(index: number) {
    if (!frame) return;
    const y = index * height;
    if (y < frame.scrollTop) frame.scrollTop = y;
    else if (y + height > frame.scrollTop + tall) frame.scrollTop = y + height - tall;
  }

  function choose(index: number, range: boolean) {
    const row = items[index];
    if (!row || !chosen || !can(row)) return;
    const [from, to] = last < index ? [last, index] : [index, last];
    onchoose?.(row, !chosen(row), range && last >= 0 ? items.slice(from, to + 1).filter(can) : []);
    last = index;
  }

  function open(index: number) {
    const row = items[index];
    cursor = index;
    if (row) onopen(row);
  }

  function keys(event: KeyboardEvent) {
    const target = event.target as Element;
    if (event.defaultPrevented || pending.wish || event.ctrlKey || event.metaKey || event.altKey) return;
    if (target.matches("input:not([type=checkbox]), textarea, select, [contenteditable]")) return;
    if (target.closest("[role=dialog], [role=menu], [role=tablist], .xterm, header.bx--header")) return;
    const inside = grid?.contains(target) || target === document.body || target.id === "main";
    const pressed = event.key;
    const page = Math.max(1, Math.floor(tall / height) - 1);
    const to: Record<string, number> = {
      j: cursor + 1,
      k: cursor - 1,
      ...(inside
        ? {
            ArrowDown: cursor + 1,
            ArrowUp: cursor - 1,
            PageDown: cursor + page,
            PageUp: cursor - page,
            Home: 0,
            End: items.length - 1,
          }
        : {}),
    };
    const next = to[pressed];
    if (next !== undefined) {
      if (items.length === 0) return;
      cursor = Math.max(0, Math.min(items.length - 1, next));
      show(cursor);
      const row = items[cursor];
      if (row && current && items.some(current)) onopen(row);
      else if (inside) grid?.focus({ preventScroll: true });
    } else if (pressed === "Enter" && inside && !target.matches("button, a, input")) open(cursor);
    else if (pressed === "x" || (pressed === " " && target === grid)) choose(cursor, event.shiftKey);
    else return;
    event.preventDefault();
  }
</script>

<svelte:window onkeydown={keys} />

<h2 class="bx--visually-hidden">List of {name}</h2>
<!-- The grid is one stop for Tab; its rows are reached by the arrow keys. -->
<div
  class="list"
  class:cards
  role="grid"
  tabindex="0"
  aria-label={name}
  aria-rowcount={items.length + 1}
  aria-multiselectable={chosen ? "true" : undefined}
  aria-activedescendant={items.length > 0 ? `${id}-${cursor}` : undefined}
  bind:this={grid}
  bind:clientWidth={wide}
  style:--tracks={tracks}
>
  <div class="head" role="row" aria-rowindex={1}>
    {#if chosen}
      <span role="columnheader">
        <input
          type="checkbox"
          aria-label="Select all listed"
          checked={picked > 0}
          indeterminate={picked > 0 && picked < pickable}
          onchange={(event) => onchooseall?.(event.currentTarget.checked)}
        />
      </span>
    {/if}
    {#each cards ? [] : shown as column (column.key)}
      <span
        role="columnheader"
        aria-sort={sort?.key === column.key ? (sort.down ? "descending" : "ascending") : undefined}
      >
        {#if column.sorts}
          <button class="sort" onclick={() => onsort?.(column.key)}
            >{column.title}{sort?.key === column.key ? (sort.down ? " ↓" : " ↑") : ""}</button
          >
        {:else}{column.title}{/if}
      </span>
    {/each}
    {#if cards}<span role="columnheader" class="all">{name}</span>{/if}
    <span role="columnheader" class="menu"
      ><ListMenu {name} {items} {columns} {cards} {hidden} onhide={(next) => (hidden = next)} /></span
    >
  </div>
  <div
    class="window"
    role="rowgroup"
    bind:this={frame}
    bind:clientHeight={tall}
    onscroll={() => (top = frame?.scrollTop ?? 0)}
    onpointerover={entitle}
  >
    <div role="presentation" style:height={`${begin * height}px`}></div>
    <!-- Not by the rows' ids: a row that is drawn takes the next thing that it shows, which is faster than a new one. -->
    {#each slots as row, n (n)}
      {@const index = begin + n}
      {@const isDrawn = n < drawn.length}
      {@const isChosen = chosen?.(row) ?? false}
      <!-- Keys are the grid's: see above. -->
      <div
        id={`${id}-${index}`}
        class="row"
        class:chosen={isChosen}
        class:current={current?.(row)}
        class:cursor={cursor === index}
        class:dim={dim?.(row)}
        role="row"
        tabindex="-1"
        aria-rowindex={index + 2}
        aria-selected={chosen ? isChosen : undefined}
        class:waits={!isDrawn}
        aria-hidden={!isDrawn || undefined}
        data-test={isDrawn ? test : undefined}
        onclick={(event) => {
          if (!(event.target as Element).closest("input, a, button")) open(index);
        }}
      >
        {#if chosen}
          <span role="gridcell" class="pick">
            <input
              type="checkbox"
              tabindex="-1"
              checked={isChosen}
              disabled={!can(row)}
              aria-label={chooseWord(row)}
              onclick={(event) => choose(index, event.shiftKey)}
            />
          </span>
        {/if}
        {#each shown as column (column.key)}
          {@const text = column.text(row)}
          <span
            role="gridcell"
            class={["cell", cards && column.card]}
            class:mono={column.mono}
            class:soft={column.soft}
          >
            {#if cell}{@render cell(row, column.key, text)}{:else}{text}{/if}
          </span>
        {/each}
        {#if !cards}<span role="gridcell"></span>{/if}
      </div>
    {/each}
    {#if items.length === 0}{@render empty?.()}{/if}
    <div role="presentation" style:height={`${(items.length - end) * height}px`}></div>
  </div>
</div>

<style>
  .list {
    flex: 1;
    min-width: 0;
    min-height: 0;
    display: flex;
    flex-direction: column;
    font-size: 0.8125rem;
  }
  .list:focus-visible {
    outline: 2px solid var(--cds-focus);
    outline-offset: -2px;
  }
  .head,
  .row {
    display: grid;
    grid-template-columns: var(--tracks);
    column-gap: 0.75rem;
    align-items: center;
    padding: 0 1rem;
    border-bottom: 1px solid var(--line);
  }
  .head {
    flex: none;
    min-height: 2.1rem;
    font-weight: 600;
  }
  .cards .all {
    text-transform: capitalize;
  }
  .menu {
    justify-self: end;
  }
  .sort {
    padding: 0;
    border: 0;
    background: none;
    color: inherit;
    font: inherit;
    cursor: pointer;
    text-align: left;
  }
  .window {
    flex: 1;
    min-height: 0;
    overflow-y: auto;
    overflow-anchor: none;
  }
  .row {
    height: 36px;
    cursor: pointer;
    contain: strict;
  }
  /* Its drawing is kept by the browser, so that it is there again at once. */
  .row.waits {
    content-visibility: hidden;
    height: 0;
    border: 0;
  }
  .row:hover {
    background: var(--cds-hover-ui);
  }
  .row.chosen {
    background: var(--cds-selected-ui);
  }
  .row.dim,
  .row.dim :global(*) {
    color: var(--cds-text-02);
  }
  .row.cursor {
    box-shadow: inset 3px 0 0 var(--cds-ui-04);
  }
  .row.current {
    box-shadow: inset 3px 0 0 #e0b84c;
    background: var(--cds-selected-ui);
  }
  .cell {
    overflow: hidden;
    text-overflow: ellipsis;
    white-space: nowrap;
  }
  .cards .row {
    height: 60px;
    grid-template-rows: 1fr 1fr;
    grid-template-areas: "title side" "below below";
  }
  .cards .row:has(.pick) {
    grid-template-areas: "pick title side" "pick below below";
  }
  .cards .pick {
    grid-area: pick;
  }
  .cards .title {
    grid-area: title;
    align-self: end;
    font-size: 0.875rem;
    font-weight: 600;
  }
  .cards .side {
    grid-area: side;
    align-self: end;
  }
  .cards .below {
    grid-area: below;
    align-self: start;
    color: var(--cds-text-02);
  }
  input {
    width: 1rem;
    height: 1rem;
    accent-color: var(--cds-interactive-01);
  }
  .cards .pick input,
  .cards .head input {
    width: 1.4rem;
    height: 1.4rem;
  }
</style>
