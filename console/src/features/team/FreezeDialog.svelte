<!-- The dialog in which a member freezes changes: what, how long, why. -->
<script lang="ts">
  import { InlineNotification, Modal, NumberInput, TextArea } from "carbon-components-svelte";
  import { ApiError, call, sentence } from "../../lib/api";
  import { moment } from "../../lib/format";
  import { live } from "../../lib/live.svelte";
  import ScopePick from "../members/ScopePick.svelte";
  import { freezes } from "./freezes.svelte";

  let scope = $state("fleet");
  let reason = $state("");
  let hours = $state<number | null>(4);
  let wrong = $state<{ field?: string; text: string } | null>(null);
  let busy = $state(false);

  async function freeze() {
    [busy, wrong] = [true, null];
    try {
      await call("POST", "/api/v1/freezes", { scope, reason, hours: hours ?? 0 });
      freezes.isAsking = false;
    } catch (error) {
      wrong = { field: error instanceof ApiError ? error.problem.field : undefined, text: sentence(error) };
    } finally {
      busy = false;
    }
  }
</script>

<Modal
  open
  size="sm"
  modalHeading="Freeze changes"
  primaryButtonText="Freeze"
  primaryButtonDisabled={busy || !reason.trim()}
  secondaryButtonText="Cancel"
  selectorPrimaryFocus="#freeze-kind"
  on:click:button--secondary={() => (freezes.isAsking = false)}
  on:close={() => (freezes.isAsking = false)}
  on:submit={() => void freeze()}
>
  <p>
    Only you can change what is frozen: no other member, token, job or Git source. It ends {moment(
      new Date(live.now + (hours ?? 0) * 3_600_000).toISOString(),
    )}, or when it is lifted.
  </p>
  <div class="fields">
    <ScopePick id="freeze" {scope} onchange={(changed) => (scope = changed)} />
    <NumberInput
      id="freeze-hours"
      size="sm"
      labelText="Hours"
      min={1}
      max={2160}
      bind:value={hours}
      invalid={wrong?.field === "/hours"}
      invalidText={wrong?.text ?? ""}
    />
  </div>
  <TextArea
    id="freeze-reason"
    labelText="Reason (shown to others)"
    rows={2}
    bind:value={reason}
    invalid={wrong?.field === "/reason"}
    invalidText={wrong?.text ?? ""}
  />
  {#if wrong && wrong.field !== "/reason" && wrong.field !== "/hours"}
    <InlineNotification kind="error" lowContrast hideCloseButton title={wrong.text} />
  {/if}
</Modal>

<style>
  .fields {
    display: grid;
    grid-template-columns: repeat(auto-fit, minmax(9rem, 1fr));
    gap: 0.75rem;
    align-items: end;
    margin: 0.75rem 0;
  }
</style>
