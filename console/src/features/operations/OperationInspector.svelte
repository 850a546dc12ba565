<!-- An operation in the inspector, beside the page from which one came. -->
<script lang="ts">
  import { call, sentence } from "../../lib/api";
  import { verbs } from "../../lib/format";
  import { live } from "../../lib/live.svelte";
  import type { Operation } from "../../lib/types";
  import InspectorFrame from "../../ui/InspectorFrame.svelte";
  import { inspect } from "../fleet/inspect";
  import OperationView from "./OperationView.svelte";
  import { outcome } from "./words";

  let { id }: { id: number } = $props();

  let fetched = $state.raw<Operation | null>(null);
  let wrong = $state("");
  const one = $derived(live.operations.find((o) => o.id === id) ?? fetched);

  $effect(() => {
    const asked = id;
    if (live.operations.some((o) => o.id === asked)) return;
    call<Operation>("GET", `/api/v1/operations/${asked}`)
      .then((found) => {
        if (asked === id) fetched = found;
      })
      .catch((error: unknown) => (wrong = sentence(error)));
  });
</script>

<InspectorFrame
  label={`Inspector of operation ${id}`}
  title={one ? `${verbs[one.kind].ask} ${one.references[0] ?? ""}` : `Operation ${id}`}
  tabs={[["facts", "Outcome"]]}
>
  {#snippet about()}operation {id}{one ? `, ${outcome(one)}` : ""}{/snippet}
  <div class="facts">
    {#if wrong}<p class="soft">{wrong}</p>{/if}
    {#if one}
      <OperationView
        operation={one}
        titled={false}
        onretried={(again) => inspect("operation", String(again.id))}
      />
      <p><a href={`/operations/${id}`}>Full page</a></p>
    {/if}
  </div>
</InspectorFrame>
