<!-- One facet: its values with how many there are; any of them may be chosen together. -->
<script lang="ts">
  import { number } from "../lib/format";

  let {
    title,
    values,
    chosen,
    ontoggle,
  }: {
    title: string;
    values: [string, number][];
    chosen: Set<string>;
    ontoggle: (value: string) => void;
  } = $props();

  const FEW = 10;
  let whole = $state(false);
  const shown = $derived(whole ? values : values.filter(([v], i) => i < FEW || chosen.has(v)));
</script>

<fieldset>
  <legend>{title}</legend>
  {#each shown as [value, count], n (n)}
    <button class:on={chosen.has(value)} aria-pressed={chosen.has(value)} onclick={() => ontoggle(value)}>
      <span>{value}</span><small>{number(count)}</small>
    </button>
  {/each}
  {#if values.length > FEW}
    <button class="more" onclick={() => (whole = !whole)}>{whole ? "fewer" : `all ${values.length}`}</button>
  {/if}
</fieldset>

<style>
  fieldset {
    border: 0;
    margin-bottom: 1.1rem;
  }
  legend {
    font-size: 0.75rem;
    font-weight: 600;
    color: var(--cds-text-02);
    padding-bottom: 0.25rem;
  }
  button {
    display: flex;
    width: 100%;
    justify-content: space-between;
    gap: 0.5rem;
    padding: 0.2rem 0.4rem;
    border: 0;
    border-left: 3px solid transparent;
    background: none;
    color: var(--cds-text-01);
    font: inherit;
    font-size: 0.8125rem;
    text-align: left;
    cursor: pointer;
  }
  button:hover {
    background: var(--cds-hover-ui);
  }
  button.on {
    border-left-color: #e0b84c;
    background: var(--cds-selected-ui);
    font-weight: 600;
  }
  span {
    overflow: hidden;
    text-overflow: ellipsis;
    white-space: nowrap;
  }
  small {
    color: var(--cds-text-02);
  }
  .more {
    color: var(--cds-link-01);
  }
</style>
