<!-- The drift of a stack from its newest revision, by setting, and both ways to end it: apply the revision again, or save what runs as a new one. -->
<script lang="ts">
  import { Button, InlineNotification } from "carbon-components-svelte";
  import { call, sentence } from "../../lib/api";
  import { age } from "../../lib/format";
  import { live } from "../../lib/live.svelte";
  import { pending } from "../../lib/session.svelte";
  import type { Drift, DriftRow, OperationWish } from "../../lib/types";
  import Consequences from "./Consequences.svelte";

  let {
    host,
    stack,
    row,
    onadopt,
  }: { host: string; stack: string; row: DriftRow; onadopt: () => Promise<void> } = $props();

  let open = $state(false);
  let drift = $state.raw<Drift | null>(null);
  let wrong = $state("");
  let busy = $state(false);

  $effect(() => {
    if (!open) return;
    void row;
    call<Drift>("GET", `/api/v1/stacks/${encodeURIComponent(host)}/${encodeURIComponent(stack)}/drift`)
      .then((found) => ([drift, wrong] = [found, ""]))
      .catch((error: unknown) => (wrong = sentence(error)));
  });

  const what = $derived(
    row.differs.length > 3
      ? `${row.differs.slice(0, 3).join(", ")} and ${row.differs.length - 3} more`
      : row.differs.join(", "),
  );

  function back() {
    const request = { kind: "apply", targets: [host], stack, revision: row.revision } as OperationWish;
    pending.wish = {
      kind: "apply",
      containers: [],
      request,
      title: `Roll ${stack} back to revision ${row.revision}`,
    };
  }

  async function take() {
    busy = true;
    await onadopt();
    busy = false;
  }
</script>

{#if row.unknown}
  <InlineNotification
    kind="warning-alt"
    lowContrast
    hideCloseButton
    title="Drift is unknown now."
    subtitle={row.unknown}
  />
{:else}
  <div data-test="drift">
    <InlineNotification
      kind="warning"
      lowContrast
      hideCloseButton
      title={`Drift from revision ${row.revision}: ${what}.`}
      subtitle={row.since ? `Since ${age(row.since, live.now)}.` : ""}
    />
    <div class="acts">
      <Button size="small" kind="tertiary" on:click={() => (open = !open)}
        >{open ? "Hide differences" : "Differences"}</Button
      >
      <Button size="small" kind="tertiary" on:click={back}>Apply again…</Button>
      <Button size="small" kind="tertiary" disabled={busy} on:click={() => void take()}
        >Save as new revision</Button
      >
    </div>
    {#if open}
      {#if wrong}<p class="wrong">{wrong}</p>{/if}
      {#if drift}
        <p class="soft">Applying it again would:</p>
        <Consequences plans={drift.targets} />
      {/if}
    {/if}
  </div>
{/if}

<style>
  .acts {
    display: flex;
    flex-wrap: wrap;
    gap: 0.4rem;
    margin-bottom: 0.6rem;
  }
  .wrong {
    color: var(--state-failed);
  }
</style>
