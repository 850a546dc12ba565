<!-- What would happen to one target: the steps in order, what comes, stays and goes, what is at risk. -->
<script lang="ts">
  import Rows from "../../ui/Rows.svelte";
  import { bytes } from "../../lib/format";
  import type { TargetPlan } from "../../lib/types";
  import QuotedSentence from "../exec/QuotedSentence.svelte";

  let { plan, steps = true }: { plan: TargetPlan; steps?: boolean } = $props();

  const lists = $derived(
    [
      { word: "Creates", items: plan.creates },
      { word: "Recreates", items: plan.recreates },
      { word: "Keeps", items: plan.keeps },
      { word: "Removes", items: plan.removes },
    ].filter((l) => l.items?.length),
  );
  const bare = (text: string | undefined) => (text ?? "").replace(/^`|`$/g, "");
  const warnings = $derived((plan.findings ?? []).filter((f) => f.weight === "warning"));
  const errors = $derived((plan.findings ?? []).filter((f) => f.weight === "error"));
</script>

<div class="plan" class:refused={plan.refused}>
  <strong>{plan.host}/{plan.name}</strong>
  {#if plan.refused && errors.length > 0}
    <span class="no">Fix first:</span>
    {#each errors as f (f.field + f.sentence)}<span class="no">· <QuotedSentence text={f.sentence} /></span
      >{/each}
  {:else if plan.refused}
    <span class="no">Refused: <QuotedSentence text={plan.refused} /></span>
  {:else if plan.unchanged}
    <span data-test="unchanged">{plan.unchanged}</span>
  {:else if plan.consequence}
    <span><QuotedSentence text={plan.consequence} /></span>
  {/if}
  {#if plan.data_at_risk?.length}
    <p class="risk" data-test="risk">Data at risk: {plan.data_at_risk.join("; ")}.</p>
  {/if}
  {#each warnings as f (f.field + f.sentence)}<p class="warn"><QuotedSentence text={f.sentence} /></p>{/each}
  {#if plan.differences?.length}
    <Rows class="differences">
      <tbody>
        {#each plan.differences as d (`${d.setting} ${d.from} ${d.to}`)}
          <tr>
            <td>{d.setting}</td>
            {#if d.from === undefined}
              <td></td>
              <td><ins>+ {bare(d.to)}</ins></td>
            {:else if d.to === undefined}
              <td><del>− {bare(d.from)}</del></td>
              <td>removed</td>
            {:else}
              <td><del>{bare(d.from)}</del></td>
              <td><ins>{bare(d.to)}</ins></td>
            {/if}
          </tr>
        {/each}
      </tbody>
    </Rows>
  {/if}
  {#if steps && (plan.steps_in_words?.length ?? 0) > 1}
    <ol>
      {#each plan.steps_in_words ?? [] as step, n (n)}<li>{step}</li>{/each}
    </ol>
  {/if}
  {#each plan.refused ? [] : lists as l (l.word)}<span><b>{l.word}:</b> {l.items?.join(", ")}</span>{/each}
  {#if plan.downtime && !plan.refused}<span><b>Downtime:</b> {plan.downtime}</span>{/if}
  {#if plan.bytes}<span><b>Frees:</b> {bytes(plan.bytes)}</span>{/if}
</div>

<style>
  .plan {
    padding: 0.45rem 0;
    border-bottom: 1px solid var(--line);
    font-size: 0.875rem;
    overflow-wrap: anywhere;
  }
  span {
    display: block;
    color: var(--cds-text-02);
  }
  .no {
    color: var(--state-failed);
  }
  .risk,
  .warn {
    margin: 0.35rem 0;
    padding: 0.35rem 0.6rem;
    border-left: 3px solid var(--state-failed);
    background: var(--cds-ui-01);
    font-size: inherit;
  }
  .warn {
    border-left-color: var(--state-halted);
  }
  ol {
    margin: 0.35rem 0 0.35rem 1.4rem;
    list-style: decimal;
    color: var(--cds-text-02);
  }
  del {
    color: var(--cds-text-02);
  }
  ins {
    text-decoration: none;
    color: var(--cds-text-01);
    font-weight: 600;
  }
</style>
