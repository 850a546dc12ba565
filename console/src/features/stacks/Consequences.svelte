<!-- The preview of a stack's change: counts, then each part that changes; unchanged parts are folded. -->
<script lang="ts">
  import type { TargetPlan } from "../../lib/types";
  import PlanView from "../operations/PlanView.svelte";
  import { outcome, tallyOf } from "./words";

  let { plans }: { plans: TargetPlan[] } = $props();

  /** Refused only because another part is: that one is what has to be looked at. */
  const isAlong = (p: TargetPlan) => p.dependent ?? false;
  const along = $derived(plans.filter(isAlong));
  /** What stays as it is and is warned of all the same, such as data that is not copied, is not folded. */
  const stays = (p: TargetPlan) => outcome(p) === "unchanged" && !p.findings?.length;
  const changing = $derived(plans.filter((p) => !stays(p) && !isAlong(p)));
  const refused = $derived(changing.filter((p) => p.refused));
  const staying = $derived(plans.filter(stays));
  /** The same thing may be a part twice, as a volume that is copied a second time. */
  const key = (p: TargetPlan) => `${plans.indexOf(p)} ${p.host}/${p.object}/${p.id}/${p.name}`;
</script>

<p class="tally" data-test="tally">
  {#if along.length > 0 || refused.length > 0}
    Nothing can be done: {refused.length === 1 ? "one part is" : `${refused.length} parts are`} refused.
  {:else}
    {plans.every((p) => outcome(p) === "unchanged") ? "No changes." : tallyOf(plans)}
  {/if}
</p>
{#each [...refused, ...changing.filter((p) => !p.refused)] as plan (key(plan))}
  <div class="part">
    <span class="word {outcome(plan).split(' ')[0]}">{outcome(plan)}</span>
    <span class="soft kind">{plan.object}</span>
    <PlanView {plan} steps={false} />
  </div>
{/each}
{#if along.length > 0}
  <p class="soft along">
    {along.length === 1 ? "1 other part is" : `${along.length} other parts are`} not touched: {along
      .map((p) => p.name)
      .join(", ")}.
  </p>
{/if}
{#if staying.length > 0}
  <details>
    <summary>{staying.length} unchanged</summary>
    {#each staying as plan (key(plan))}
      <p class="soft">{plan.object} {plan.name}: {plan.unchanged}</p>
    {/each}
  </details>
{/if}

<style>
  .tally {
    font-weight: 600;
    margin-bottom: 0.5rem;
  }
  .part {
    border-top: 1px solid var(--line);
    padding-top: 0.5rem;
  }
  .part :global(.plan) {
    border-bottom: 0;
    padding-top: 0.1rem;
  }
  .word {
    font-size: 0.75rem;
    font-weight: 600;
    padding: 0.05rem 0.4rem;
    border: 1px solid currentColor;
  }
  .word.removed,
  .word.refused {
    color: var(--state-failed);
  }
  .word.recreated,
  .word.restarted {
    color: var(--state-sick);
  }
  .word.stopped,
  .word.paused {
    color: var(--state-sick);
  }
  .word.created,
  .word.copied,
  .word.started,
  .word.pulled {
    color: var(--state-well);
  }
  .kind {
    font-size: 0.75rem;
    margin-left: 0.3rem;
  }
  .along {
    border-top: 1px solid var(--line);
    padding-top: 0.5rem;
  }
  details {
    border-top: 1px solid var(--line);
    padding: 0.5rem 0;
    font-size: 0.8125rem;
  }
  summary {
    cursor: pointer;
  }
</style>
