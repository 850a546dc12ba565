<!-- One setting of a form: label and unit, the field, one sentence of help, and its errors. -->
<script lang="ts">
  import { Toggletip } from "carbon-components-svelte";
  import type { Snippet } from "svelte";
  import type { Finding } from "../../lib/types";
  import InlineAction from "../InlineAction.svelte";
  import QuotedSentence from "../../features/exec/QuotedSentence.svelte";

  let {
    label,
    help = "",
    more,
    findings = [],
    field,
    ontake,
    children,
  }: {
    label: string;
    help?: string;
    /** What is worth knowing beyond that, shown on demand. */
    more?: string;
    findings?: Finding[];
    /** The setting's path, by which its errors are led here. */
    field?: string;
    /** Called with a proposal that is taken. */
    ontake?: (proposal: string) => void;
    children: Snippet;
  } = $props();

  const bad = $derived(findings.some((f) => f.weight === "error"));
</script>

<div class="entry" class:bad data-test="entry" data-label={label} data-field={field}>
  <span class="label">
    {label}
    {#if more}
      <Toggletip align="start" iconDescription={`More about ${label.toLowerCase()}`}><p>{more}</p></Toggletip>
    {/if}
  </span>
  <div class="field">{@render children()}</div>
  {#each findings as f (f.field + f.sentence)}
    <p class={f.weight} role="alert" data-test="finding">
      <QuotedSentence text={f.sentence} />
      {#if f.proposal && ontake}
        <InlineAction onclick={() => f.proposal && ontake?.(f.proposal)}>Use {f.proposal}</InlineAction>
      {/if}
    </p>
  {:else}
    {#if help}<p class="help">{help}</p>{/if}
  {/each}
</div>

<style>
  .entry {
    margin-bottom: 0.8rem;
    font-size: 0.8125rem;
  }
  .label {
    display: block;
    margin-bottom: 0.2rem;
    font-weight: 600;
  }
  .label :global(.bx--toggletip-label),
  .label :global(p) {
    font-weight: 400;
  }
  .help {
    margin: 0.15rem 0 0;
    color: var(--cds-text-02);
    font-size: 0.75rem;
  }
  .error,
  .warning {
    margin: 0.15rem 0 0;
    font-size: 0.75rem;
    color: var(--state-failed);
  }
  .warning {
    color: var(--state-halted);
  }
  .bad .field :global(input),
  .bad .field :global(select),
  .bad .field :global(textarea) {
    box-shadow: inset 0 -2px 0 var(--state-failed);
  }
</style>
