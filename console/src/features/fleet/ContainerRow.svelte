<!-- One container in the list. -->
<script lang="ts">
  import { age, imageParts, portWords, stateWords } from "../../lib/format";
  import type { Container } from "../../lib/types";
  import Mark from "../../ui/Mark.svelte";

  let {
    container,
    slim,
    stale,
    now,
    chosen,
    current,
    cursor,
    onchoose,
    onopen,
  }: {
    container: Container;
    slim: boolean;
    /** Its host is out of reach. */
    stale: boolean;
    now: number;
    chosen: boolean;
    current: boolean;
    cursor: boolean;
    onchoose: (range: boolean) => void;
    onopen: () => void;
  } = $props();

  const image = $derived(imageParts(container.image));
  const ports = $derived(portWords(container.ports).join(" "));
</script>

<div
  class="grid row"
  class:slim
  class:stale
  class:chosen
  class:current
  class:cursor
  role="row"
  tabindex="-1"
  aria-selected={chosen}
  data-test="row"
  onclick={(event) => {
    if (!(event.target as Element).closest("input, a")) onopen();
  }}
  onkeydown={(event) => event.key === "Enter" && onopen()}
>
  <input
    type="checkbox"
    checked={chosen}
    aria-label={`Choose ${container.name}`}
    onclick={(event) => onchoose(event.shiftKey)}
  />
  <span class="state"><Mark {container} /> {stateWords(container)}</span>
  <button class="name link" title={container.name}>{container.name}</button>
  <span title={stale ? `${container.host} is out of reach; this is as it was last seen` : container.host}
    >{stale ? "⌁ " : ""}{container.host}</span
  >
  {#if !slim}
    <span
      class="mono"
      title={container.newer_image ? `${container.image}: its registry has a newer one` : container.image}
      >{container.newer_image ? "↥ " : ""}{image.rest}</span
    >
    <span>{container.stack ?? ""}</span>
    <span class="mono" title={ports}>{ports}</span>
    <span class="soft">{age(container.created, now)}</span>
  {/if}
</div>

<style>
  .row {
    height: 36px;
    border-bottom: 1px solid var(--line);
    font-size: 0.875rem;
    cursor: pointer;
  }
  .row.stale {
    opacity: 0.6;
  }
  .row:hover {
    background: var(--cds-hover-ui);
  }
  .row.chosen {
    background: var(--cds-selected-ui);
  }
  .row.cursor {
    box-shadow: inset 3px 0 0 var(--cds-ui-04);
  }
  .row.current {
    box-shadow: inset 3px 0 0 #e0b84c;
    background: var(--cds-selected-ui);
  }
  .row > span,
  .row > button {
    overflow: hidden;
    text-overflow: ellipsis;
    white-space: nowrap;
  }
  .name {
    color: var(--cds-text-01);
    font-weight: 600;
  }
  .mono {
    font-size: 0.8125rem;
  }
</style>
